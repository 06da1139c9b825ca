"""A source with what was found of it once: frames, motion, results of steps, in a memory that has a bound."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Hashable, Sequence
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt

from .cache import Memory
from .camera import Camera, camera_between, displaced_px, paced
from .frames import Array, Frame, Region
from .media import Source
from .media.info import WILDEST, tamed, wild
from .motion import Flow, Track, dense, prepared, rested, steadied
from .parallel import meanwhile, side_by_side

T = TypeVar("T")

MEMORY_BYTES = 1024 << 20
"""Decoded frames, motion and results of steps kept, so that going back is instant and nothing is computed twice. A
plan that looks at more frames at once has more kept."""

BESIDE_FRAMES_BYTES = 256 << 20

CAMERA_BYTES = 64

_numbers = itertools.count()


class Footage:
    """A source with its decoded frames, its motion and the results of steps, shared by all plans that look
    at it: two plans that begin alike compute their beginning once."""

    def __init__(self, source: Source, memory: Memory | None = None) -> None:
        """`memory` may be shared with other footage."""
        self.source, self.info = source, source.info
        self.whole = Region(0, 0, self.info.width, self.info.height)
        self.memory, self._number = memory or Memory(MEMORY_BYTES), next(_numbers)
        self._latest = self._coming = -1
        self._wild: dict[int, tuple[tuple[npt.NDArray[np.intp], ...], Frame]] = {}

    def hold(self, pixels: int) -> None:
        """Keep room for pictures of that many pixels in all at least."""
        self.memory.raise_limit(pixels * 12 + BESIDE_FRAMES_BYTES)

    def kept(self, key: Hashable, make: Callable[[], T], size_of: Callable[[T], int]) -> T:
        """A value of this footage, computed once."""
        return self.memory.get((self._number, key), make, size_of)

    def held(self, wanted: Callable[[Any], bool]) -> tuple[Any, Any] | None:
        """The key and value used last of those that are held of this footage and whose keys `wanted` names."""
        found = self.memory.newest(lambda key: key[0] == self._number and wanted(key[1]))
        return None if found is None else (found[0][1], found[1])

    def forget(self) -> None:
        """Give back the memory that this footage holds."""
        self.memory.forget(lambda key: bool(key[0] == self._number))

    def frame(self, n: int) -> Frame:
        """Source frame n; callers must not write into it. Where frames are asked for in order, the next one is read
        meanwhile."""
        before, self._latest = self._latest, n
        found = self._frame(n)
        if n == before + 1 and self._coming <= n < self.info.frames - 1:
            self._coming = n + 1
            meanwhile(lambda: self._frame(n + 1))
        elif n != before:
            self._coming = -1
        return found

    def _frame(self, n: int) -> Frame:
        return self.kept(("frame", n), lambda: self._read(n), _bytes)

    def _read(self, n: int) -> Frame:
        frame = self.source.read(n)
        if wild(frame):
            self._wild[n] = np.nonzero(np.abs(frame) > WILDEST), frame[np.abs(frame) > WILDEST]
        return tamed(frame)

    def with_wild(self, n: int, region: Region, result: Frame) -> Frame:
        """A result with the source's own wild values, which no treatment can reckon with, in their places."""
        if n not in self._wild:
            return result
        whole = np.full((self.info.height, self.info.width, 3), np.nan, np.float32)
        whole[self._wild[n][0]] = self._wild[n][1]
        part = whole[region.slices]
        return np.where(np.isnan(part), result, part)

    def coding_error(self, n: int) -> Array | None:
        """RMS error that the codec was let make in luma of source frame n, H×W; None where that is not told."""
        return self.kept(
            ("coding error", n), lambda: self.source.coding_error(n), lambda e: 0 if e is None else e.nbytes
        )

    def motion(self, n: int, neighbour: int) -> Track:
        """Motion from frame n to a neighbour, checked against the way back."""

        return self._checked(n, neighbour, None)

    def steadied(self, n: int, neighbour: int, among: Sequence[int] = (), error: float = 0.0) -> Track:
        """The same, but the camera's own wherever that explains the picture about as well: as the two frames show
        it or, where a codec made an `error` (RMS, of the value range), by its pace over the frames `among`."""
        frames = sorted({neighbour, *among}) if error else [neighbour]
        measured = {k - n: found for k in frames if (found := self._camera(n, k)) is not None}
        camera = paced(measured, neighbour - n, displaced_px(self._luma(n), error))
        return self._checked(n, neighbour, camera)

    def _checked(self, n: int, neighbour: int, camera: Camera | None) -> Track:
        back = None if camera is None else camera.back()

        def checked() -> Track:
            ways = (n, neighbour, camera), (neighbour, n, back)
            there, home = side_by_side(lambda way: self._steadied(*way), ways)
            return there.checked(home)

        return self.kept(("track", n, neighbour, camera), checked, lambda track: track.field.nbytes)

    def _steadied(self, n: int, neighbour: int, camera: Camera | None) -> Flow:
        if camera is None:
            return self._flow(n, neighbour)

        def found() -> Flow:
            return steadied(*self._pair(n, neighbour), self._flow(n, neighbour), camera)

        return self.kept(("steadied", n, neighbour, camera), found, lambda found: found.vectors.nbytes)

    def _camera(self, n: int, neighbour: int) -> Camera | None:
        """That of one way; back it is undone."""
        first, last = min(n, neighbour), max(n, neighbour)

        def found() -> Camera | None:
            return camera_between(*self._pair(first, last), self._dense(first, last))

        camera = self.kept(("camera", first, last), found, lambda _: CAMERA_BYTES)
        return camera if camera is None or n == first else camera.back()

    def _flow(self, n: int, neighbour: int) -> Flow:
        def found() -> Flow:
            return rested(*self._pair(n, neighbour), self._dense(n, neighbour), self.info.width)

        return self.kept(("flow", n, neighbour), found, lambda found: found.vectors.nbytes)

    def _dense(self, n: int, neighbour: int) -> Array:
        return self.kept(("dense", n, neighbour), lambda: dense(*self._pair(n, neighbour), self.info.width), _bytes)

    def _pair(self, n: int, neighbour: int) -> tuple[npt.NDArray[np.uint8], npt.NDArray[np.uint8]]:
        return self._luma(n), self._luma(neighbour)

    def _luma(self, n: int) -> npt.NDArray[np.uint8]:
        # `_frame`: pairs that motion is looked for in are no order to read ahead in
        return self.kept(("luma", n), lambda: prepared(self._frame(n)), _bytes)


def _bytes(array: npt.NDArray[Any]) -> int:
    return array.nbytes
