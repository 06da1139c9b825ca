"""The index of a video file: the time of every frame, found once and kept beside the work."""

from __future__ import annotations

import itertools
import re
from fractions import Fraction
from pathlib import Path

import av.error
from av.container import InputContainer
from av.video.stream import VideoStream
from pydantic import BaseModel, ConfigDict, ValidationError

from ..errors import BadInput
from .boundary import reason_of

LOOKED_AT = 24
"""Frames decoded to see whether the times of a file can be trusted."""

_DURATION = re.compile(r"(\d{1,6}):(\d{1,2}):(\d{1,2}(?:\.\d{1,12})?)$")

MISSING_END = 0.02
"""Share of the promised duration that may be absent before a file counts as cut short."""


class Index(BaseModel):
    """Presentation times in order, and those at which decoding can start; both in stream units. A file
    with wrong times is `counted`: its frames are numbered as they come out of the decoder."""

    model_config = ConfigDict(frozen=True)

    times: list[int]
    keys: list[int]
    counted: bool = False


class _Kept(BaseModel):
    """An index as it is kept, with the stamp of the file that it was made of."""

    stamp: str
    index: Index


def stamp_of(file: Path) -> str:
    """What tells a file from another under its name without reading it: size and time of change."""
    status = file.stat()
    return f"{status.st_size}:{status.st_mtime_ns}"


def index_of(container: InputContainer, stream: VideoStream, path: Path, kept: Path | None) -> Index:
    """The index kept in the file `kept` if it still fits; else a new one, which is then kept there.

    Raises `BadInput` for files that hold no picture, are damaged or are cut short.
    """
    stamp = stamp_of(path)
    if kept is not None and kept.is_file():
        try:
            known = _Kept.model_validate_json(kept.read_bytes())
        except ValidationError:
            known = None
        if known is not None and known.stamp == stamp:
            return known.index
    found = _scanned(container, stream, path)
    if kept is not None:
        kept.parent.mkdir(parents=True, exist_ok=True)
        begun = kept.with_name(f".{kept.name}.partial")
        begun.write_text(_Kept(stamp=stamp, index=found).model_dump_json())
        begun.replace(kept)
    return found


def _scanned(container: InputContainer, stream: VideoStream, path: Path) -> Index:
    """Read every packet's time without decoding."""
    times, keys, promised = [], [], _promised_end(container, stream)
    untimed = 0
    try:
        for packet in container.demux(stream):
            if packet.size == 0 or packet.is_discard:
                continue
            if packet.is_corrupt:
                raise BadInput(f"{path}: is cut short or damaged; copy it again from the original.")
            if packet.pts is None:
                untimed += 1
                continue
            times.append(packet.pts)
            if packet.is_keyframe:
                keys.append(packet.pts)
    except av.error.FFmpegError as error:
        raise BadInput(f"{path}: is damaged ({reason_of(error)}); copy it again from the original.") from error
    if untimed:
        times, keys = _times_by_decoding(container, stream)
    if not times:
        raise BadInput(f"{path}: holds no picture; the file is empty or cut short.")
    if not untimed and not _comes_in_order(container, stream):
        times, _ = _times_by_decoding(container, stream, counted=True)
        return Index(times=times, keys=times[:1], counted=True)
    times.sort()
    start, last = times[0], times[-1]
    if promised is not None and (promised - last) > max(MISSING_END * (promised - start), 3 * _period(stream)):
        raise BadInput(
            f"{path}: is cut short: {float((last - start) * (stream.time_base or 1)):.2f} s of"
            f" {float((promised - start) * (stream.time_base or 1)):.2f} s are there."
            " Copy it again from the original."
        )
    return Index(times=times, keys=sorted(keys) or times[:1])


def _comes_in_order(container: InputContainer, stream: VideoStream) -> bool:
    """Whether the first frames come out of the decoder in the order of their times. In files whose
    container lost the reordering of B-frames they do not; codecs without any need no look."""
    if not stream.codec_context.codec.reorder:
        return True
    container.seek(0, stream=stream)
    try:
        found = [frame.pts for frame in itertools.islice(container.decode(stream), LOOKED_AT)]
    except av.error.FFmpegError:
        return True  # reading will tell what is wrong
    known = [time for time in found if time is not None]
    return all(a < b for a, b in itertools.pairwise(known))


def _times_by_decoding(
    container: InputContainer, stream: VideoStream, *, counted: bool = False
) -> tuple[list[int], list[int]]:
    """For containers whose packets carry no presentation time, or wrong ones: the decoder's own times, or
    the mere numbers of the frames."""
    container.seek(0, stream=stream)
    times = [n if counted else frame.pts for n, frame in enumerate(container.decode(stream))]
    known = [time for time in times if time is not None]
    return known, known[:1]


def _period(stream: VideoStream) -> float:
    rate = stream.average_rate or stream.guessed_rate or Fraction(25)
    return float(1 / (rate * (stream.time_base or Fraction(1, 1000))))


def _promised_end(container: InputContainer, stream: VideoStream) -> float | None:
    """The end the header promises, in stream units; None when it promises nothing for the picture."""
    base = stream.time_base or Fraction(1, 1000)
    told = _DURATION.match(stream.metadata.get("DURATION", ""))
    if told:
        return float((int(told[1]) * 3600 + int(told[2]) * 60 + Fraction(told[3])) / base)
    if stream.duration:
        return float(stream.duration + (stream.start_time or 0))
    if container.duration and not container.streams.audio:
        return float(Fraction(container.duration + (container.start_time or 0), 1_000_000) / base)
    return None
