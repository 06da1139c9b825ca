"""The whole application as it is started: parts that are killed come back, and none outlives the whole."""

from __future__ import annotations

import signal
from functools import partial
from unittest import TestCase

from fuzz.application import Application
from tests.clips import temporary_folder


class Serving(TestCase):
    def test_killed_parts_are_started_again_and_end_with_the_whole(self) -> None:
        folder = temporary_folder(self)
        (folder / "data").mkdir()
        application = Application(folder / "data", folder)
        self.addCleanup(application.clear)
        application.start()
        for part in ("web", "worker"):
            before = application.processes()[part]
            application.kill(part)
            application.until(partial(self._others, application, part, before), 20)
        application.until(lambda: application.ask("GET", "/jobs") == [], 30)
        self.assertIn(f"The web server ended (killed by signal {signal.SIGKILL:d})", application.log.read_text())
        application.kill("serve")
        application.until(lambda: not application.strays(), 15)

    def _others(self, application: Application, part: str, before: list[int]) -> bool:
        return application.processes().get(part, before) != before
