"""The moments of interlaced footage: each frame is woven of two, whose lines alternate. The lines of a moment stay
as they are, to the last bit; the others are made by FFmpeg's bwdif from them and from the frames beside."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import cast

import av
import numpy as np
from av.filter import Graph

from ..cache import Memory
from ..errors import BadInput
from ..frames import Array, Frame, as_uint16
from .info import Lines, MediaInfo, Source, checked_frame
from .timecode import doubled

LAYOUT = "gbrp16le"
LEAST_SIDE = 4
"""Pixels a side below which the filter takes no picture."""

KEPT_FRAMES = 5
"""Three woven frames and two moments: read in order, each is made once."""


def moments(frames: Sequence[Frame], first: Lines) -> tuple[Frame, Frame]:
    """The two moments of the middle one of three frames (H×W×3), `LEAST_SIDE` pixels a side or more; `first` are
    the lines of the earlier."""
    here = frames[1]
    found = []
    for made, start in zip(_filtered(frames, first), (0, 1) if first == "top" else (1, 0), strict=True):
        made[start::2] = here[start::2]
        found.append(made)
    return found[0], found[1]


def _filtered(frames: Sequence[Frame], first: Lines) -> list[Array]:
    """Both moments of the middle one through the filter, in 16 bits."""
    height, width = frames[0].shape[:2]
    graph = Graph()
    start = graph.add_buffer(width=width, height=height, format=av.VideoFormat(LAYOUT), time_base=Fraction(1, 25))
    work = graph.add("bwdif", f"mode=send_field:parity={'tff' if first == 'top' else 'bff'}:deint=all")
    end = graph.add("buffersink")
    start.link_to(work)
    work.link_to(end)
    graph.configure()
    for n, frame in enumerate(frames):
        picture = av.VideoFrame.from_ndarray(as_uint16(frame), format=LAYOUT)
        picture.pts, picture.time_base = n, Fraction(1, 25)
        graph.push(picture)
    graph.push(None)
    middle = [cast(av.VideoFrame, graph.pull()) for _ in range(4)][2:]
    return [picture.to_ndarray().astype(np.float32) / np.float32(65535) for picture in middle]


class Moments(Source):
    """Interlaced footage with each field as a frame: twice as many, at twice the rate. It owns the source. Raises
    `BadInput` for pictures that are too small to have fields."""

    def __init__(self, source: Source, first: Lines) -> None:
        self._source, self._first, self.info = source, first, _told(source.info, first)
        self._memory = Memory(KEPT_FRAMES * 12 * self.info.width * self.info.height)

    def read(self, n: int) -> Frame:
        checked_frame(self.info, n)
        return self._memory.get(("moments", n // 2), lambda: self._moments(n // 2), _bytes)[n % 2]

    def _moments(self, n: int) -> tuple[Frame, Frame]:
        beside = [min(max(n + k, 0), self._source.info.frames - 1) for k in (-1, 0, 1)]
        return moments([self._woven(k) for k in beside], self._first)

    def _woven(self, n: int) -> Frame:
        return self._memory.get(("woven", n), lambda: self._source.read(n), _bytes)

    def damage(self, n: int) -> str:
        return self._source.damage(n // 2)

    def coding_error(self, n: int) -> Array | None:
        return self._source.coding_error(n // 2)

    def close(self) -> None:
        self._source.close()


def _bytes(held: Frame | tuple[Frame, Frame]) -> int:
    return sum(frame.nbytes for frame in held) if isinstance(held, tuple) else held.nbytes


def _told(info: MediaInfo, first: Lines) -> MediaInfo:
    if min(info.width, info.height) < LEAST_SIDE:
        raise BadInput(f"{info.path}: {info.width}×{info.height} pixels are too few to be woven of two fields.")
    timecode = doubled(info.timecode, info.fps) if info.timecode else None
    more = {"frames": 2 * info.frames, "skipped": 2 * info.skipped, "rate": str(2 * info.fps)}
    return info.model_copy(update={**more, "timecode": timecode, "fields": first})
