"""What enlarging adds, held against frames that had no part in it.

Each frame of a moving picture is seen through another grid of pixels: what an enlarged frame holds more than its
own small one foretells how another will look otherwise than that. What does not come true is in no frame.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ...frames import Array, Region
from ...motion import Track
from ...noise.profile import NoiseProfile

BESIDE = 2
"""Pixels beside the sides of a picture that interpolation needs."""

FINER = 2
"""Times as fine as the enlarged picture it is looked at, for a pixel's light to be summed."""

SURE_PX = 0.5
"""Doubt about the motion up to which it is trusted, in pixels of the small frame."""

BAND = 64
"""Rows of the small frame that are looked at together: as finely as they are, all of them would be too many."""

WHOLLY = 0.999
"""Share of a pixel from which on all of it can be trusted."""


class Small(NamedTuple):
    """A frame's luma (H×W) before it was enlarged, and its place there."""

    plane: Array
    place: Region


class Large(NamedTuple):
    """The same after it, its place there, and how many pixels across and down were made of one."""

    plane: Array
    place: Region
    times: tuple[float, float]


class Foretold(NamedTuple):
    """By how much another frame looks otherwise than this one, brought there along the motion: as it would by what
    enlarging added, and as it does; where that can be trusted; the other frame's luma (H×W each), its noise and
    place; and the motion from here to there."""

    told: Array
    true: Array
    sure: npt.NDArray[np.bool_]
    other: Array
    profile: NoiseProfile
    place: Region
    there: Track

    def found_at(self) -> tuple[Array, Array]:
        """Where each pixel of this frame is found in the other."""
        down, across = np.indices(self.other.shape, np.float32)
        field = self.there.over(self.place)
        return across + field[..., 0], down + field[..., 1]


def foretold(
    small: Small, large: Large, other: Array, profile: NoiseProfile, here: Track, there: Track
) -> Foretold:
    """What an enlarged frame foretells of `other` (its luma before it is enlarged, over the same place, and its
    noise); the motion from there to here and back, in pixels of the small frame."""
    pictures, height = (large.plane, _as_large(small, large)), other.shape[0]
    bands = [_brought(pictures, small, large, here, top, min(BAND, height - top)) for top in range(0, height, BAND)]
    larger, plain, sure = np.concatenate(bands, axis=1)
    return Foretold(larger - plain, other - plain, sure > WHOLLY, other, profile, small.place, there)


def _as_large(small: Small, large: Large) -> Array:
    """The small frame in as many pixels, by bicubic interpolation."""
    down, across = np.indices(large.plane.shape, np.float32)
    times_x, times_y = (np.float32(times) for times in large.times)
    x = (across + np.float32(large.place.x + 0.5)) / times_x - np.float32(small.place.x + 0.5)
    y = (down + np.float32(large.place.y + 0.5)) / times_y - np.float32(small.place.y + 0.5)
    return cv2.remap(small.plane, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)


def _brought(pictures: tuple[Array, ...], small: Small, large: Large, here: Track, top: int, rows: int) -> Array:
    """Pictures in large pixels, and where they can be trusted, through some rows of the pixels of another frame:
    planes×rows×W."""
    place, (height, width) = small.place, small.plane.shape
    finer = math.ceil(FINER * max(large.times))
    wide = Region(*(finer * side for side in (place.x, place.y + top, width, rows)))
    field = here.scaled(finer, finer).over(wide)
    down, across = np.indices(field.shape[:2], np.float32)
    x = (across + field[..., 0] + np.float32(0.5)) / finer - np.float32(0.5)
    y = (down + field[..., 1] + np.float32(0.5)) / finer + np.float32(top - 0.5)
    sure = (x >= BESIDE) & (y >= BESIDE) & (x <= width - 1 - BESIDE) & (y <= height - 1 - BESIDE)
    sure &= field[..., 2] < finer * SURE_PX
    times_x, times_y = (np.float32(times) for times in large.times)
    at_x = (x + np.float32(place.x + 0.5)) * times_x - np.float32(large.place.x + 0.5)
    at_y = (y + np.float32(place.y + 0.5)) * times_y - np.float32(large.place.y + 0.5)
    brought = [cv2.remap(p, at_x, at_y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE) for p in pictures]
    fine = *brought, sure.astype(np.float32)
    return np.stack([cv2.resize(plane, (width, rows), interpolation=cv2.INTER_AREA) for plane in fine])
