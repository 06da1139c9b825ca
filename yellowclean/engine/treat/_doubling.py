"""A grey picture at twice its size, from one frame, by a network that learned from drawn pictures alone.

The network (see training/enlarge.py) is given the picture less its own coarse part, and has no constants added: it
does the same at any exposure and level (Mohan, Kadkhodaie, Simoncelli and Fernandez-Granda 2020). What it hands
back is what bicubic interpolation misses, a plane for each of the four pixels that a pixel becomes (Shi, Caballero,
Huszár et al. 2016). OpenCV runs it.
"""

from __future__ import annotations

import threading
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from ..frames import Array

WEIGHTS = Path(__file__).parent / "weights" / "enlarge.onnx"

COARSE_PX = 2.0
"""Deviation of the blur that leaves the coarse part."""

LAYERS_REACH = 8
"""Pixels of the given picture to each side that the network's layers see."""

REACH = LAYERS_REACH + 4 * int(COARSE_PX)
"""Pixels to each side that decide a pixel: OpenCV cuts the blur off at four deviations."""

MOST_PIXELS = 1 << 19
"""Pixels that pass through the network at once: it holds thirty-two planes of them, and more than once."""

_one_at_a_time = threading.Lock()


def seen(plane: Array, sigma: Array) -> Array:
    """What the network is given, 2×H×W: detail, and the deviation of its noise (H×W), in the units of the plane."""
    coarse = cv2.GaussianBlur(plane, (0, 0), COARSE_PX)
    return np.stack([plane - coarse, sigma]).astype(np.float32)


def plainly(plane: Array) -> Array:
    """A plane at twice its size by bicubic interpolation."""
    height, width = plane.shape
    return np.asarray(cv2.resize(plane, (2 * width, 2 * height), interpolation=cv2.INTER_CUBIC), np.float32)


def of_four(large: Array) -> Array:
    """A plane's pixels as four planes of half the size."""
    return np.stack([large[k // 2 :: 2, k % 2 :: 2] for k in range(4)])


def doubled(plane: Array, sigma: Array) -> Array:
    """A grey plane, H×W, at twice its size; `sigma` (H×W) is the deviation of its white noise."""
    large, (height, width), beyond = plainly(plane), plane.shape, 4 * (LAYERS_REACH,)
    given = np.stack([cv2.copyMakeBorder(p, *beyond, cv2.BORDER_REFLECT_101) for p in seen(plane, sigma)])
    rows = max(MOST_PIXELS // width, 1)
    inside = slice(LAYERS_REACH, -LAYERS_REACH)
    for first in range(0, height, rows):
        missed = _missed(given[:, first : first + rows + 2 * LAYERS_REACH])[:, inside, inside]
        for k, pixels in enumerate(missed):
            large[2 * first + k // 2 : 2 * (first + rows) : 2, k % 2 :: 2] += pixels
    return large


def _missed(given: Array) -> Array:
    with _one_at_a_time:
        network = _network()
        network.setInput(np.ascontiguousarray(given[None]))
        made: Array = network.forward()[0]
    return made


@cache
def _network() -> cv2.dnn.Net:
    return cv2.dnn.readNetFromONNX(str(WEIGHTS))
