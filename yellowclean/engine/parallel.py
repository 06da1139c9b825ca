"""Row bands over threads for kernels that release the interpreter lock.

Own threads instead of Numba's parallel loops: they may be entered from several threads at once
(a preview and a scope), and a band never changes a result, so one thread and many agree exactly.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Generator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from functools import cache
from typing import TypeVar

import cv2

T = TypeVar("T")
U = TypeVar("U")


def thread_count() -> int:
    """Threads a kernel may use: `YELLOW_CLEAN_THREADS`, else one for each core."""
    return max(int(os.environ.get("YELLOW_CLEAN_THREADS", os.cpu_count() or 1)), 1)


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(thread_count(), thread_name_prefix="band")


@cache
def _outer_pool() -> ThreadPoolExecutor:
    """Apart from the pool of bands: work here waits for bands there."""
    return ThreadPoolExecutor(thread_count(), thread_name_prefix="beside")


@cache
def _meanwhile_pool() -> ThreadPoolExecutor:
    """One thread: what is made for later takes no more of the machine than that."""
    return ThreadPoolExecutor(1, thread_name_prefix="meanwhile")


# OpenCV spreads its work by itself: over no more threads than our own kernels, so that workers share the cores.
cv2.setNumThreads(thread_count())


def side_by_side(work: Callable[[T], U], items: Sequence[T]) -> list[U]:
    """`work` done on each of several unlike things at once, results in their order."""
    if thread_count() == 1:
        return [work(item) for item in items]
    others = [_outer_pool().submit(work, item) for item in items[1:]]
    first = [work(item) for item in items[:1]]
    return first + [_ended(begun, work, item) for begun, item in zip(others, items[1:], strict=True)]


def ahead(work: Callable[[T], U], items: Sequence[T]) -> Generator[U, None, None]:
    """`work` done on each of several things in turn, on the next one while the last is made use of. To be closed
    where its user may stop before the end: what is under way has ended then."""
    if thread_count() == 1:
        yield from map(work, items)
        return
    begun: Future[U] | None = None
    try:
        for k, item in enumerate(items):
            done = work(item) if begun is None else _ended(begun, work, item)
            begun = _outer_pool().submit(work, items[k + 1]) if k + 1 < len(items) else None
            yield done
    finally:  # where no more is wanted, what was begun still uses what its caller is about to close
        if begun is not None and not begun.cancel():
            wait([begun])


def meanwhile(work: Callable[[], object]) -> None:
    """`work` begun for later, where there is a thread for it. Whoever needs its result asks for it anew, and is
    told then what went wrong."""
    if thread_count() > 1:
        _meanwhile_pool().submit(work)


def _ended(begun: Future[U], work: Callable[[T], U], item: T) -> U:
    """What comes of work that was handed to the pool. What nobody has begun is done here: all threads there may be
    waiting for what this one is about to make."""
    return work(item) if begun.cancel() else begun.result()


def in_bands(rows: int, work: Callable[[int, int], None], least: int = 32) -> None:
    """Call `work(first_row, end_row)` over `rows` rows, split into one band a thread."""
    bands = min(thread_count(), max(rows // least, 1))
    if bands == 1:
        work(0, rows)
        return
    edges = [rows * k // bands for k in range(bands + 1)]
    *others, own = itertools.pairwise(edges)
    begun = [_pool().submit(work, a, b) for a, b in others]
    try:
        work(*own)
    finally:  # what is shared with the others is not left while they write into it
        wait(begun)
    for done in begun:
        done.result()
