"""Rendering: frames of a plan into a file, at once or in segments that may be made anywhere.

A segment is a piece of the result on disk: for video a lossless file of the very samples that the encoder
is given when all are there, for a sequence the final pictures themselves. Either way gives the same file. Each
appears under its name only when complete, so that interrupted work takes up where it stopped.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

import numpy as np
from pydantic import BaseModel, Field

from .errors import BadInput
from .format import Format
from .frames import Frame, Progress, StopCheck, never, raise_if
from .judge.patches import LEAST_PIECE, PatchBeforeAfter, comparable, patch_before_after
from .measure.noise import measure_noise
from .measure.patch import Patch, PatchReading
from .measure.report import SurveyReport
from .media import Destination, MediaInfo, Source, VideoSource, files_of, open_source, open_writer
from .media.formats import OutputFormat
from .media.planes import Coding, Plane
from .media.sequence_writer import outputs_of, write_member
from .media.video_writer import VideoWriter
from .media.writers import Writer
from .noise.profile import NoiseCurve
from .pipeline import Footage, Pipeline
from .plan import Plan

SEGMENT_FRAMES = 6

DITHERED_BITS, DITHER_SEED = 12, 13
"""Depth up to which the codes of a file are coarse enough to show, and where the dither starts."""


class DeliveryReport(BaseModel):
    """What was written, opened and measured again."""

    path: str
    format: str
    frames: int
    first_frame: int
    patches: list[PatchBeforeAfter]
    look_baked: bool = Field(False, description="Whether the written values are those under a look.")
    damaged: list[int] = Field([], description="Frames that were damaged in the source, and so are in the result.")


def render(
    source: Source, plan: Plan, target: Destination, *, frames: range | None = None,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Write the plan's result. Nothing is left under the asked name unless all of it was written.

    Raises `BadInput` where the result would lie over the source or a file that the plan reads.
    """
    chosen = frames_in(source.info, frames)
    check_apart(outputs_of(target, source.info, chosen), inputs_of(source.info, plan))
    pipeline = Pipeline(Footage(source), plan, stopped=stopped)
    with _writer(target, source, plan, chosen) as writer:
        for count, n in enumerate(chosen):
            raise_if(stopped)
            writer.write(delivered(pipeline, n, target.format))
            if progress:
                progress((count + 1) / len(chosen))


def delivered(pipeline: Pipeline, n: int, fmt: OutputFormat) -> Frame:
    """Frame n of the result as it is handed to a writer: where ramps were rebuilt between the codes, with
    triangular dither of one code of the format (Lipshitz, Wannamaker, Vanderkooy 1992), the same in all channels
    and every time. What no step changed is written as it was."""
    result = pipeline.frame(n)
    finer = any(step.acts and step.treatment.finer_than_codes for step in pipeline.plan.steps)
    if not finer or fmt.bits > DITHERED_BITS:
        return result
    changed = (result != pipeline.reference.frame(n)).any(axis=2)
    first, second = np.random.default_rng((DITHER_SEED, n)).random((2, *changed.shape), np.float32)
    dither = (first - second) / np.float32(Coding("rgb", fmt.bits, fmt.full_range).luma_scale[1])
    return result + np.where(changed, dither, np.float32(0))[..., None]


def told_of_result(info: MediaInfo, plan: Plan) -> MediaInfo:
    """What the files of a plan's result say, where the source's say `info`."""
    return plan.formats(Format.of(info))[-1].told(info)


def _writer(target: Destination, source: Source, plan: Plan, chosen: range, *, audio: bool = True) -> Writer:
    """A writer of the frames `chosen` of a plan's result."""
    info = source.info
    told = told_of_result(info, plan).model_copy(update={"frames": len(chosen)})
    audio_from = Path(info.path) if audio and info.kind == "video" and info.audio else None
    return open_writer(target, told, first=chosen.start, audio_from=audio_from, source=source)


def frames_in(info: MediaInfo, frames: range | None) -> range:
    """The asked frames, checked against the shot."""
    chosen = range(info.frames) if frames is None else frames
    if not len(chosen) or chosen.start < 0 or chosen.stop > info.frames:
        raise BadInput(
            f"frames {chosen.start}:{chosen.stop} are not all in the shot; it has 0:{info.frames} (end excluded)."
        )
    return chosen


def damaged_frames(source: Source, chosen: range) -> list[int]:
    """Those of the chosen frames that were read and found damaged."""
    return [n for n in chosen if source.damage(n)]


def inputs_of(info: MediaInfo, plan: Plan) -> list[Path]:
    """The files that a render reads."""
    managed = plan.look.managed
    named = [plan.look.lut, managed.config if managed else ""]
    try:
        return [*files_of(info.path), *(Path(name) for name in named if name)]
    except BadInput:  # a source that is not on disk
        return []


def check_apart(outputs: Iterable[Path], inputs: Iterable[Path]) -> None:
    """Refuse outputs that are an input, under whatever name: the input would be destroyed."""
    taken = {(status.st_dev, status.st_ino) for status in (f.stat() for f in inputs if f.exists())}
    for file in outputs:
        if file.exists() and ((status := file.stat()).st_dev, status.st_ino) in taken:
            raise BadInput(f"{file}: is read for this, and would be overwritten; choose another name.")


def segments(chosen: range, length: int = SEGMENT_FRAMES) -> list[range]:
    """The chosen frames in runs of at most `length`."""
    return [range(k, min(k + length, chosen.stop)) for k in range(chosen.start, chosen.stop, length)]


def segment_file(folder: Path, piece: range) -> Path:
    return folder / f"frames_{piece.start:07d}_{piece.stop:07d}.mkv"


def segment_done(target: Destination, info: MediaInfo, folder: Path, piece: range) -> bool:
    """Whether a segment is there already."""
    if target.format.is_sequence:
        return all(target.member(info.first_number + n).exists() for n in piece)
    return segment_file(folder, piece).exists()


def render_segment(
    pipeline: Pipeline, target: Destination, folder: Path, piece: range, stopped: StopCheck = never
) -> None:
    """Make one segment, unless it exists."""
    if segment_done(target, pipeline.footage.info, folder, piece):
        return
    source, plan = pipeline.footage.source, pipeline.plan
    told = told_of_result(source.info, plan)
    if target.format.is_sequence:
        target.partial.mkdir(exist_ok=True)
        for n in piece:
            raise_if(stopped)
            write_member(target, told, n, delivered(pipeline, n, target.format), source)
        return
    lossless = Destination(segment_file(folder, piece), target.format.segment(told))
    with _writer(lossless, source, plan, piece, audio=False) as writer:
        for n in piece:
            raise_if(stopped)
            writer.write(delivered(pipeline, n, target.format))


def assemble(
    target: Destination, source: Source, plan: Plan, chosen: range, folder: Path,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Join all segments into the target and give it its name."""
    if target.format.is_sequence:
        target.publish()
        return
    with _writer(target, source, plan, chosen) as writer:
        assert isinstance(writer, VideoWriter)
        for count, planes in enumerate(_segment_planes(chosen, folder)):
            raise_if(stopped)
            writer.put(planes)
            if progress:
                progress((count + 1) / len(chosen))


def _segment_planes(chosen: range, folder: Path) -> Iterator[tuple[Plane, ...]]:
    for piece in segments(chosen):
        part = VideoSource(segment_file(folder, piece))
        try:
            for n in range(part.info.frames):
                yield part.planes(n)
        finally:
            part.close()


def delivery_report(
    source: Source, target: Destination, chosen: range, plan: Plan, *, measured: SurveyReport | None = None
) -> DeliveryReport:
    """Open what was written, count it, and measure flat patches of it beside the source's: those of the survey
    that lie in the frames written, where it is given, else patches of the middle."""
    patches = measured.patches if measured else []
    known = [f for f in measured.findings if f.kind == "damaged frames"] if measured else []
    damaged = {spot.frame for finding in known for spot in finding.spots} | set(damaged_frames(source, chosen))
    written = open_source(target.path)
    try:
        if written.info.frames < len(chosen):
            raise BadInput(
                f"{target.path}: holds {written.info.frames} frames, {len(chosen)} were written; render it again."
            )
        curve = measured.profile.curve if measured else plan.profile.curve if plan.profile else None
        here = [r for r in patches if r.patch.frame in chosen and curve and comparable(r, curve)]
        flat = here or _patches_of_middle(source, chosen, curve)
        pipeline = Pipeline(Footage(source), plan)
        flat = [r for r in flat if pipeline.covered(r.patch.region).shortest >= LEAST_PIECE]
        return DeliveryReport(
            path=str(target.path),
            format=target.format.title,
            frames=len(chosen),
            first_frame=chosen.start,
            patches=[_written_patch(r.patch, pipeline, written, chosen) for r in flat],
            look_baked=not plan.look.plain,
            damaged=sorted(damaged & set(chosen)),
        )
    finally:
        written.close()


def _written_patch(patch: Patch, pipeline: Pipeline, written: Source, chosen: range) -> PatchBeforeAfter:
    """A patch of the source and what stands in its place in what was written."""
    number = pipeline.footage.info.first_number + patch.frame - written.info.first_number
    n = number if written.info.kind == "sequence" else patch.frame - chosen.start
    source = pipeline.reference.frame(patch.frame, patch.region)
    return patch_before_after(patch, source, written.read(n)[pipeline.covered(patch.region).slices])


def _patches_of_middle(source: Source, chosen: range, curve: NoiseCurve | None) -> list[PatchReading]:
    """Patches of the middle of a shot that can tell what is left, by the shot's curve or that of these frames."""
    middle = chosen.start + len(chosen) // 2
    few = range(max(middle - 2, chosen.start), min(middle + 3, chosen.stop))
    try:
        reading = measure_noise(source, frames=few)
    except BadInput:  # nothing in these frames can hold noise
        return []
    return [r for r in reading.patches if comparable(r, curve or reading.profile.curve)]
