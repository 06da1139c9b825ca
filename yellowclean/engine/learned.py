"""Small networks that learned from drawn pictures alone (see training/), run by OpenCV over planes of any size.

They are layers alone: what comes out of a pixel depends on its surroundings only, to the bit. Those that make
pictures have no constants added, so that they do the same at any exposure (Mohan, Kadkhodaie, Simoncelli and
Fernandez-Granda 2020).
"""

from __future__ import annotations

import threading
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from .frames import Array

WEIGHTS = Path(__file__).parent / "weights"

MOST_PIXELS = 1 << 19
"""Pixels that pass through a network at once: it holds dozens of planes of them, and more than once."""

_one_at_a_time = threading.Lock()


def of_four(large: Array) -> Array:
    """A plane's pixels as four planes of half the size (Shi, Caballero, Huszár et al. 2016)."""
    return np.stack([large[k // 2 :: 2, k % 2 :: 2] for k in range(4)])


def as_one(four: Array) -> Array:
    """Four planes as the pixels of one of twice the size."""
    height, width = four.shape[1:]
    return np.ascontiguousarray(four.reshape(2, 2, height, width).transpose(2, 0, 3, 1)).reshape(
        2 * height, 2 * width
    )


def detail(plane: Array, coarse_px: float) -> Array:
    """A plane less its blur of that deviation: what networks that make pictures are given."""
    coarse: Array = cv2.GaussianBlur(plane, (0, 0), coarse_px)
    return plane - coarse


def applied_both_ways(name: str, given: Array, reach: int) -> Array:
    """The mean of what a network finds in planes and in their negative, so that bright is treated like dark and
    nothing is found where there is nothing; the last plane is a deviation, which has no sign."""
    negative = np.concatenate([-given[:-1], given[-1:]])
    found, opposite = (applied(name, planes, reach) for planes in (given, negative))
    return np.float32(0.5) * (found - opposite)


def applied(name: str, given: Array, reach: int) -> Array:
    """What the network `name` makes of planes, C×H×W, mirrored at their rims; its layers see `reach` pixels to each
    side."""
    height, width = given.shape[1:]
    beyond = np.stack([cv2.copyMakeBorder(p, *4 * (reach,), cv2.BORDER_REFLECT_101) for p in given])
    rows, inside = max(MOST_PIXELS // width // 2, 1) * 2, slice(reach, -reach or None)  # even: layers may halve
    bands = [
        _through(name, beyond[:, first : first + rows + 2 * reach])[:, inside, inside]
        for first in range(0, height, rows)
    ]
    return np.concatenate(bands, axis=1)


def _through(name: str, given: Array) -> Array:
    with _one_at_a_time:
        network = _network(name)
        network.setInput(np.ascontiguousarray(given[None]))
        made: Array = network.forward()[0]
    return made


@cache
def _network(name: str) -> cv2.dnn.Net:
    return cv2.dnn.readNetFromONNX(str(WEIGHTS / f"{name}.onnx"))
