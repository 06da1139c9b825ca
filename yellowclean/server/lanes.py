"""Threads that make pictures. One that is stuck in a library call is given up and replaced."""

from __future__ import annotations

import itertools
import logging
import queue
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import Any, TypeVar

from ..engine.errors import BadInput
from ..engine.frames import StopCheck

T = TypeVar("T")

LIMIT, GRACE = 900.0, 30.0
"""Seconds that a piece of work may take before it is asked to stop, and until its thread counts as lost."""

LOOK_EVERY = 0.5

IN_VIEW, AHEAD = 3, 6
"""Urgency of what somebody looks at, and of what may be looked at later, as RFC 9218 counts it: 3 where nothing is
said, the smaller the sooner."""

log = logging.getLogger(__name__)


@dataclass
class Task:
    """A piece of work, what becomes of it, and whether it is still wanted."""

    work: Callable[[StopCheck], Any]
    future: Future[Any] = field(default_factory=Future)
    gone: threading.Event = field(default_factory=threading.Event)
    started: float | None = None


class Lanes:
    """So many threads that work through one queue, for ever."""

    def __init__(self, count: int, *, limit: float = LIMIT, grace: float = GRACE) -> None:
        self._limit, self._grace = limit, grace
        self._waiting: queue.PriorityQueue[tuple[int, int, Task]] = queue.PriorityQueue()
        self._count = itertools.count()
        self._running: dict[threading.Thread, Task | None] = {}
        self._lock = threading.Lock()
        for _ in range(count):
            self._start_lane()
        threading.Thread(target=self._watch, name="picture-watch", daemon=True).start()

    def submit(self, work: Callable[[StopCheck], T], urgency: int = IN_VIEW) -> Task:
        """Have work done, the most urgent first, in the order of asking; it is handed a check that says whether it
        is still wanted."""
        task = Task(work)
        self._waiting.put((urgency, next(self._count), task))
        return task

    def _start_lane(self) -> None:
        lane = threading.Thread(target=self._lane, name="picture", daemon=True)
        with self._lock:
            self._running[lane] = None
        lane.start()

    def _lane(self) -> None:
        me = threading.current_thread()
        while True:
            urgency, count, task = self._waiting.get()
            if task.gone.is_set() or not task.future.set_running_or_notify_cancel():
                continue
            with self._lock:
                if me not in self._running:  # given up meanwhile: a younger thread has this one's place
                    self._waiting.put((urgency, count, task))
                    return
                task.started, self._running[me] = time.monotonic(), task
            _do(task)
            with self._lock:
                if me not in self._running:
                    return
                self._running[me] = None

    def _watch(self) -> None:
        while True:
            time.sleep(LOOK_EVERY)
            now = time.monotonic()
            with self._lock:
                late = {
                    lane: task
                    for lane, task in self._running.items()
                    if task and task.started is not None and now - task.started > self._limit
                }
                lost = [
                    lane for lane, task in late.items() if now - (task.started or now) > self._limit + self._grace
                ]
                for lane in lost:
                    del self._running[lane]
            for task in late.values():
                task.gone.set()
            for lane in lost:
                self._replace(late[lane])

    def _replace(self, task: Task) -> None:
        log.warning("A picture thread was lost after %.0f s in one piece of work; it is replaced.", self._limit)
        if not task.future.done():
            task.future.set_exception(
                BadInput("This took too long and was given up; choose another place or setting.")
            )
        self._start_lane()


def _do(task: Task) -> None:
    try:
        value = task.work(task.gone.is_set)
    except BaseException as error:
        if not task.future.done():
            task.future.set_exception(error)
    else:
        if not task.future.done():
            task.future.set_result(value)
