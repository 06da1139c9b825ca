"""A long file without a timeline, cut into shots at its cuts."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from ..errors import BadInput
from ..frames import Progress, StopCheck, never, raise_if
from ..measure.cuts import Cuts
from ..media import Source, open_source
from ..media.names import plain_stem
from .folder import JobFolder, JobShot, relative


def found_cuts(source: Source, *, progress: Progress | None = None, stopped: StopCheck = never) -> list[int]:
    """The frames with which another picture begins, by one pass over all of them."""
    cuts = Cuts()
    for n in range(source.info.frames):
        raise_if(stopped)
        cuts.see(n, source.luma(n))
        if progress:
            progress((n + 1) / source.info.frames)
    return cuts.found()


def scenes(frames: int, cuts: Sequence[int]) -> list[range]:
    """The pieces of so many frames that begin with 0 and with each of the cuts. Raises `BadInput`."""
    chosen = sorted(set(cuts))
    if not chosen:
        raise BadInput("no cut is named: there is nothing to cut at.")
    if chosen[0] < 1 or chosen[-1] >= frames:
        raise BadInput(f"a cut before frame {chosen[0] if chosen[0] < 1 else chosen[-1]} is out of range; "
                       f"give 1 to {frames - 1}.")  # fmt: skip
    return [range(a, b) for a, b in zip([0, *chosen], [*chosen, frames], strict=True)]


def scene_names(name: str, count: int) -> list[str]:
    """A name for each of so many scenes, which sort as they play."""
    digits = max(len(str(count)), 2)
    return [f"{name}_{k + 1:0{digits}d}" for k in range(count)]


def take_scenes(
    root: Path, path: Path, *, progress: Progress | None = None, stopped: StopCheck = never
) -> JobFolder:
    """A new job of one file's scenes. Raises `BadInput` for what is no footage."""
    with closing(open_source(path)) as source:
        frames, cuts = source.info.frames, found_cuts(source, progress=progress, stopped=stopped)
    pieces = scenes(frames, cuts) if cuts else [range(frames)]
    media = relative(path, root)
    shots = [
        JobShot(name=name, media=media, first=piece.start, stop=piece.stop)
        for name, piece in zip(scene_names(plain_stem(path), len(pieces)), pieces, strict=True)
    ]
    return JobFolder.create(root, root.name, shots)
