"""What plans leave of findings, measured in the background while the Bench is worked at."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Hashable, Iterator
from functools import cached_property

from ..engine.frames import StopCheck
from ..engine.judge.patches import Remaining
from .lanes import Lanes, Task

FORGOTTEN = 10.0
"""Seconds after which a measuring that nobody asked about is given up, so that it keeps no other waiting."""

LOOK_EVERY = 1.0

Measure = Callable[[StopCheck], Iterator[Remaining]]


class _Measuring:
    """One plan of one version on its way: what is known of it so far."""

    def __init__(self, key: Hashable, measure: Measure, lanes: Lanes) -> None:
        self.key, self._measure = key, measure
        self.so_far: Remaining | None = None
        self.asked = time.monotonic()
        self.task: Task = lanes.submit(self._work)

    def _work(self, gone: StopCheck) -> None:
        for told in self._measure(lambda: gone() or time.monotonic() - self.asked > FORGOTTEN):
            self.so_far = told

    @property
    def given_up(self) -> bool:
        return self.task.gone.is_set() or (self.task.future.done() and time.monotonic() - self.asked > FORGOTTEN)

    def finished(self, patience: float) -> bool:
        """Whether it ends within so many seconds; raises what it failed with."""
        until = time.monotonic() + patience
        while (left := until - time.monotonic()) > 0:
            self.asked = time.monotonic()
            try:
                self.task.future.result(timeout=min(left, LOOK_EVERY))
            except TimeoutError:
                continue
            return True
        return False


class Afterwards:
    """A thread that measures what versions leave, one after another. Only the newest plan of a version is measured;
    an earlier one is given up."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._under_way: dict[int, _Measuring] = {}

    @cached_property
    def _lanes(self) -> Lanes:
        """Begun when it is first needed: a process that starts others has no threads of its own before."""
        return Lanes(1)

    def told(self, version: int, key: Hashable, measure: Measure, patience: float) -> Remaining | None:
        """What is known of a version under the plan that `key` names, `patience` seconds from now at the latest;
        None where that is nothing. What failed raises its error, and is begun anew when asked again."""
        with self._lock:
            work = self._under_way.get(version)
            if work is None or work.key != key or work.given_up:
                if work:
                    work.task.gone.set()
                work = self._under_way[version] = _Measuring(key, measure, self._lanes)
        ended = True
        try:
            ended = work.finished(patience)
        finally:
            if ended:
                with self._lock:
                    if self._under_way.get(version) is work:
                        del self._under_way[version]
        return work.so_far


AFTERWARDS = Afterwards()
