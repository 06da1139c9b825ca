"""What killed processes and deleted rows leave in the data folder: found and removed when the worker starts."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from pathlib import Path

from django.conf import settings

from ..engine.media import OUTPUT_FORMATS
from ..engine.render import segment_files
from .models import Job, Render, Shot, State

ABANDONED = 24 * 3600.0
"""Seconds without a byte after which an upload is given up; until then it may go on."""


def remove_leftovers() -> list[Path]:
    """Remove every file and folder of ours that no row owns; what was removed."""
    removed = []
    for path in _leftovers(Path(settings.YELLOW_CLEAN.data)):
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
        removed.append(path)
    return removed


def _leftovers(data: Path) -> Iterator[Path]:
    rows: dict[int, Render] = Render.objects.only("state", "first", "stop").in_bulk()
    for folder in (data / "renders").glob("render_*"):
        if _number(folder) not in rows:
            yield folder
            continue
        render = rows[_number(folder)]
        if render.state == State.DONE:
            pieces = segment_files(folder, range(render.first, render.stop), OUTPUT_FORMATS["ffv1"])
            yield from (piece for piece in pieces if piece.exists())
    paths = set(Shot.objects.values_list("path", flat=True))
    jobs = set(Job.objects.values_list("pk", flat=True))
    for folder in (data / "footage").glob("job_*"):
        if _number(folder) not in jobs:
            yield folder
            continue
        for upload in folder.iterdir():
            if not any(Path(path).is_relative_to(upload) for path in paths) and _age(upload) > ABANDONED:
                yield upload
    known = set(Shot.objects.values_list("fingerprint", flat=True))
    yield from (file for file in (data / "indexes").glob("*.json") if file.stem not in known)
    yield from (data / "scratch").glob("tuning-*")
    yield from (data / "scratch").glob("stop_survey_*")
    yield from (data / "scratch").glob("dask-scratch-space")  # before a cluster of this start has one


def _number(folder: Path) -> int:
    """The key of the row that a folder is named after; one that none has where it is named otherwise."""
    number = folder.name.rsplit("_", 1)[-1]
    return int(number) if number.isdecimal() and len(number) < 19 else -1


def _age(folder: Path) -> float:
    times = [path.stat().st_mtime for path in (folder, *folder.rglob("*")) if path.exists()]
    return time.time() - max(times, default=0.0)
