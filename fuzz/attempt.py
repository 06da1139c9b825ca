"""One attempt after another in a process of its own: a mutant is made, handed to the command line, and what came
of it is told. A process that dies or stands still is the watcher's to notice (`watch`)."""

from __future__ import annotations

import faulthandler
import json
import os
import shutil
import sys
import tempfile
import traceback
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path

import numpy as np

from . import arguments, mutate

LONG = 40.0
"""Seconds after which it is worth knowing where an attempt stands."""


@dataclass(frozen=True)
class Outcome:
    """What became of an attempt: done (exit 0), refused (exit 2 and one line), traceback, or noise (another exit,
    or lines that are not ours)."""

    number: int
    kind: str
    what: str
    told: str


def serve(specimens: Path, seed: int, pipe: Connection, where: Path) -> None:
    """Attempt the numbers that come through the pipe until it closes. Where an attempt stands when it takes long is
    written to the file `where`."""
    with tempfile.TemporaryDirectory(prefix="yellow-clean-fuzz-") as scratch, where.open("w") as stack:
        os.chdir(scratch)
        while True:
            try:
                number = pipe.recv()
            except EOFError:
                return
            folder = Path(scratch, str(number))
            folder.mkdir()
            faulthandler.dump_traceback_later(LONG, file=stack)
            pipe.send(attempt(specimens, seed, number, folder))
            faulthandler.cancel_dump_traceback_later()
            shutil.rmtree(folder, ignore_errors=True)


def attempt(specimens: Path, seed: int, number: int, folder: Path) -> Outcome:
    """Make mutant `number` in `folder` and run it."""
    what, commands = prepared(specimens, seed, number, folder)
    kind, told = "done", ""
    for words in commands:
        kind, told = run(words)
        if kind != "done":
            break
    return Outcome(number, kind, what, told)


def prepared(specimens: Path, seed: int, number: int, folder: Path) -> tuple[str, list[list[str]]]:
    """Mutant `number`: what it is, and the commands that are run on it."""
    random = np.random.default_rng([seed, number])
    places = sorted((specimens / "media").iterdir())
    documents = specimens / "documents"
    chance = random.random()
    footage = places[random.integers(len(places))]
    shown = _footage(footage, folder, random if chance < 0.7 else None)
    plan, profile = documents / "least.json", documents / "profile.json"
    what = footage.name
    if 0.7 <= chance < 0.9:
        document = sorted(documents.iterdir())[random.integers(len(list(documents.iterdir())))]
        changed, what = folder / document.name, document.name
        changed.write_bytes(mutate.damaged(document.read_bytes(), random, text=True))
        if document == profile:
            return what, [["propose", shown, "--profile", str(changed), "--out", str(folder / "p.json")]]
        plan = changed if document.suffix == ".json" else _through(changed, plan, folder / "graded.json")
    render = ["render", shown, "--plan", str(plan), "--out", str(folder / f"out{random.choice(arguments.ENDINGS)}")]
    if chance >= 0.9:
        return "arguments", [arguments.wild(shown, str(profile), render, folder, random)]
    return what, [["measure", shown, "--json"], render] if chance < 0.7 else [render]


def _through(lut: Path, plan: Path, graded: Path) -> Path:
    """A plan that shows footage through a LUT."""
    told = json.loads(plan.read_text()) | {"steps": [{"kind": "grade", "settings": {"lut": str(lut)}}]}
    graded.write_text(json.dumps(told))
    return graded


def _footage(place: Path, folder: Path, random: mutate.Random | None) -> str:
    """A copy of a piece of footage, one of its files damaged if there is a `random`; the path to open."""
    files = sorted(place.iterdir())
    hit = files[random.integers(len(files))] if random else None
    for file in files:
        data = file.read_bytes()
        (folder / file.name).write_bytes(mutate.damaged(data, random) if random and file == hit else data)
    return str(folder / (files[0].name if len(files) == 1 else f"x_####{files[0].suffix}"))


def run(words: list[str]) -> tuple[str, str]:
    """What becomes of a command, and what it tells of that."""
    from yellowclean.cli import main  # noqa: PLC0415, costs seconds, which the watcher need not spend

    os.environ["YELLOW_CLEAN_TRACEBACK"] = "1"
    trouble = ""
    with _told() as lines:
        try:
            code = main(words)
        except SystemExit as error:
            code = error.code if isinstance(error.code, int) else 1
        except BaseException as error:
            last = traceback.extract_tb(error.__traceback__)[-1]
            code, trouble = 1, f"{type(error).__name__}: {error} ({last.filename}:{last.lineno})"
    said = [line for line in lines if line.strip()]
    first = f"{trouble} {' | '.join(said)}".strip()[:600]
    if trouble or any("Traceback" in line for line in said):
        return "traceback", f"{' '.join(words)[:300]}: {first}"
    if (code == 0 and not said) or (code == 2 and len(said) == 1 and said[0].startswith("yellow-clean: ")):
        return ("done", "") if code == 0 else ("refused", first)
    return "noise", f"{' '.join(words)[:300]}: exit {code}: {first}"


@contextmanager
def _told() -> Iterator[list[str]]:
    """The lines that this process writes to stderr meanwhile, libraries' own included; stdout goes nowhere."""
    lines: list[str] = []
    sys.stdout.flush()
    kept = os.dup(1), os.dup(2)
    with tempfile.TemporaryFile() as told, Path(os.devnull).open("wb") as nowhere:
        os.dup2(nowhere.fileno(), 1)
        os.dup2(told.fileno(), 2)
        try:
            yield lines
        finally:
            for stream in (sys.stdout, sys.stderr):
                stream.flush()
            for number, copy in zip((1, 2), kept, strict=True):
                os.dup2(copy, number)
                os.close(copy)
            told.seek(0)
            lines += told.read().decode(errors="replace").splitlines()
