"""Video files through PyAV: described, indexed by presentation time, read frame-exact in any order."""

from __future__ import annotations

import itertools
import threading
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal, cast

import av
import av.error
import numpy as np
from av.container import InputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from ..errors import BadInput
from ..frames import Array, Frame, luma
from .info import AudioTrack, MediaInfo, Source, checked_frame, checked_size
from .planes import Coding, Plane, levels, rgb_from_gbr, rgb_from_yuv
from .tags import KR_KB, MATRICES, PRIMARIES, TRANSFERS, UNKNOWN, camera_tags

STILL_CONTAINERS = {"image2", "png_pipe", "jpeg_pipe", "tiff_pipe", "dpx_pipe", "exr_pipe", "gif", "tty"}
"""Demuxers that open what is not a video: single pictures are sequences of one, text is nothing."""

LOOKED_AT = 24
"""Frames decoded to see whether the times of a file can be trusted."""

MISSING_END = 0.02
"""Share of the promised duration that may be absent before a file counts as cut short."""


@dataclass(frozen=True, slots=True)
class _Index:
    """Presentation times in order, and those at which decoding can start; both in stream units. A file
    with wrong times is `counted`: its frames are numbered as they come out of the decoder."""

    times: list[int]
    keys: list[int]
    counted: bool = False


class VideoSource(Source):
    """A video file. Reading is serialised by a lock; one decoder serves all callers."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = threading.Lock()
        self._container = _opened(path)
        try:
            self._stream = _video_stream(self._container, path)
            self._index = _indexed(self._container, self._stream, path)
            self.info = _described(self._container, self._stream, self._index, path)
            self._coding, notes = _coding(self._stream, self.info.matrix)
            self.info = self.info.model_copy(update={"notes": self.info.notes + notes})
            self._numbers = {time: n for n, time in enumerate(self._index.times)}
            self._frames: Iterator[VideoFrame] | None = None
            self._next = -1
            self.read(0)
        except BaseException:
            self._container.close()
            raise

    def read(self, n: int) -> Frame:
        checked_frame(self.info, n)
        with self._lock:
            return self._converted(self._decoded(n))

    def luma(self, n: int) -> Array:
        checked_frame(self.info, n)
        if self.info.matrix != "bt709" or not _readable_planes(self._stream.format):
            return luma(self.read(n))
        with self._lock:
            frame = self._decoded(n)
            self._check_size(frame)
            return levels(_plane(frame, 0), self._coding)

    def close(self) -> None:
        with self._lock:
            self._frames = None
            self._container.close()

    def _decoded(self, n: int) -> VideoFrame:
        """Frame n: onwards from where the decoder stands if that is near, else from a key frame."""
        near = n if self._index.counted else self._next + 12
        if self._frames is None or not self._next <= n <= near:
            self._seek(n, back=0)
        back = 0
        while True:
            frame = self._advance_to(n)
            if frame is not None:
                return frame
            back += 1
            if back > len(self._index.keys):
                raise BadInput(
                    f"{self._path}: frame {n} cannot be decoded;"
                    " the file is damaged or cut short there. Copy it again from the original."
                )
            self._seek(n, back)

    def _seek(self, n: int, back: int) -> None:
        """Stand at the `back`-th key frame before frame n; past the first one, at the very start."""
        self._frames = None
        earlier = [key for key in self._index.keys if key <= self._index.times[n]]
        start = earlier[-1 - back] if back < len(earlier) and not self._index.counted else None
        first = 0 if self._index.counted else self._index.times[0]
        self._container.seek(start or first, stream=self._stream, backward=True)
        self._frames = self._decoding_from(start)
        self._next = 0

    def _decoding_from(self, start: int | None) -> Iterator[VideoFrame]:
        """Decode from the key frame at time `start` on. Containers may land well before it; what lies
        between is read but not decoded."""
        for packet in self._container.demux(self._stream):
            if start is not None:
                if packet.pts != start:
                    continue
                start = None
            yield from packet.decode()

    def _advance_to(self, n: int) -> VideoFrame | None:
        """Decode until frame n comes; None when it was passed or the stream ended."""
        assert self._frames is not None
        try:
            for frame in self._frames:
                number = self._next if self._index.counted else self._numbers.get(frame.pts or 0)
                if number is None:
                    continue
                self._next = number + 1
                if number == n:
                    return frame
                if number > n:
                    break
        except av.error.FFmpegError:
            pass
        self._frames = None
        return None

    def _check_size(self, frame: VideoFrame) -> None:
        if (frame.width, frame.height) != (self.info.width, self.info.height):
            raise BadInput(
                f"{self._path}: the picture size changes from {self.info.width}×{self.info.height} to"
                f" {frame.width}×{frame.height} within the file; split it at the change."
            )

    def _converted(self, frame: VideoFrame) -> Frame:
        self._check_size(frame)
        planar = frame.format.name if _readable_planes(frame.format) else _planar_equivalent(frame.format)
        if planar != frame.format.name:
            frame = frame.reformat(format=planar)
        planes = [_plane(frame, k) for k in range(min(len(frame.planes), 3))]
        if len(planes) < 3:
            return np.repeat(levels(planes[0], self._coding)[..., None], 3, axis=2)
        if frame.format.is_rgb:
            return rgb_from_gbr(planes[0], planes[1], planes[2], self._coding)
        return rgb_from_yuv(planes[0], planes[1], planes[2], self._coding)


def _opened(path: Path) -> InputContainer:
    try:
        container = av.open(str(path), metadata_errors="replace")
    except (av.error.FFmpegError, ValueError) as error:
        raise BadInput(
            f"{path}: cannot be read as video ({_reason(error)}); the file is not footage,"
            " is damaged, or is cut short. Copy it again from the original."
        ) from error
    if container.format.name.split(",")[0] in STILL_CONTAINERS:
        container.close()
        raise BadInput(f"{path}: is not a video; name a numbered sequence as name_####{path.suffix}.")
    return container


def _reason(error: BaseException) -> str:
    return str(getattr(error, "strerror", None) or error).strip().rstrip(".") or type(error).__name__


def _video_stream(container: InputContainer, path: Path) -> VideoStream:
    streams = [s for s in container.streams.video if not s.disposition & 0x400]  # attached pictures
    if not streams:
        raise BadInput(f"{path}: holds no video stream; choose the file with the picture.")
    stream = streams[0]
    if stream.codec_context is None:
        raise BadInput(f"{path}: its video codec is not one that can be decoded here; transcode it first.")
    checked_size(str(path), stream.width, stream.height)
    stream.thread_type = "AUTO"
    return stream


def _indexed(container: InputContainer, stream: VideoStream, path: Path) -> _Index:
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
        raise BadInput(f"{path}: is damaged ({_reason(error)}); copy it again from the original.") from error
    if untimed:
        times, keys = _times_by_decoding(container, stream)
    if not times:
        raise BadInput(f"{path}: holds no picture; the file is empty or cut short.")
    if not untimed and not _comes_in_order(container, stream):
        times, _ = _times_by_decoding(container, stream, counted=True)
        return _Index(times, times[:1], counted=True)
    times.sort()
    start, last = times[0], times[-1]
    if promised is not None and (promised - last) > max(MISSING_END * (promised - start), 3 * _period(stream)):
        raise BadInput(
            f"{path}: is cut short: {float((last - start) * (stream.time_base or 1)):.2f} s of"
            f" {float((promised - start) * (stream.time_base or 1)):.2f} s are there."
            " Copy it again from the original."
        )
    return _Index(times, sorted(keys) or times[:1])


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
    text = stream.metadata.get("DURATION")
    if text:
        hours, minutes, seconds = text.split(":")
        return float((int(hours) * 3600 + int(minutes) * 60 + Fraction(seconds)) / base)
    if stream.duration:
        return float(stream.duration + (stream.start_time or 0))
    if container.duration and not container.streams.audio:
        return float(Fraction(container.duration + (container.start_time or 0), 1_000_000) / base)
    return None


def _described(container: InputContainer, stream: VideoStream, index: _Index, path: Path) -> MediaInfo:
    context, fmt = stream.codec_context, stream.format
    notes: list[str] = []
    rgb = fmt.is_rgb or fmt.name.startswith("pal")
    matrix = "rgb" if rgb else MATRICES.get(int(context.colorspace), UNKNOWN)
    if matrix not in KR_KB and not rgb:
        matrix = "bt709" if stream.height > 576 or stream.width > 1024 else "smpte170m"
        notes.append(f"No colour matrix in the file; {matrix} was assumed from the picture size.")
    full = rgb or int(context.color_range) == 2 or fmt.name.startswith("yuvj")
    if len(fmt.components) < 3 and int(context.color_range) != 1:
        full = True
    if index.counted:
        notes.append("The times in the file are wrong; frames are numbered as they are decoded, seeking is slow.")
    variable = _is_variable(index.times)
    if variable:
        notes.append("Frames come at uneven times (variable frame rate); numbers count frames, not time.")
    rate = stream.average_rate or stream.guessed_rate or Fraction(25)
    camera, gain = camera_tags([container.metadata, stream.metadata])
    return MediaInfo(
        path=str(path),
        kind="video",
        width=stream.width,
        height=stream.height,
        frames=len(index.times),
        rate=str(Fraction(rate)),
        bit_depth=max(c.bits for c in fmt.components),
        chroma=_chroma(stream),
        codec=context.name,
        pixel_format=fmt.name,
        range="full" if full else "limited",
        primaries=PRIMARIES.get(int(context.color_primaries), UNKNOWN),
        transfer=TRANSFERS.get(int(context.color_trc), UNKNOWN),
        matrix=matrix,
        bit_rate=stream.bit_rate or container.bit_rate or None,
        timecode=_timecode(container, stream),
        camera=camera,
        gain=gain,
        variable_rate=variable,
        audio=[
            AudioTrack(codec=a.codec_context.name, rate=a.codec_context.sample_rate, channels=a.channels)
            for a in container.streams.audio
        ],
        notes=notes,
    )


def _timecode(container: InputContainer, stream: VideoStream) -> str | None:
    data = [s.metadata for s in container.streams.data]
    for metadata in [stream.metadata, container.metadata, *data]:
        for key, value in metadata.items():
            if key.lower() == "timecode":
                return value
    return None


def _is_variable(times: list[int]) -> bool:
    steps = Counter(b - a for a, b in itertools.pairwise(times))
    if len(steps) < 2:
        return False
    usual = steps.most_common(1)[0][0]
    # Rounding to a coarse time base (milliseconds) makes neighbouring steps; those are no variation.
    odd = sum(count for step, count in steps.items() if abs(step - usual) > max(1, 0.05 * usual))
    return odd > 0.02 * len(times)


def _chroma(stream: VideoStream) -> Literal["4:2:0", "4:2:2", "4:4:4", "4:1:1", "4:4:0", "rgb", "gray"]:
    fmt = stream.format
    if fmt.is_rgb or fmt.name.startswith("pal"):
        return "rgb"
    if len(fmt.components) < 3:
        return "gray"
    across, down = fmt.chroma_width(64), fmt.chroma_height(64)
    names = {(32, 32): "4:2:0", (32, 64): "4:2:2", (64, 64): "4:4:4", (16, 64): "4:1:1", (64, 32): "4:4:0"}
    return cast(Any, names.get((across, down), "4:2:0"))


def _coding(stream: VideoStream, matrix: str) -> tuple[Coding, list[str]]:
    """The coding of the planes that `_converted` will see, after any change to a planar layout."""
    fmt = stream.format
    if not _readable_planes(fmt):
        fmt = av.VideoFormat(_planar_equivalent(fmt), 16, 16)
    full = fmt.is_rgb or int(stream.codec_context.color_range) == 2 or stream.format.name.startswith("yuvj")
    if len(fmt.components) < 3:
        full = int(stream.codec_context.color_range) != 1
    notes = []
    if int(stream.codec_context.color_range) == 0 and not full:
        notes.append("No range tag in the file; limited range (64-940 in 10 bits) was assumed.")
    return Coding(matrix, max(c.bits for c in fmt.components), full), notes


def _readable_planes(fmt: av.VideoFormat) -> bool:
    """Whether each component stands alone in its plane, little-endian, 8 to 16 bits, chroma halved at most."""
    parts = fmt.components[:3]
    if fmt.is_bit_stream or fmt.has_palette or (fmt.is_big_endian and parts[0].bits > 8):
        return False
    if any(c.bits < 8 or c.bits > 16 for c in parts) or fmt.name.startswith(("gbrpf", "grayf", "p0", "y2")):
        return False
    if len(parts) == 1:
        return True
    if len(parts) < 3 or sorted(c.plane for c in parts) != [0, 1, 2]:
        return False
    if fmt.name.endswith(("msble", "msbbe")):
        return False
    return fmt.is_rgb or (fmt.chroma_width(64) in {32, 64} and fmt.chroma_height(64) in {32, 64}) is True


def _planar_equivalent(fmt: av.VideoFormat) -> str:
    """A planar layout that holds the same samples."""
    bits = max(c.bits for c in fmt.components)
    if fmt.is_rgb or fmt.has_palette:
        return "gbrp" if bits <= 8 else "gbrp16le"
    if len(fmt.components) < 3:
        return "gray" if bits <= 8 else "gray16le"
    halves = fmt.chroma_width(64) < 64, fmt.chroma_height(64) < 64
    layout = {(True, True): "yuv420p", (True, False): "yuv422p"}.get(halves, "yuv444p")
    return layout + ("" if bits <= 8 else "10le" if bits == 10 else "12le" if bits <= 12 else "16le")


def _plane(frame: VideoFrame, k: int) -> Plane:
    """Plane k as a view of H×W samples, without the padding of its lines."""
    plane = frame.planes[k]
    kind = np.uint8 if max(c.bits for c in frame.format.components) <= 8 else np.uint16
    lines = np.frombuffer(memoryview(plane), kind).reshape(plane.height, -1)
    return cast(Plane, lines[:, : plane.width])
