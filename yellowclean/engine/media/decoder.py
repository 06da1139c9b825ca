"""Decoding frame by frame in any order: from a key frame on, and around what is damaged."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path
from typing import TypeVar

import av
import av.error
import numpy as np
from av.container import InputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from ..errors import BadInput
from ..frames import Array
from .boundary import reason_of
from .index import Index, index_of
from .info import checked_size, most_pixels
from .quantisers import CELL, coding_error, jpeg_step, of_step

STILL_CONTAINERS = {"image2", "png_pipe", "jpeg_pipe", "tiff_pipe", "dpx_pipe", "exr_pipe", "gif", "tty"}
"""Demuxers that open what is not a video: single pictures are sequences of one, text is nothing."""

CONTAINERS = ",".join([
    "matroska", "mov", "mxf", "mxf_opatom", "avi", "mpegts", "mpeg", "mpegvideo", "asf", "flv", "ogg", "nut", "gxf",
    "dv", "ivf", "obu", "h264", "hevc", "m4v", "mjpeg", "yuv4mpegpipe", "wtv", "vc1", "dnxhd", "cine", "mlv",
    "lxf", "vvc", "av1", "rm",
    *sorted(STILL_CONTAINERS),
])  # fmt: skip
"""Demuxers that are let at a file. No script that names other files, no network, no device."""

TRIES = 4
"""Key frames further back from which a frame is tried that does not come."""

JPEG = "mjpeg"
TELLING = {"h264", "mpeg1video", "mpeg2video", "mpeg4", JPEG}
"""Decoders that tell the quantisers, or whose packets do."""

REMEMBERED = 64
"""Frames whose coding errors are kept: a few kilobytes each."""

T = TypeVar("T")

MADE_UP = "damaged: the decoder made up what is missing"
LOST = "lost: it cannot be decoded, the nearest one that can stands in its place"
FOLLOWS = "predicted from a damaged frame"


class Decoder:
    """One decoder of a file's picture; not to be shared between threads without a lock.

    `damage` says what was wrong with the frames that came so far. Asked to `tell`, it keeps in `errors` what the
    stream tells of the coding error in the last frames, 8-bit codes by cells; with more than one thread the decoder
    hands out frames whose quantisers it has not yet read. Without `grain` none is laid over the picture, where the
    stream has a table of it."""

    def __init__(
        self, path: Path, kept_index: Path | None = None, *, index: Index | None = None, tell: bool = False,
        grain: bool = True,
    ) -> None:  # fmt: skip
        self._path = path
        self.container = opened(path)
        try:
            self.stream = _video_stream(self.container, path, tell=tell, grain=grain)
            self.index = index or index_of(self.container, self.stream, path, kept_index)
        except BaseException:
            self.close()
            raise
        self.tells = tell
        self.damage: dict[int, str] = {}
        self.errors: OrderedDict[int, Array] = OrderedDict()
        self._numbers = {time: n for n, time in enumerate(self.index.times)}
        self._frames: Iterator[VideoFrame] | None = None
        self._next = -1
        self._tainted = False
        self._steps: OrderedDict[int, float] = OrderedDict()

    def close(self) -> None:
        self._frames = None
        self.container.close()

    def frame(self, n: int) -> VideoFrame:
        """Frame n: onwards from where the decoder stands if that is near, else from a key frame. Where it
        does not come from any key frame before it, the nearest frame that came."""
        near = n if self.index.counted else self._next + 12
        if self._frames is None or not self._next <= n <= near:
            self._seek(n, back=0)
        nearest: VideoFrame | None = None
        for back in range(1, TRIES + 2):
            found, frame = self._advance_to(n)
            if found:
                assert frame is not None
                return frame
            nearest = frame or nearest
            if back > len(self.index.keys):
                break
            self._seek(n, back)
        if nearest is None:
            raise BadInput(
                f"{self._path}: frame {n} cannot be decoded;"
                " the file is damaged or cut short there. Copy it again from the original."
            )
        self.damage[n] = LOST
        return nearest

    def _seek(self, n: int, back: int) -> None:
        """Stand at the `back`-th key frame before frame n; past the first one, at the very start."""
        self._frames = None
        earlier = [key for key in self.index.keys if key <= self.index.times[n]]
        start = earlier[-1 - back] if back < len(earlier) and not self.index.counted else None
        first = 0 if self.index.counted else min(self.index.times[0], 0)  # program streams seek past their first
        self.container.seek(start or first, stream=self.stream, backward=True)
        self._frames = self._decoding_from(start)
        self._next, self._tainted = 0, False

    def _decoding_from(self, start: int | None) -> Iterator[VideoFrame]:
        """Decode from the key frame at time `start` on. Containers may land well before it; what lies
        between is read but not decoded."""
        for packet in self.container.demux(self.stream):
            if start is not None:
                if packet.pts != start:
                    continue
                start = None
            if self.tells and self.stream.codec_context.name == JPEG and packet.pts is not None:
                _keep(self._steps, packet.pts, jpeg_step(bytes(packet)) or 0.0)
            try:
                yield from packet.decode()
            except av.error.FFmpegError:
                self._tainted = True  # a frame will be missing; the rest may still come

    def _advance_to(self, n: int) -> tuple[bool, VideoFrame | None]:
        """Decode until frame n comes: whether it came, and it or the last one before it."""
        assert self._frames is not None
        last: VideoFrame | None = None
        try:
            for frame in self._frames:
                number = self._next if self.index.counted else self._numbers.get(frame.pts or 0)
                if number is None:
                    continue
                self._next = number + 1
                self._note_damage(number, frame)
                if self.tells:
                    self._note_error(number, frame)
                if number <= n or last is None:
                    last = frame
                if number == n:
                    return True, frame
                if number > n:
                    break
        except av.error.FFmpegError:
            pass
        self._frames = None
        return False, last

    def _note_damage(self, number: int, frame: VideoFrame) -> None:
        """Remember what the decoder says of a frame. What follows a damaged frame is predicted from it, up to
        the next frame that stands for itself."""
        if frame.is_corrupt:
            self.damage[number] = MADE_UP
            self._tainted = True
        elif frame.key_frame:
            self._tainted = False
        elif self._tainted:
            self.damage.setdefault(number, FOLLOWS)

    def _note_error(self, number: int, frame: VideoFrame) -> None:
        """Remember what the stream tells of the error in a frame, for as long as it may be asked for soon."""
        told: Array | None = None
        if self.stream.codec_context.name == JPEG:
            step = self._steps.get(frame.pts or 0)
            told = of_step(np.full((-(-frame.height // CELL), -(-frame.width // CELL)), step)) if step else None
        elif self.stream.codec_context.name in TELLING:
            told = coding_error(frame, max(c.bits for c in frame.format.components))
        if told is not None:
            _keep(self.errors, number, told.astype(np.float32))


def _keep(kept: OrderedDict[int, T], key: int, value: T) -> None:
    kept[key] = value
    while len(kept) > REMEMBERED:
        kept.popitem(last=False)


def opened(path: Path) -> InputContainer:
    """The container of a file. Raises `BadInput` for what is none, or none of pictures."""
    try:
        container = av.open(f"file:{path}", metadata_errors="replace", options={"format_whitelist": CONTAINERS})
    except (av.error.FFmpegError, ValueError) as error:
        raise BadInput(
            f"{path}: cannot be read as video ({reason_of(error)}); the file is not footage,"
            " is damaged, or is cut short. Copy it again from the original."
        ) from error
    if container.format.name.split(",")[0] in STILL_CONTAINERS:
        container.close()
        raise BadInput(f"{path}: is not a video; name a numbered sequence as name_####{path.suffix}.")
    return container


def _video_stream(container: InputContainer, path: Path, *, tell: bool, grain: bool) -> VideoStream:
    streams = [s for s in container.streams.video if not s.disposition & 0x400]  # attached pictures
    if not streams:
        raise BadInput(f"{path}: holds no video stream; choose the file with the picture.")
    stream = streams[0]
    if stream.codec_context is None:
        raise BadInput(f"{path}: its video codec is not one that can be decoded here; transcode it first.")
    checked_size(str(path), stream.width, stream.height)
    if stream.format is None:
        raise BadInput(f"{path}: does not say how its picture is stored; the file is damaged. Copy it again.")
    stream.thread_type = "SLICE" if tell else "AUTO"
    options = {"max_pixels": str(most_pixels())}  # a header in mid-stream may name another size
    if tell or not grain:
        options["export_side_data"] = "venc_params" if tell else "film_grain"
    stream.codec_context.options = {**stream.codec_context.options, **options}
    return stream
