"""A grey picture at twice its size, from one frame, by a network that learned from drawn pictures alone.

The network (see training/enlarge.py) is given the picture less its own coarse part. What it hands back is what
bicubic interpolation misses, a plane for each of the four pixels that a pixel becomes.
"""

from __future__ import annotations

import cv2
import numpy as np

from ..frames import Array
from ..learned import applied, as_one, detail

COARSE_PX = 2.0
"""Deviation of the blur that leaves the coarse part."""

LAYERS_REACH = 8
"""Pixels of the given picture to each side that the network's layers see."""

REACH = LAYERS_REACH + 4 * int(COARSE_PX)
"""Pixels to each side that decide a pixel: OpenCV cuts the blur off at four deviations."""


def seen(plane: Array, sigma: Array) -> Array:
    """What the network is given, 2×H×W: detail, and the deviation of its noise (H×W), in the units of the plane."""
    return np.stack([detail(plane, COARSE_PX), sigma]).astype(np.float32)


def plainly(plane: Array) -> Array:
    """A plane at twice its size by bicubic interpolation."""
    height, width = plane.shape
    return np.asarray(cv2.resize(plane, (2 * width, 2 * height), interpolation=cv2.INTER_CUBIC), np.float32)


def doubled(plane: Array, sigma: Array) -> Array:
    """A grey plane, H×W, at twice its size; `sigma` (H×W) is the deviation of its white noise."""
    return plainly(plane) + as_one(applied("enlarge", seen(plane, sigma), LAYERS_REACH))
