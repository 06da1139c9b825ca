"""The whole application as it is started: parts that are killed come back, and none outlives the whole."""

from __future__ import annotations

import signal
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from unittest import TestCase

from fuzz.application import Application
from tests.clips import temporary_folder
from tests.engine.test_reel import FILM, medium


class Serving(TestCase):
    def test_killed_parts_are_started_again_and_end_with_the_whole(self) -> None:
        folder = temporary_folder(self)
        (folder / "data").mkdir()
        application = Application(folder / "data", folder)
        self.addCleanup(application.clear)
        medium(folder / "a.mkv", 1, 3, FILM, None)
        application.start()
        job = application.ask("POST", "/jobs", {"name": "Twelve"})["id"]
        shot = application.ask("POST", f"/jobs/{job}/import?path={folder / 'a.mkv'}")["shots"][0]["id"]
        with ThreadPoolExecutor(12) as clients:
            asked = [f"/shots/{shot}/versions"] * 12
            made = list(clients.map(lambda path: application.ask("POST", path, {"plan": {"steps": []}}), asked))
        self.assertEqual(len({version["label"] for version in made}), 12, "twelve at once, each with its own label")
        for part in ("web", "worker"):
            before = application.processes()[part]
            application.kill(part)
            application.until(partial(self._others, application, part, before), 20)
        application.until(lambda: application.answers("/jobs"), 30)
        self.assertIn(f"The web server ended (killed by signal {signal.SIGKILL:d})", application.log.read_text())
        application.kill("serve")
        application.until(lambda: not application.strays(), 15)

    def _others(self, application: Application, part: str, before: list[int]) -> bool:
        return application.processes().get(part, before) != before
