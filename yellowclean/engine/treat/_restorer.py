"""What a small network sees of compressed footage: a frame, those beside it brought to it along the motion, what
the classical treatment made of it, and the coding error. All is in units of that error; luma is four interleaved
planes of half the size, beside the planes of colour."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from ..frames import CV_SCALE, Array

WEIGHTS = Path(__file__).with_name("restorer.onnx")
"""Trained by `training/compression.py` on synthetic clips alone; under the licence of this project."""

PLANES = 6
"""Four of luma and two of colour."""

CHANNELS = 4 * PLANES + 1
MOST = 8.0
"""Errors beyond which a difference is no coding error."""

AROUND = 9
"""Pixels a side of the mean that structure is told against."""

LEAST_ERROR = 1.0 / CV_SCALE


def apart(planes: Array) -> Array:
    """3×H×W (even sides) as 6×H/2×W/2."""
    luma, colours = planes[0], planes[1:]
    quarters = [luma[y::2, x::2] for y in (0, 1) for x in (0, 1)]
    halves = [(c[::2, ::2] + c[1::2, ::2] + c[::2, 1::2] + c[1::2, 1::2]) / 4 for c in colours]
    return np.stack(quarters + halves).astype(np.float32)


def together(planes: Array) -> Array:
    """6×h×w as 3×2h×2w, colour repeated."""
    height, width = planes.shape[1:]
    whole = np.empty((3, 2 * height, 2 * width), np.float32)
    for k, (y, x) in enumerate(((0, 0), (0, 1), (1, 0), (1, 1))):
        whole[0, y::2, x::2] = planes[k]
        whole[1:, y::2, x::2] = planes[4:]
    return whole


def unit(error: Array) -> Array:
    """The error by which planes are scaled, 6×H/2×W/2."""
    return apart(np.broadcast_to(np.maximum(error, LEAST_ERROR), (3, *error.shape)))


def inputs(here: Array, beside: Sequence[Array], classical: Array, error: Array) -> Array:
    """CHANNELS×H/2×W/2 of planes 3×H×W; `beside` are the frames before and after, as they lie here."""
    scale = unit(error)
    known = apart(classical)
    coarse = np.stack([cv2.blur(plane, (AROUND, AROUND), borderType=cv2.BORDER_REFLECT_101) for plane in known])
    seen = [apart(planes) - known for planes in (here, *beside)] + [known - coarse]
    told = np.concatenate([np.clip(planes / scale, -MOST, MOST) for planes in seen])
    return np.concatenate([told, np.log2(scale[:1] * np.float32(CV_SCALE)) / 4]).astype(np.float32)


STRIP, HALO = 128, 6
"""Rows of half the size at a time, and as many as its layers reach beyond them."""

_one_at_a_time = threading.Lock()


@cache
def _network() -> Any:
    return cv2.dnn.readNetFromONNX(str(WEIGHTS))


def second_opinion(here: Array, beside: Sequence[Array], classical: Array, error: Array) -> Array:
    """The planes, 3×H×W, as the network would have them; it changes colour in half the size."""
    change = np.empty((PLANES, here.shape[1] // 2, here.shape[2] // 2), np.float32)
    seen = inputs(here, beside, classical, error)
    for top in range(0, change.shape[1], STRIP):
        first, last = max(top - HALO, 0), min(top + STRIP + HALO, change.shape[1])
        with _one_at_a_time:
            network = _network()
            network.setInput(seen[None, :, first:last])
            made = network.forward()[0]
        change[:, top : top + STRIP] = made[:, top - first : top - first + STRIP]
    planes: Array = classical + together(change * unit(error))
    return planes
