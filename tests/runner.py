"""Django's test runner, which also tells the slowest tests: what to look at when the suite grows slow."""

from __future__ import annotations

import time
import unittest
from typing import Any

from django.test.runner import DiscoverRunner

MOST = 12


class TimedResult(unittest.TextTestResult):
    """Notes how long each test took."""

    def __init__(self, *about: Any, **more: Any) -> None:
        super().__init__(*about, **more)
        self.taken: dict[str, float] = {}

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802 (unittest's own name)
        self._started = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802 (unittest's own name)
        self.taken[test.id()] = time.monotonic() - self._started
        super().stopTest(test)


class TimedRunner(DiscoverRunner):
    """Runs as Django's own does."""

    def get_resultclass(self) -> type[unittest.TextTestResult]:
        return TimedResult

    def run_suite(self, suite: Any, **about: Any) -> Any:
        result: Any = super().run_suite(suite, **about)
        slowest = sorted(result.taken.items(), key=lambda item: -item[1])[:MOST]
        print("slowest: " + ", ".join(f"{name.rsplit('.', 1)[-1]} {seconds:.0f} s" for name, seconds in slowest))
        return result
