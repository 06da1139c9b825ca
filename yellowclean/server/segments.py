"""What a Dask worker runs: a segment of a render, or a survey. Imports the engine alone, no Django; paths are those
of the application, and named as this machine names them."""

from __future__ import annotations

from contextlib import closing
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from ..engine.footage import Footage
from ..engine.measure.patch import Patch
from ..engine.media import OUTPUT_FORMATS, Destination, Fields, Source, open_source
from ..engine.pipeline import Pipeline
from ..engine.plan import plan_from_json
from ..engine.render import render_segment
from ..engine.survey import survey
from .farm import here, plan_here

STOP_FILE = "stop"
"""A file of this name in a render's folder ends its running segments, in the middle of a frame."""


class Piece(NamedTuple):
    """Footage as a worker needs to know it: `frames` are those of the file that are meant, None for all, `fields`
    the lines seen first where each field is a frame. The fingerprint tells it from other footage under its name."""

    path: str
    fingerprint: str
    index_file: str
    space: str
    frames: tuple[int, int] | None
    fields: Fields


@lru_cache(maxsize=1)
def _pipeline(footage: Piece, plan: str) -> Pipeline:
    """The pipeline of the last render, kept for its frames and motion."""
    return Pipeline(Footage(_opened(footage)), plan_from_json(plan_here(plan)))


def _opened(footage: Piece) -> Source:
    frames = range(*footage.frames) if footage.frames else None
    return open_source(
        here(footage.path), Path(here(footage.index_file)), space=footage.space, frames=frames,
        fields=footage.fields,
    )  # fmt: skip


def make_segment(footage: Piece, plan: str, target: tuple[str, str], folder: str, frames: tuple[int, int]) -> None:
    """Write the segment of `frames`, counted as the footage is; `target` is path and format name."""
    own = Path(here(folder))
    stop = own / STOP_FILE

    def stopped() -> bool:
        return stop.exists() or not own.is_dir()  # a cancelled render takes its folder away

    destination = Destination(Path(here(target[0])), OUTPUT_FORMATS[target[1]])
    pipeline = _pipeline(footage, plan).until(stopped)
    render_segment(pipeline, destination, own, range(*frames), stopped=stopped)


def survey_there(footage: Piece, patches: list[dict[str, Any]], stop_file: str) -> str:
    """The survey of a shot, as JSON; ends when the stop file appears."""
    stop = Path(here(stop_file))
    with closing(_opened(footage)) as source:
        return survey(source, [Patch.model_validate(p) for p in patches], stopped=stop.exists).to_json()
