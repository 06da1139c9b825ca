"""Rendering: frames of a plan into a file, at once or in segments that may be made anywhere.

A segment is a piece of the result on disk: for video a lossless 16-bit file that is encoded into the
target when all are there, for a sequence the final pictures themselves. Each appears under its name
only when complete, so that interrupted work takes up where it stopped.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from pydantic import BaseModel, Field

from .errors import BadInput
from .frames import Frame, Progress, StopCheck, never, raise_if
from .judge.patches import PatchBeforeAfter, patch_before_after
from .measure.noise import measure_noise
from .media import OUTPUT_FORMATS, Destination, MediaInfo, Source, open_source, open_writer
from .media.writers import write_member
from .pipeline import Footage, Pipeline
from .plan import Plan

SEGMENT_FRAMES = 6


class DeliveryReport(BaseModel):
    """What was written, opened and measured again."""

    path: str
    format: str
    frames: int
    first_frame: int
    patches: list[PatchBeforeAfter]
    look_baked: bool = Field(False, description="Whether the written values are those under a look.")


def render(
    source: Source, plan: Plan, target: Destination, *, frames: range | None = None,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Write the plan's result. Nothing is left under the asked name unless all of it was written."""
    chosen = frames_in(source.info, frames)
    pipeline = Pipeline(Footage(source), plan, stopped=stopped)
    write_frames(target, source.info, chosen, (pipeline.frame(n) for n in chosen), progress, stopped)


def frames_in(info: MediaInfo, frames: range | None) -> range:
    """The asked frames, checked against the shot."""
    chosen = range(info.frames) if frames is None else frames
    if not len(chosen) or chosen.start < 0 or chosen.stop > info.frames:
        raise BadInput(
            f"frames {chosen.start}:{chosen.stop} are not all in the shot; it has 0:{info.frames} (end excluded)."
        )
    return chosen


def write_frames(
    target: Destination, info: MediaInfo, chosen: range, made: Iterable[Frame],
    progress: Progress | None = None, stopped: StopCheck = never, *, audio: bool = True,
) -> None:  # fmt: skip
    """Write frames that stand for the frames `chosen` of the described source."""
    told = info.model_copy(update={"frames": len(chosen)})
    audio_from = Path(info.path) if audio and info.kind == "video" and info.audio else None
    with open_writer(target, told, first=chosen.start, audio_from=audio_from) as writer:
        for count, frame in enumerate(made):
            raise_if(stopped)
            writer.write(frame)
            if progress:
                progress((count + 1) / len(chosen))


def segments(chosen: range, length: int = SEGMENT_FRAMES) -> list[range]:
    """The chosen frames in runs of at most `length`."""
    return [range(k, min(k + length, chosen.stop)) for k in range(chosen.start, chosen.stop, length)]


def segment_file(folder: Path, piece: range) -> Path:
    return folder / f"frames_{piece.start:07d}_{piece.stop:07d}.mkv"


def segment_done(target: Destination, folder: Path, piece: range) -> bool:
    """Whether a segment is there already."""
    if target.format.is_sequence:
        return all(target.member(n).exists() for n in piece)
    return segment_file(folder, piece).exists()


def render_segment(
    pipeline: Pipeline, target: Destination, folder: Path, piece: range, stopped: StopCheck = never
) -> None:
    """Make one segment, unless it exists."""
    if segment_done(target, folder, piece):
        return
    info = pipeline.footage.info
    if target.format.is_sequence:
        target.partial.mkdir(exist_ok=True)
        for n in piece:
            raise_if(stopped)
            write_member(target, info, n, pipeline.frame(n))
        return
    lossless = Destination(segment_file(folder, piece), OUTPUT_FORMATS["ffv1"])
    write_frames(lossless, info, piece, (pipeline.frame(n) for n in piece), None, stopped, audio=False)


def assemble(
    target: Destination, info: MediaInfo, chosen: range, folder: Path,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Join all segments into the target and give it its name."""
    if target.format.is_sequence:
        target.publish()
        return
    write_frames(target, info, chosen, _segment_frames(chosen, folder), progress, stopped)


def _segment_frames(chosen: range, folder: Path) -> Iterator[Frame]:
    for piece in segments(chosen):
        part = open_source(segment_file(folder, piece))
        try:
            for n in range(part.info.frames):
                yield part.read(n)
        finally:
            part.close()


def delivery_report(source: Source, target: Destination, chosen: range, *, baked: bool = False) -> DeliveryReport:
    """Open what was written, count it, and measure flat patches of its middle beside the source's."""
    written = open_source(target.path)
    try:
        if written.info.frames < len(chosen):
            raise BadInput(
                f"{target.path}: holds {written.info.frames} frames, {len(chosen)} were written; render it again."
            )
        return DeliveryReport(
            path=str(target.path),
            format=target.format.title,
            frames=len(chosen),
            first_frame=chosen.start,
            patches=_before_after(source, written, chosen),
            look_baked=baked,
        )
    finally:
        written.close()


def _before_after(source: Source, written: Source, chosen: range) -> list[PatchBeforeAfter]:
    middle = chosen.start + len(chosen) // 2
    few = range(max(middle - 2, chosen.start), min(middle + 3, chosen.stop))
    try:
        readings = measure_noise(source, frames=few).patches
    except BadInput:  # nothing in these frames can hold noise
        return []
    return [
        patch_before_after(r, written.read(r.patch.frame - chosen.start)[r.patch.region.slices]) for r in readings
    ]
