"""Frames and regions: the two things every part of the engine passes around.

A frame is a float32 array H×W×3 of encoded R'G'B' values, nominal range 0-1; values outside
that range (super-white, noise below black) are kept. A region is a rectangle in whole pixels.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from .errors import Cancelled

Array = npt.NDArray[np.floating[Any]]
Frame = npt.NDArray[np.float32]
Progress = Callable[[float], None]
StopCheck = Callable[[], bool]

CV_SCALE = 1023.0
"""10-bit code values at full scale: what a frame value of 1.0 is called on screen."""

LUMA_WEIGHTS = np.array([0.2126, 0.7152, 0.0722], np.float32)
"""Y' of ITU-R BT.709-6, item 3.2 (rounded set, as printed)."""


def never() -> bool:
    """The stop check of work that nobody can cancel."""
    return False


def raise_if(stopped: StopCheck) -> None:
    """Raise `Cancelled` when the caller no longer wants the result."""
    if stopped():
        raise Cancelled("The work was cancelled; nothing was kept.")


@dataclass(frozen=True, slots=True)
class Region:
    """A rectangle of pixels: left, top, width, height."""

    x: int
    y: int
    width: int
    height: int

    @property
    def right(self) -> int:
        return self.x + self.width

    @property
    def bottom(self) -> int:
        return self.y + self.height

    @property
    def shortest(self) -> int:
        """The shorter of its sides."""
        return min(self.width, self.height)

    @property
    def slices(self) -> tuple[slice, slice]:
        """Index of this region in an array of the whole frame."""
        return slice(self.y, self.bottom), slice(self.x, self.right)

    def grown(self, margin: int) -> Region:
        return Region(self.x - margin, self.y - margin, self.width + 2 * margin, self.height + 2 * margin)

    def snapped(self, grid: int) -> Region:
        """The smallest region on multiples of `grid` that covers this one."""
        x, y = self.x // grid * grid, self.y // grid * grid
        return Region(x, y, -(-self.right // grid) * grid - x, -(-self.bottom // grid) * grid - y)

    def middle(self, width: int, height: int) -> Region:
        """The middle of it, no larger than that."""
        across, down = min(self.width, width), min(self.height, height)
        return Region(self.x + (self.width - across) // 2, self.y + (self.height - down) // 2, across, down)

    def clipped(self, width: int, height: int) -> Region:
        """The part that lies inside a frame of that size (possibly empty)."""
        x, y = min(max(self.x, 0), width), min(max(self.y, 0), height)
        return Region(x, y, max(min(self.right, width) - x, 0), max(min(self.bottom, height) - y, 0))

    def holds(self, other: Region) -> bool:
        """Whether all of another region lies inside."""
        across = self.x <= other.x and other.right <= self.right
        return across and self.y <= other.y and other.bottom <= self.bottom

    def within(self, outer: Region) -> Region:
        """This region in coordinates that start at the corner of `outer`."""
        return Region(self.x - outer.x, self.y - outer.y, self.width, self.height)


def extended(piece: Array, inside: Region, wanted: Region) -> Array:
    """Mirror `piece` (which covers `inside`) outwards until it covers `wanted`.

    Mirroring about the edge pixel keeps both level and gradient, so that nothing darkens or
    is pulled in at a frame border.
    """
    top, left = inside.y - wanted.y, inside.x - wanted.x
    bottom, right = wanted.bottom - inside.bottom, wanted.right - inside.right
    if not (top or left or bottom or right):
        return np.ascontiguousarray(piece)
    grown: Array = cv2.copyMakeBorder(piece, top, bottom, left, right, cv2.BORDER_REFLECT_101)
    return grown.reshape(wanted.height, wanted.width, *piece.shape[2:])


def scaled(frame: Array, across: float, down: float | None = None) -> Array:
    """Area-averaged reduction, `down` by as much as `across` where it is not given. Nothing is enlarged, and a
    scale of 1 returns the frame itself."""
    across, down = min(across, 1.0), min(across if down is None else down, 1.0)
    if across == down == 1:
        return frame
    height, width = frame.shape[:2]
    size = max(round(width * across), 1), max(round(height * down), 1)
    reduced: Array = cv2.resize(frame, size, interpolation=cv2.INTER_AREA)
    return reduced


def weighted(frame: Frame, weights: Array) -> Array:
    """Sum over the channels, H×W, term by term: a matrix product may add in another order in another region."""
    plane: Array = frame[..., 0] * weights[0] + frame[..., 1] * weights[1] + frame[..., 2] * weights[2]
    return plane


def luma(frame: Frame) -> Array:
    """Y' with BT.709 weights, H×W."""
    return weighted(frame, LUMA_WEIGHTS)


def as_uint16(frame: Frame) -> npt.NDArray[np.uint16]:
    """Full-range 16-bit integers; values outside 0-1 are clipped, NaN becomes 0."""
    clean = np.nan_to_num(frame, nan=0.0, posinf=1.0, neginf=0.0)
    return np.rint(np.clip(clean, 0, 1) * 65535.0).astype(np.uint16)


def _bayer(rounds: int) -> npt.NDArray[np.int64]:
    """2^rounds square of thresholds, each once, spread as evenly as may be (ordered dither, Bayer 1973)."""
    pattern = np.zeros((1, 1), np.int64)
    for _ in range(rounds):
        pattern = np.block([[4 * pattern, 4 * pattern + 2], [4 * pattern + 3, 4 * pattern + 1]])
    return pattern


BAYER = _bayer(6)


def screen_dither(shape: tuple[int, int], x: int = 0, y: int = 0) -> Array:
    """H×W offsets of less than half an 8-bit code, for a picture whose corner lies at (x, y) of a fixed pattern.

    Added before rounding to 8 bits, they break the steps of smooth ramps; values that 8 bits hold stay as they are.
    """
    rows, columns = (np.arange(n) + start for n, start in zip(shape, (y, x), strict=True))
    pattern = BAYER[np.ix_(rows % 64, columns % 64)]
    return ((pattern + 0.5) / 4096 - 0.5).astype(np.float32) * np.float32(0.998 / 255)


def as_uint8(frame: Frame) -> npt.NDArray[np.uint8]:
    """Full-range 8-bit integers for the screen; clipped like `as_uint16`."""
    clean = np.nan_to_num(frame, nan=0.0, posinf=1.0, neginf=0.0)
    return np.rint(np.clip(clean, 0, 1) * 255.0).astype(np.uint8)
