"""Surveys and renders under hardship: processes killed at random moments, a disk that is full at random moments."""

from __future__ import annotations

import contextlib
import io
import json
import random
import subprocess
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path

from yellowclean.cli import main as command_line

from .application import Application, pictures

PARTS = "worker", "web", "farm", "tree", "serve"
FRAMES, SIZE = 48, "320x192"
FULL_FOR = 8.0
"""Seconds that the disk is full."""

DISK_MB = 96
"""Room of the disk that is filled."""


def kills(rounds: int, seed: int) -> bool:
    """Kill one part in each round while a survey and a render are under way; whether nothing was lost."""
    chance, killed, troubles = random.Random(seed), Counter[str](), list[str]()
    with tempfile.TemporaryDirectory(prefix="yellow-clean-kills-") as folder:
        work = _Work(Path(folder), Path(folder, "data"))
        with work.application as application:
            for n in range(rounds):
                shot, render = work.begin(n)
                time.sleep(chance.uniform(0.0, 6.0))
                part = PARTS[n % len(PARTS)]
                application.kill(part)
                killed[part] += 1
                application.settle()
                troubles += [f"round {n}, {part}: {told}" for told in work.finish(shot, render)]
            troubles += work.leftovers()
    return _told(f"kills: {rounds} ({dict(killed)})", troubles)


def full_disk(rounds: int, seed: int) -> bool:
    """Fill the disk in each round while a survey and a render are under way, then make room; whether nothing was
    lost. Needs the right to mount a small disk."""
    chance, troubles = random.Random(seed), list[str]()
    with (
        tempfile.TemporaryDirectory(prefix="yellow-clean-disk-") as folder,
        _small_disk(Path(folder, "disk")) as disk,
    ):
        work = _Work(Path(folder), disk / "data")
        with work.application as application:
            for n in range(rounds):
                shot, render = work.begin(n)
                time.sleep(chance.uniform(0.0, 6.0))
                asked = "/jobs", f"/shots/{shot}", f"/shots/{shot}/frame?n={chance.randrange(FRAMES)}"
                with _filled(disk):
                    troubles += [f"round {n}: {told}" for told in _unanswered(application, asked)]
                if not application.runs:
                    troubles.append(f"round {n}: the application ended")
                    application.settle()
                troubles += [f"round {n}: {told}" for told in work.finish(shot, render)]
            troubles += work.leftovers()
    return _told(f"full disk: {rounds} times", troubles)


def _unanswered(application: Application, asked: Sequence[str]) -> list[str]:
    """What is not answered for some seconds: lists and pictures are while the disk is full."""
    troubles, until = [], time.monotonic() + FULL_FOR
    while time.monotonic() < until:
        troubles += [
            f"no answer to {path} while the disk was full" for path in asked if not application.answers(path)
        ]
        time.sleep(0.5)
    return troubles


def _told(what: str, troubles: list[str]) -> bool:
    print(f"{what}, {len(troubles)} with a loss", *troubles, sep="\n")
    return not troubles


class _Work:
    """A shot of the test camera, and what the application is to do with it."""

    def __init__(self, folder: Path, data: Path) -> None:
        library = folder / "library"
        with contextlib.redirect_stdout(io.StringIO()):
            _run("testcamera", "quay", "--out", library, "--size", SIZE, "--frames", FRAMES)
            _run("propose", library / "quay.mkv", "--out", folder / "plan.json")
            _run("render", library / "quay.mkv", "--plan", folder / "plan.json", "--out", folder / "wanted.mkv")
        (library / "truth.mkv").unlink()
        self._source, self._plan = library / "quay.mkv", json.loads((folder / "plan.json").read_text())
        self._wanted = pictures(folder / "wanted.mkv")
        data.mkdir(parents=True)
        self.application = Application(data, library)
        self.application.start()
        self._job = self.application.ask("POST", "/jobs", {"name": "Hardship"})["id"]

    def begin(self, n: int) -> tuple[int, int]:
        """Ask for a survey and a render of a new shot: their shot and render."""
        ask = self.application.ask
        shot = ask("POST", f"/jobs/{self._job}/import?path={self._source}")["shots"][0]["id"]
        version = ask("POST", f"/shots/{shot}/versions", {"plan": self._plan, "label": f"Round {n}"})
        render = ask("POST", "/renders", {"version_id": version["id"], "format": "ffv1"})
        ask("POST", f"/shots/{shot}/survey", {"patches": []})
        return shot, render["id"]

    def finish(self, shot: int, render: int) -> list[str]:
        """Wait for both and look at them; what was lost. Then remove the shot."""
        ask = self.application.ask
        troubles = []
        try:
            self.application.until(lambda: (ask("GET", f"/renders/{render}") or {}).get("state") in _ENDED)
            self.application.until(
                lambda: ((ask("GET", f"/shots/{shot}") or {}).get("survey") or {}).get("state") in _ENDED
            )
        except TimeoutError as error:
            return [str(error)]
        ended = ask("GET", f"/renders/{render}")
        if ended["state"] != "done":
            troubles.append(f"render {ended['state']}: {ended.get('message')}")
        else:
            path = (
                Path(ended["path"])
                if ended.get("path")
                else next(self.application.data.rglob(f"render_{render}/*.mkv"))
            )
            if pictures(path) != self._wanted:
                troubles.append("other pictures")
        measured = ask("GET", f"/shots/{shot}")["survey"]
        if measured["state"] != "done":
            troubles.append(f"survey {measured['state']}: {measured.get('message')}")
        ask("DELETE", f"/shots/{shot}")
        return troubles

    def _state(self, path: str, part: str = "") -> str:
        found = self.application.ask("GET", path) or {}
        return str((found.get(part) or {} if part else found).get("state"))

    def leftovers(self) -> list[str]:
        """Files of renders, footage and work of which all rows are gone, once it was started anew."""
        self.application.stop()
        self.application.start()
        time.sleep(2)
        data = self.application.data
        kept = ("renders", "footage", "indexes", "scratch")
        files = [file for name in kept for file in (data / name).rglob("*") if file.is_file()]
        return [f"left behind: {file}" for file in files if "dask-scratch-space" not in file.parts]


_ENDED = {"done", "failed", "cancelled"}


def _run(*words: object) -> None:
    if command_line([str(word) for word in words]):
        raise RuntimeError(f"not possible: {words}")


@contextlib.contextmanager
def _small_disk(place: Path) -> Iterator[Path]:
    place.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m", "tmpfs", str(place)], check=True)
    try:
        yield place
    finally:
        subprocess.run(["umount", "--lazy", str(place)], check=False)


@contextlib.contextmanager
def _filled(disk: Path) -> Iterator[None]:
    """No byte left on the disk meanwhile."""
    ballast = disk / "ballast"
    try:
        with contextlib.suppress(OSError), ballast.open("wb", buffering=0) as stream:
            while True:
                stream.write(bytes(4096))
        yield
    finally:
        ballast.unlink(missing_ok=True)
