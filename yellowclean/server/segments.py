"""What a Dask worker runs: one segment of a render. Imports the engine alone, no Django."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from ..engine.footage import Footage
from ..engine.media import OUTPUT_FORMATS, Destination, open_source
from ..engine.pipeline import Pipeline
from ..engine.plan import plan_from_json
from ..engine.render import render_segment

STOP_FILE = "stop"
"""A file of this name in a render's folder ends its running segments, in the middle of a frame."""


@lru_cache(maxsize=1)
def _pipeline(path: str, fingerprint: str, index_file: str, space: str, plan: str) -> Pipeline:
    """The pipeline of the last render, kept for its frames and motion; `fingerprint` makes it fresh."""
    return Pipeline(Footage(open_source(path, Path(index_file), space=space)), plan_from_json(plan))


def make_segment(
    source: tuple[str, str, str, str], plan: str, target: tuple[str, str], folder: str, frames: tuple[int, int]
) -> None:
    """Write the segment of `frames`; `source` is path, fingerprint, the file that keeps its index and the input
    space chosen, `target` path and format name."""
    stop, own = Path(folder) / STOP_FILE, Path(folder)

    def stopped() -> bool:
        return stop.exists() or not own.is_dir()  # a cancelled render takes its folder away

    destination = Destination(Path(target[0]), OUTPUT_FORMATS[target[1]])
    pipeline = _pipeline(*source, plan).until(stopped)
    render_segment(pipeline, destination, own, range(*frames), stopped=stopped)
