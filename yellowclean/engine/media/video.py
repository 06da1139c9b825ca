"""Video files through PyAV: read frame-exact in any order."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path
from typing import TypeVar, cast

import av
import av.error
import cv2
import numpy as np
from av.container import InputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from ..errors import BadInput
from ..frames import Array, Frame, luma
from .describe import coding_of, described, planar_equivalent, readable_planes
from .index import index_of, reason_of
from .info import Source, checked_frame, checked_size, upright
from .planes import Coding, Plane, levels, rgb_from_gbr, rgb_from_yuv
from .quantisers import CELL, coding_error, jpeg_step, of_step

STILL_CONTAINERS = {"image2", "png_pipe", "jpeg_pipe", "tiff_pipe", "dpx_pipe", "exr_pipe", "gif", "tty"}
"""Demuxers that open what is not a video: single pictures are sequences of one, text is nothing."""

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


class VideoSource(Source):
    """A video file. Reading is serialised by a lock; one decoder serves all callers."""

    def __init__(self, path: Path, kept_index: Path | None = None) -> None:
        """`kept_index` is where the file's index is kept between openings, if anywhere."""
        self._path = path
        self._lock = threading.Lock()
        self._container = _opened(path)
        try:
            self._stream = _video_stream(self._container, path)
            self._index = index_of(self._container, self._stream, path, kept_index)
            self.info = described(self._container, self._stream, self._index, path)
            self._coding, notes = coding_of(self._stream, self.info.matrix)
            self.info = self.info.model_copy(update={"notes": self.info.notes + notes})
            self._numbers = {time: n for n, time in enumerate(self._index.times)}
            self._frames: Iterator[VideoFrame] | None = None
            self._next = -1
            self._damage: dict[int, str] = {}
            self._tainted = False
            self._errors: OrderedDict[int, Array] = OrderedDict()
            self._steps: OrderedDict[int, float] = OrderedDict()
            self._turn(self._decoded(0).rotation)
            self.read(0)
        except BaseException:
            self._container.close()
            raise

    def read(self, n: int) -> Frame:
        checked_frame(self.info, n)
        with self._lock:
            planes = self._planes(self._decoded(n))
        if len(planes) < 3:
            picture = np.repeat(levels(planes[0], self._coding)[..., None], 3, axis=2)
        elif self.info.matrix == "rgb":
            picture = rgb_from_gbr(planes[0], planes[1], planes[2], self._coding)
        else:
            picture = rgb_from_yuv(planes[0], planes[1], planes[2], self._coding, self.info.siting)
        return upright(picture, self.info.rotation)

    def luma(self, n: int) -> Array:
        checked_frame(self.info, n)
        if self.info.matrix != "bt709" or not readable_planes(self._stream.format):
            return luma(self.read(n))
        with self._lock:
            frame = self._decoded(n)
            self._check_size(frame)
            return upright(levels(_plane(frame, 0), self._coding), self.info.rotation)

    def planes(self, n: int) -> tuple[Plane, ...]:
        """The samples of frame `n` as they are stored, each plane H×W; not turned upright."""
        checked_frame(self.info, n)
        with self._lock:
            return tuple(plane.copy() for plane in self._planes(self._decoded(n)))

    def damage(self, n: int) -> str:
        return self._damage.get(n, "")

    def coding_error(self, n: int) -> Array | None:
        checked_frame(self.info, n)
        if self._stream.codec_context.name not in TELLING:
            return None
        with self._lock:
            if n not in self._errors:
                self._decoded(n)
            cells = self._errors.get(n)
        if cells is None:
            return None
        width, height = self.info.stored_size
        # from cell to cell in a ramp, so that work that follows it draws no blocks
        size = cells.shape[1] * CELL, cells.shape[0] * CELL
        error = np.asarray(cv2.resize(cells, size, interpolation=cv2.INTER_LINEAR), np.float32)[:height, :width]
        eight = Coding(self.info.matrix, 8, self.info.range == "full")
        return upright(error / np.float32(eight.luma_scale[1]), self.info.rotation)

    def close(self) -> None:
        with self._lock:
            self._frames = None
            self._container.close()

    def _turn(self, degrees: int) -> None:
        """Take over the rotation that the first frame names."""
        rotation = degrees % 360
        if rotation in {90, 180, 270}:
            upright_now = self.info.model_copy(update={"rotation": rotation})
            width, height = upright_now.stored_size
            told = {"width": width, "height": height, "pixel_aspect": str(upright_now.stored_aspect)}
            self.info = upright_now.model_copy(update=told)
        elif rotation:
            note = f"The file asks to be turned by {degrees}°, which is no right angle; it is shown as stored."
            self.info = self.info.model_copy(update={"notes": [*self.info.notes, note]})

    def _decoded(self, n: int) -> VideoFrame:
        """Frame n: onwards from where the decoder stands if that is near, else from a key frame. Where it
        does not come from any key frame before it, the nearest frame that came."""
        near = n if self._index.counted else self._next + 12
        if self._frames is None or not self._next <= n <= near:
            self._seek(n, back=0)
        nearest: VideoFrame | None = None
        for back in range(1, TRIES + 2):
            found, frame = self._advance_to(n)
            if found:
                assert frame is not None
                return frame
            nearest = frame or nearest
            if back > len(self._index.keys):
                break
            self._seek(n, back)
        if nearest is None:
            raise BadInput(
                f"{self._path}: frame {n} cannot be decoded;"
                " the file is damaged or cut short there. Copy it again from the original."
            )
        self._damage[n] = LOST
        return nearest

    def _seek(self, n: int, back: int) -> None:
        """Stand at the `back`-th key frame before frame n; past the first one, at the very start."""
        self._frames = None
        earlier = [key for key in self._index.keys if key <= self._index.times[n]]
        start = earlier[-1 - back] if back < len(earlier) and not self._index.counted else None
        first = 0 if self._index.counted else min(self._index.times[0], 0)  # program streams seek past their first
        self._container.seek(start or first, stream=self._stream, backward=True)
        self._frames = self._decoding_from(start)
        self._next, self._tainted = 0, False

    def _decoding_from(self, start: int | None) -> Iterator[VideoFrame]:
        """Decode from the key frame at time `start` on. Containers may land well before it; what lies
        between is read but not decoded."""
        for packet in self._container.demux(self._stream):
            if start is not None:
                if packet.pts != start:
                    continue
                start = None
            if self._stream.codec_context.name == JPEG and packet.pts is not None:
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
                number = self._next if self._index.counted else self._numbers.get(frame.pts or 0)
                if number is None:
                    continue
                self._next = number + 1
                self._note_damage(number, frame)
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
            self._damage[number] = MADE_UP
            self._tainted = True
        elif frame.key_frame:
            self._tainted = False
        elif self._tainted:
            self._damage.setdefault(number, FOLLOWS)

    def _note_error(self, number: int, frame: VideoFrame) -> None:
        """Remember what the stream tells of the error in a frame, for as long as it may be asked for soon."""
        told: Array | None = None
        if self._stream.codec_context.name == JPEG:
            step = self._steps.get(frame.pts or 0)
            told = of_step(np.full((-(-frame.height // CELL), -(-frame.width // CELL)), step)) if step else None
        elif self._stream.codec_context.name in TELLING:
            told = coding_error(frame, self.info.bit_depth)
        if told is not None:
            _keep(self._errors, number, told.astype(np.float32))

    def _check_size(self, frame: VideoFrame) -> None:
        width, height = self.info.stored_size
        if (frame.width, frame.height) != (width, height):
            raise BadInput(
                f"{self._path}: the picture size changes from {width}×{height} to"
                f" {frame.width}×{frame.height} within the file; split it at the change."
            )

    def _planes(self, frame: VideoFrame) -> list[Plane]:
        """The frame's planes, in a planar layout, without alpha."""
        self._check_size(frame)
        if not readable_planes(frame.format):
            frame = frame.reformat(format=planar_equivalent(frame.format))
        return [_plane(frame, k) for k in range(min(len(frame.planes), 3))]


def _keep(kept: OrderedDict[int, T], key: int, value: T) -> None:
    kept[key] = value
    while len(kept) > REMEMBERED:
        kept.popitem(last=False)


def _opened(path: Path) -> InputContainer:
    try:
        container = av.open(str(path), metadata_errors="replace")
    except (av.error.FFmpegError, ValueError) as error:
        raise BadInput(
            f"{path}: cannot be read as video ({reason_of(error)}); the file is not footage,"
            " is damaged, or is cut short. Copy it again from the original."
        ) from error
    if container.format.name.split(",")[0] in STILL_CONTAINERS:
        container.close()
        raise BadInput(f"{path}: is not a video; name a numbered sequence as name_####{path.suffix}.")
    return container


def _video_stream(container: InputContainer, path: Path) -> VideoStream:
    streams = [s for s in container.streams.video if not s.disposition & 0x400]  # attached pictures
    if not streams:
        raise BadInput(f"{path}: holds no video stream; choose the file with the picture.")
    stream = streams[0]
    if stream.codec_context is None:
        raise BadInput(f"{path}: its video codec is not one that can be decoded here; transcode it first.")
    checked_size(str(path), stream.width, stream.height)
    stream.thread_type = "AUTO"
    if stream.codec_context.name in TELLING:
        stream.codec_context.options = {**stream.codec_context.options, "export_side_data": "venc_params"}
    return stream


def _plane(frame: VideoFrame, k: int) -> Plane:
    """Plane k as a view of H×W samples, without the padding of its lines."""
    plane = frame.planes[k]
    kind = np.uint8 if max(c.bits for c in frame.format.components) <= 8 else np.uint16
    lines = np.frombuffer(memoryview(plane), kind).reshape(plane.height, -1)
    return cast(Plane, lines[:, : plane.width])
