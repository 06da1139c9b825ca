"""Twenty clients on eight shots: requests, refusals, median and 95th percentile, memory of the web process.

`YELLOW_CLEAN_LOAD_MINUTES` says for how long (default 5). Half of the clients scrub source and result, a quarter
look at parts enlarged, the rest asks for lists and pixels; each gives up one request in five and asks for the next,
as a browser does whose user moves on. One client in five listens to events besides.
"""

from __future__ import annotations

import contextlib
import http.client
import io
import json
import os
import random
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np

from fuzz.application import Application
from yellowclean.cli import main as command_line

CLIENTS, SHOTS, FRAMES, SIZE = 20, 8, 24, (960, 540)
SCENES = "quay", "cloth", "dusk", "basin", "stars", "drying", "figurehead", "quay"


def main() -> None:
    minutes = float(os.environ.get("YELLOW_CLEAN_LOAD_MINUTES", "5"))
    with tempfile.TemporaryDirectory(prefix="yellow-clean-load-") as folder:
        (data := Path(folder, "data")).mkdir()
        with Application(data, Path(folder, "library")) as application:
            shots = _prepared(application, Path(folder))
            before = _memory(application)
            told = _Told()
            about = application.port, shots, told
            clients = [threading.Thread(target=_client, args=(*about, n)) for n in range(CLIENTS)]
            for client in clients:
                client.start()
            peak, until = before, time.monotonic() + 60 * minutes
            while time.monotonic() < until:
                peak = max(peak, _memory(application))
                time.sleep(1)
            told.ended.set()
            for client in clients:
                client.join()
            time.sleep(5)
            _print(told, minutes, before, peak, _memory(application))


class _Told:
    """What the clients saw."""

    def __init__(self) -> None:
        self.ended, self.lock = threading.Event(), threading.Lock()
        self.seconds: list[float] = []
        self.statuses: Counter[int] = Counter()
        self.left = 0


def _prepared(application: Application, folder: Path) -> list[tuple[int, int]]:
    """Shots and versions, with a plan of noise reduction each."""
    library = folder / "library"
    width, height = SIZE
    for n, scene in enumerate(SCENES):
        with contextlib.redirect_stdout(io.StringIO()):
            command_line(["testcamera", scene, "--out", str(library / str(n)), "--size", f"{width}x{height}",
                          "--frames", str(FRAMES), "--seed", str(n)])  # fmt: skip
    with contextlib.redirect_stdout(io.StringIO()):
        command_line(["propose", str(library / "0" / "quay.mkv"), "--out", str(folder / "plan.json")])
    plan = json.loads((folder / "plan.json").read_text())
    application.start()
    job = application.ask("POST", "/jobs", {"name": "Load"})["id"]
    shots = []
    for n, scene in enumerate(SCENES):
        path = library / str(n) / f"{scene}.mkv"
        shot = application.ask("POST", f"/jobs/{job}/import?path={path}")["shots"][0]["id"]
        version = application.ask("POST", f"/shots/{shot}/versions", {"plan": plan, "label": "A"})["id"]
        shots.append((shot, version))
    return shots


def _client(port: int, shots: list[tuple[int, int]], told: _Told, number: int) -> None:
    chance = random.Random(number)
    events = http.client.HTTPConnection("127.0.0.1", port, timeout=400)
    if number % 5 == 0:
        events.request("GET", "/api/jobs/1/events")
    while not told.ended.is_set():
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=600)
        began = time.monotonic()
        connection.request("GET", _path(chance, *shots[chance.randrange(len(shots))], number))
        if chance.random() < 0.2:
            time.sleep(0.05)
            connection.close()
            with told.lock:
                told.left += 1
            continue
        answer = connection.getresponse()
        answer.read()
        connection.close()
        with told.lock:
            told.seconds.append(time.monotonic() - began)
            told.statuses[answer.status] += 1
    events.close()


def _path(chance: random.Random, shot: int, version: int, number: int) -> str:
    n, (width, height) = chance.randrange(FRAMES), SIZE
    frame = f"/api/shots/{shot}/frame?n={n}"
    if number % 4 < 2:
        return frame + chance.choice(["&view=source", f"&view=result&version_id={version}"])
    if number % 4 == 2:
        region = f"{chance.randrange(width - 200)},{chance.randrange(height - 200)},200,200"
        return f"{frame}&view=removed&version_id={version}&region={region}&scale=2"
    return chance.choice(
        ["/api/jobs", "/api/jobs/1/shots", f"/api/shots/{shot}", f"/api/shots/{shot}/pixel?n={n}&x=9&y=9"]
    )


def _memory(application: Application) -> int:
    """Resident bytes of the web process."""
    (web,) = application.processes()["web"]
    pages = int(Path(f"/proc/{web}/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE")


def _print(told: _Told, minutes: float, before: int, peak: int, after: int) -> None:
    answered: Any = np.array(told.seconds)
    refused = sum(count for status, count in told.statuses.items() if status >= 400)
    allowed = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 4
    statuses = dict(told.statuses)
    print(
        f"load: {CLIENTS} clients, {SHOTS} shots, {minutes:g} min: {len(answered)} answered ({statuses}),"
        f" {refused} refused, {told.left} given up by the client"
    )
    median, high = 1000 * np.quantile(answered, (0.5, 0.95))
    print(f"load: median {median:.0f} ms, 95th percentile {high:.0f} ms")
    print(
        f"load: memory {before / 1e6:.0f} MB before, {peak / 1e6:.0f} at most, {after / 1e6:.0f} after;"
        f" a quarter of the machine's is {allowed / 1e6:.0f}"
    )
