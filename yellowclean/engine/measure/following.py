"""Frames beside one, brought to it along the motion."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array
from ..motion import Flow, eight_bit, flow
from ..octaves import BLOCK
from ..shrinking import shrunk

Mask = npt.NDArray[np.bool_]

QUIET_CV = 2.0
"""Typical noise up to which a frame is told well enough alone."""

STANDS_OUT, LEFT = 2.7, 0.25
"""Deviations of the noise from which on what a sliding DCT finds is picture, and the share of the noise that its
shrinkage leaves, or a little more."""

DIFFERS, AROUND = 3.0, 2.0
"""Mean square of the difference around a pixel, in variances of the noise, up to which a neighbour is taken to show
the same (the noise of both makes two), and the deviation in pixels of what is around."""


def way_to(here: Array, other: Array) -> Flow:
    """The motion from one luma plane, H×W, to another."""
    return flow(eight_bit(here), eight_bit(other), here.shape[1], quick=True)


class Followed(NamedTuple):
    """A neighbour along the motion (H×W), where that leads out of the frame, and the motion (H×W×2, pixels)."""

    moved: Array
    outside: Mask
    vectors: Array


def followed(here: Array, other: Array, kernel: int = cv2.INTER_LINEAR) -> Followed:
    """Another luma plane, H×W, brought to one along the motion by one of OpenCV's kernels."""
    height, width = here.shape
    vectors = cv2.resize(way_to(here, other).vectors, (width, height), interpolation=cv2.INTER_LINEAR)
    y, x = np.indices((height, width), np.float32)
    to_x, to_y = x + vectors[..., 0], y + vectors[..., 1]
    moved = cv2.remap(other.astype(np.float32), to_x, to_y, kernel, borderMode=cv2.BORDER_REFLECT_101)
    return Followed(moved, (to_x < 0) | (to_x > width - 1) | (to_y < 0) | (to_y > height - 1), vectors)


def calmed(here: Array, others: Iterable[Array | None], sigma: Array) -> tuple[Array, Array]:
    """A luma plane, H×W, averaged with others where they show the same, and the deviation of what is left of its
    noise; a quiet one stays as it is."""
    if _quiet(sigma):
        return here, sigma
    total, weight = here.astype(np.float32), np.ones(here.shape, np.float32)
    for other in others:
        if other is not None:
            moved = followed(here, other, cv2.INTER_LANCZOS4).moved
            apart = cv2.GaussianBlur((moved - here) ** 2, (0, 0), AROUND)
            same = cv2.GaussianBlur((apart < DIFFERS * sigma**2).astype(np.float32), (0, 0), AROUND / 2)
            total, weight = total + same * moved, weight + same
    return total / weight, sigma / np.sqrt(weight)


def stilled(plane: Array, sigma: Array) -> tuple[Array, Array]:
    """A luma plane, H×W, without what of it does not stand out of white noise of deviation `sigma` (same shape),
    and the deviation of what is left; a quiet one stays as it is. What is fine and faint goes with the noise."""
    if _quiet(sigma):
        return plane, sigma
    height, width = plane.shape
    even, noise = (
        cv2.copyMakeBorder(part, 0, height % 2, 0, width % 2, cv2.BORDER_REPLICATE)
        for part in (plane.astype(np.float32), sigma.astype(np.float32))
    )
    local, white = np.ascontiguousarray(cv2.blur(noise, (9, 9))[::2, ::2]), np.ones(BLOCK**2, np.float32)
    guide = shrunk(even, None, white, local, STANDS_OUT).plane
    return shrunk(even, guide, white, local, STANDS_OUT).plane[:height, :width], np.float32(LEFT) * sigma


def _quiet(sigma: Array) -> bool:
    return float(np.median(sigma)) <= QUIET_CV / CV_SCALE
