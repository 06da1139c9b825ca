"""Processes that attempt mutants, watched: one that dies or stands still is noted and replaced."""

from __future__ import annotations

import multiprocessing
import os
import re
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection
from pathlib import Path

from .attempt import Outcome, serve

PATIENCE = 60.0
"""Seconds an attempt may take."""

_NAMES = re.compile(r"/\S+|\d+")

_START = 60.0
"""Seconds more for the first attempt of a process, which loads compiled kernels."""

Serve = Callable[[Path, int, Connection, Path], None]


def outcomes(
    specimens: Path,
    seed: int,
    numbers: Iterator[int],
    until: float,
    serve: Serve = serve,
    patience: float = PATIENCE,
) -> Iterator[Outcome]:
    """Outcomes as they come, from one process a core that runs `serve`, until the numbers or the time (monotonic)
    run out. An attempt that takes longer than `patience` seconds is hung, a process that dies has crashed."""
    os.environ["OPENBLAS_NUM_THREADS"] = "1"  # a process a core: more threads would wait for each other
    lock, found = threading.Lock(), threading.Condition()
    waiting: list[Outcome] = []
    living = os.cpu_count() or 1

    def following() -> int | None:
        with lock:
            return next(numbers, None) if time.monotonic() < until else None

    def watched() -> None:
        nonlocal living
        for outcome in _one(specimens, seed, following, serve, patience):
            with found:
                waiting.append(outcome)
                found.notify()
        with found:
            living -= 1
            found.notify()

    for _ in range(living):
        threading.Thread(target=watched, daemon=True).start()
    while True:
        with found:
            found.wait_for(lambda: waiting or not living)
            ready, waiting[:] = list(waiting), []
        yield from ready
        if not ready and not living:
            return


def _one(
    specimens: Path, seed: int, following: Callable[[], int | None], serve: Serve, usual: float
) -> Iterator[Outcome]:
    spawn = multiprocessing.get_context("spawn")
    number = following()
    while number is not None:
        pipe, theirs = spawn.Pipe()
        where = specimens / f"stack-{threading.get_ident()}"
        process = spawn.Process(target=serve, args=(specimens, seed, theirs, where), daemon=True)
        process.start()
        theirs.close()
        patience = usual + _START
        while number is not None:
            try:
                pipe.send(number)
                if not pipe.poll(patience):
                    yield Outcome(number, "hung", "", f"no answer in {patience:.0f} s; {_standing(where)}")
                    break
                yield pipe.recv()
            except (EOFError, OSError):
                process.join()
                yield Outcome(number, "crashed", "", f"exit {process.exitcode}")
                break
            finally:
                patience = usual
                number = following()
        process.kill()
        process.join()
        pipe.close()


def _standing(where: Path) -> str:
    """The innermost places of the stacks in a file, in one line."""
    lines = [line.strip() for line in where.read_text().splitlines() if line.strip()]
    return " < ".join(lines[-40:])[-1500:]


def tally(found: Iterator[Outcome], report: Path) -> Counter[str]:
    """Count outcomes; every one that is neither done nor refused is written to the report as it comes."""
    counts: Counter[str] = Counter()
    refusals: Counter[str] = Counter()
    report.parent.mkdir(parents=True, exist_ok=True)
    with report.open("w", encoding="utf-8", errors="backslashreplace") as out:
        for outcome in found:
            counts[outcome.kind] += 1
            if outcome.kind not in {"done", "refused"}:
                print(f"{outcome.number} {outcome.kind} {outcome.what}: {outcome.told}", file=out, flush=True)
            elif outcome.kind == "refused":
                refusals[_NAMES.sub("…", outcome.told)[:160]] += 1
            if sum(counts.values()) % 250 == 0:
                print(f"  {sum(counts.values())}: {dict(counts)}", flush=True)
        for told, times in refusals.most_common():
            print(f"{times} × {told}", file=out)
    return counts
