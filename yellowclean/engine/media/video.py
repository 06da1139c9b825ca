"""Video files through PyAV: read frame-exact in any order."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import cast

import cv2
import numpy as np
from av.video.frame import VideoFrame

from ..errors import BadInput
from ..frames import Array, Frame, luma
from .boundary import guarded
from .decoder import TELLING, Decoder
from .describe import coding_of, described, planar_equivalent, readable_planes
from .info import Source, checked_frame, upright
from .planes import Coding, Plane, levels, rgb_from_gbr, rgb_from_yuv
from .quantisers import CELL


class VideoSource(Source):
    """A video file. Reading is serialised by a lock; one decoder serves all callers, and another, opened when it is
    first needed, those who ask for coding errors."""

    def __init__(self, path: Path, kept_index: Path | None = None, *, grain: bool = True) -> None:
        """`kept_index` is where the file's index is kept between openings, if anywhere; without `grain` the picture
        is read without the film grain that the stream has a table of."""
        self._path = path
        self._lock, self._telling = threading.Lock(), threading.Lock()
        self._decoder = Decoder(path, kept_index, grain=grain)
        self._teller: Decoder | None = None
        try:
            container, stream = self._decoder.container, self._decoder.stream
            self.info = described(container, stream, self._decoder.index, path)
            self._coding, notes = coding_of(stream, self.info.matrix)
            self.info = self.info.model_copy(update={"notes": self.info.notes + notes})
            self._turn(self._decoder.frame(0).rotation)
            self.read(0)
        except BaseException:
            self.close()
            raise

    @guarded
    def read(self, n: int) -> Frame:
        checked_frame(self.info, n)
        with self._lock:
            planes = self._planes(self._decoder.frame(n))
        if len(planes) < 3:
            picture = np.repeat(levels(planes[0], self._coding)[..., None], 3, axis=2)
        elif self.info.matrix == "rgb":
            picture = rgb_from_gbr(planes[0], planes[1], planes[2], self._coding)
        else:
            picture = rgb_from_yuv(planes[0], planes[1], planes[2], self._coding, self.info.siting)
        return upright(picture, self.info.rotation)

    @guarded
    def luma(self, n: int) -> Array:
        checked_frame(self.info, n)
        if self.info.matrix != "bt709" or not readable_planes(self._decoder.stream.format):
            return luma(self.read(n))
        with self._lock:
            frame = self._decoder.frame(n)
            self._check_size(frame)
            return upright(levels(_plane(frame, 0), self._coding), self.info.rotation)

    @guarded
    def planes(self, n: int) -> tuple[Plane, ...]:
        """The samples of frame `n` as they are stored, each plane H×W; not turned upright."""
        checked_frame(self.info, n)
        with self._lock:
            return tuple(plane.copy() for plane in self._planes(self._decoder.frame(n)))

    def damage(self, n: int) -> str:
        return self._decoder.damage.get(n, "")

    @guarded
    def coding_error(self, n: int) -> Array | None:
        checked_frame(self.info, n)
        if self._decoder.stream.codec_context.name not in TELLING:
            return None
        with self._telling:
            if self._teller is None:
                self._teller = Decoder(self._path, index=self._decoder.index, tell=True)
            if n not in self._teller.errors:
                self._teller.frame(n)
            cells = self._teller.errors.get(n)
        if cells is None:
            return None
        width, height = self.info.stored_size
        # from cell to cell in a ramp, so that work that follows it draws no blocks
        size = cells.shape[1] * CELL, cells.shape[0] * CELL
        error = np.asarray(cv2.resize(cells, size, interpolation=cv2.INTER_LINEAR), np.float32)[:height, :width]
        eight = Coding(self.info.matrix, 8, self.info.range == "full")
        return upright(error / np.float32(eight.luma_scale[1]), self.info.rotation)

    def close(self) -> None:
        with self._lock, self._telling:
            self._decoder.close()
            if self._teller is not None:
                self._teller.close()

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


def _plane(frame: VideoFrame, k: int) -> Plane:
    """Plane k as a view of H×W samples, without the padding of its lines."""
    plane = frame.planes[k]
    kind = np.uint8 if max(c.bits for c in frame.format.components) <= 8 else np.uint16
    lines = np.frombuffer(memoryview(plane), kind).reshape(plane.height, -1)
    return cast(Plane, lines[:, : plane.width])
