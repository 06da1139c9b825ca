"""What a Dask worker runs: one segment of a render. Imports the engine alone, no Django."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from ..engine.footage import Footage
from ..engine.media import OUTPUT_FORMATS, Destination, open_source
from ..engine.pipeline import Pipeline
from ..engine.plan import plan_from_json
from ..engine.render import render_segment

STOP_FILE = "stop"
"""A file of this name in a render's folder ends its running segments, in the middle of a frame."""


class Piece(NamedTuple):
    """Footage as a worker needs to know it: `frames` are those of the file that are meant, None for all. The
    fingerprint tells it from other footage under its name."""

    path: str
    fingerprint: str
    index_file: str
    space: str
    frames: tuple[int, int] | None


@lru_cache(maxsize=1)
def _pipeline(footage: Piece, plan: str) -> Pipeline:
    """The pipeline of the last render, kept for its frames and motion."""
    frames = range(*footage.frames) if footage.frames else None
    source = open_source(footage.path, Path(footage.index_file), space=footage.space, frames=frames)
    return Pipeline(Footage(source), plan_from_json(plan))


def make_segment(footage: Piece, plan: str, target: tuple[str, str], folder: str, frames: tuple[int, int]) -> None:
    """Write the segment of `frames`, counted as the footage is; `target` is path and format name."""
    stop, own = Path(folder) / STOP_FILE, Path(folder)

    def stopped() -> bool:
        return stop.exists() or not own.is_dir()  # a cancelled render takes its folder away

    destination = Destination(Path(target[0]), OUTPUT_FORMATS[target[1]])
    pipeline = _pipeline(footage, plan).until(stopped)
    render_segment(pipeline, destination, own, range(*frames), stopped=stopped)
