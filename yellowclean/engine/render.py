"""Rendering: frames of a plan into a file, at once or in segments that may be made anywhere.

A segment is a piece of the result on disk: for video a lossless file of the very samples that the encoder
is given when all are there, for a sequence the final pictures themselves. Either way gives the same file. Each
appears under its name only when complete, so that interrupted work takes up where it stopped.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Iterator, Sequence
from contextlib import ExitStack, closing
from pathlib import Path

from .errors import BadInput
from .footage import Footage
from .format import Format
from .frames import Frame, Progress, StopCheck, never, raise_if
from .media import Destination, MediaInfo, Source, VideoSource, files_of, open_writer
from .media.dither import Dither
from .media.formats import OutputFormat
from .media.planes import Plane
from .media.sequence_writer import outputs_of, write_member
from .media.video_writer import VideoWriter, coding_for
from .media.writers import Writer
from .noise.grain_table import grain_table
from .parallel import ahead
from .pipeline import Pipeline
from .plan import Plan

SEGMENT_FRAMES = 6

DITHERED_BITS = 12
"""Depth up to which the codes of a file are coarse enough to show."""


def render(
    source: Source, plan: Plan, target: Destination, *, frames: range | None = None,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Write the plan's result. Nothing is left under the asked name unless all of it was written.

    Raises `BadInput` where the result would lie over the source or a file that the plan reads.
    """
    render_together(source, plan, [target], frames=frames, progress=progress, stopped=stopped)


def render_together(
    source: Source, plan: Plan, targets: Sequence[Destination], *, frames: range | None = None,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Write the plan's result in several formats, each frame computed once. See `render`."""
    chosen = frames_in(source.info, frames)
    for target in targets:
        check_apart(outputs_of(target, source.info, chosen), inputs_of(source.info, plan))
    pipeline = Pipeline(Footage(source), plan, stopped=stopped)
    with ExitStack() as opened:
        writers = list[tuple[Writer, OutputFormat]]()
        for target in targets:
            writers.append((_writer(target, pipeline, chosen), target.format))
            opened.enter_context(writers[-1][0])
        frames_made = opened.enter_context(closing(_made(pipeline, chosen, [fmt for _, fmt in writers])))
        for count, made in enumerate(frames_made):
            raise_if(stopped)
            for (each, _), result in zip(writers, made, strict=True):
                each.write(*result)
            if progress:
                progress((count + 1) / len(chosen))


def _made(
    pipeline: Pipeline, chosen: range, formats: Sequence[OutputFormat]
) -> Generator[list[tuple[Frame, Dither | None]], None, None]:
    """Each of the frames as every format takes it, the next one made while the last is written. To be closed: the
    source may not be, while a frame is made."""
    return ahead(lambda n: [delivered(pipeline, n, fmt) for fmt in formats], chosen)


def delivered(pipeline: Pipeline, n: int, fmt: OutputFormat) -> tuple[Frame, Dither | None]:
    """Frame n of the result as it is handed to a writer, and the dither with which it goes to the codes of the
    format. What no step changed is written as it was, unless the source has more bits or another format."""
    result, plan, info = pipeline.frame(n), pipeline.plan, pipeline.footage.info
    if plan.dither == "none" or fmt.bits > DITHERED_BITS:
        return result, None
    where = None
    if fmt.bits >= info.bit_depth and plan.look.plain and pipeline.format == pipeline.formats[0]:
        where = (result != pipeline.reference.frame(n)).any(axis=2)
    return result, Dither(n, plan.dither == "moving", where)


def told_of_result(info: MediaInfo, plan: Plan) -> MediaInfo:
    """What the files of a plan's result say, where the source's say `info`."""
    result = plan.formats(Format.of(info))[-1]
    return result.converted(plan.look.leaves(result.encoding)).told(info)


def _writer(target: Destination, pipeline: Pipeline, chosen: range, *, audio: bool = True) -> Writer:
    """A writer of the frames `chosen` of a plan's result."""
    source, plan = pipeline.footage.source, pipeline.plan
    info = source.info
    told = told_of_result(info, plan).model_copy(update={"frames": len(chosen)})
    audio_from = Path(info.path) if audio and info.kind == "video" and info.audio else None
    grain = _grain(target.format, pipeline, told, chosen)
    return open_writer(target, told, first=chosen.start, audio_from=audio_from, source=source, grain=grain)


def check_grain(plan: Plan, fmt: OutputFormat) -> None:
    """Raises `BadInput` where a format is to carry grain that nobody measured."""
    if fmt.grain and plan.profile is None:
        raise BadInput(
            f"{fmt.name}: the plan has no noise profile to make grain of; measure the shot, or write av1."
        )


def _grain(fmt: OutputFormat, pipeline: Pipeline, told: MediaInfo, chosen: range) -> str:
    """The table of the grain that the plan took out, for a format that carries one."""
    check_grain(pipeline.plan, fmt)
    if not fmt.grain:
        return ""
    look = pipeline.seen_under(pipeline.plan.look)
    left = pipeline.noise_left(chosen[len(chosen) // 2])
    settled = fmt.for_source(told)
    return grain_table(pipeline.around.profile, told, coding_for(settled, told), look.applied, left=left)


def frames_in(info: MediaInfo, frames: range | None) -> range:
    """The asked frames, checked against the shot."""
    chosen = range(info.frames) if frames is None else frames
    if chosen.start >= chosen.stop or chosen.start < 0 or chosen.stop > info.frames:
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
    named = [*plan.luts, managed.config if managed else ""]
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


def segment_files(folder: Path, chosen: range, fmt: OutputFormat) -> list[Path]:
    """All that segments of the chosen frames leave in a folder, finished and not, whether it is there or not."""
    files = [segment_file(folder, piece) for piece in segments(chosen)]
    return [*files, *(Destination(file, fmt).partial for file in files)]


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
        with closing(_made(pipeline, piece, [target.format])) as made:
            for n, [(frame, dither)] in zip(piece, made, strict=True):
                raise_if(stopped)
                write_member(target, told, n, frame, source, dither)
        return
    lossless = Destination(segment_file(folder, piece), target.format.segment(told))
    writing = _writer(lossless, pipeline, piece, audio=False)
    with writing as writer, closing(_made(pipeline, piece, [target.format])) as made:
        for [result] in made:
            raise_if(stopped)
            writer.write(*result)


def assemble(
    target: Destination, source: Source, plan: Plan, chosen: range, folder: Path,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Join all segments into the target and give it its name."""
    if target.format.is_sequence:
        target.publish()
        return
    with _writer(target, Pipeline(Footage(source), plan, stopped=stopped), chosen) as writer:
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
