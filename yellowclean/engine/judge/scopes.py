"""Scopes: how often a picture holds each level, where, and in which colour.

Levels are 10-bit code values. A little room below black and above white is kept, because noise goes there.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
import numpy.typing as npt

from ..colour.encodings import OF_CAMERAS
from ..colour.opponent import COLOUR_BARS, colour_difference
from ..frames import CV_SCALE, Array, Frame, luma
from .chromaticity import diagram_counts

Trace = Literal["waveform", "parade", "vectorscope", "gamut-xy", "gamut-uv"]
Counts = npt.NDArray[np.int64]

LOWEST_CV, HIGHEST_CV = -64, 1088
"""Ends of a scope's level axis."""

BIN_CV = 4
"""Code values in one row of a waveform, or one bar of a histogram: one code of 8 bits."""

LEVELS = (HIGHEST_CV - LOWEST_CV) // BIN_CV
COLUMNS = 256
VECTOR_SIDE = 256
"""Cells of a vectorscope: two colour-difference codes of 10 bits wide, 512 in the middle."""

MOST_PIXELS = 1 << 20
"""A scope looks at no more; larger pictures are thinned, never averaged: averaging would hide noise."""

TARGET_SHARE = 0.75
"""Amplitude of the colour bars whose places are marked (common practice, no source)."""

SOURCE_SHADE = 0.55
"""How bright the source's trace is beside the result's."""


def waveform(frame: Frame, planes: Literal["luma", "rgb"] = "luma") -> Counts:
    """Pixels by level (top row highest) and place across: planes (luma, or R', G', B')×
    `LEVELS`×`COLUMNS`."""
    frame = thinned(frame)
    stack = luma(frame)[None] if planes == "luma" else np.moveaxis(frame, 2, 0)
    column = np.arange(frame.shape[1]) * COLUMNS // frame.shape[1]
    return np.stack([_counted(LEVELS - 1 - _bins(plane), column[None], LEVELS, COLUMNS) for plane in stack])


def histogram(frame: Frame) -> Counts:
    """Pixels by level, lowest first: 4×`LEVELS` for R', G', B' and luma."""
    frame = thinned(frame)
    planes = [frame[..., 0], frame[..., 1], frame[..., 2], luma(frame)]
    return np.stack([np.bincount(_bins(plane).ravel(), minlength=LEVELS) for plane in planes])


def vectorscope(frame: Frame) -> Counts:
    """Pixels by colour difference: rows Cr from high to low, columns Cb from low to high."""
    cb, cr = colour_difference(thinned(frame))
    return _counted(VECTOR_SIDE - 1 - _cells(cr), _cells(cb), VECTOR_SIDE, VECTOR_SIDE)


def vector_targets(share: float = TARGET_SHARE) -> dict[str, tuple[float, float]]:
    """Where colour bars of that amplitude lie: Cb and Cr, -0.5 to 0.5 (ITU-R BT.709-6 item 3.3)."""
    found = {}
    for name, rgb in COLOUR_BARS.items():
        cb, cr = colour_difference(np.array([[rgb]], np.float32) * np.float32(share))
        found[name] = float(cb[0, 0]), float(cr[0, 0])
    return found


def thinned(frame: Frame) -> Frame:
    """Pixels on a grid, so that no more than `MOST_PIXELS` remain."""
    every = int(np.ceil(np.sqrt(frame.shape[0] * frame.shape[1] / MOST_PIXELS)))
    return frame[::every, ::every]


def shades(counts: Counts) -> Array:
    """Counts as brightness 0-1, in steps of doubling: a single pixel still shows."""
    most = max(int(counts.max()), 1)
    return (np.log1p(counts) / np.log1p(most)).astype(np.float32)


def traced(scope: Trace, source: Frame, result: Frame | None, space: str = OF_CAMERAS) -> Array:
    """A scope as grey picture 0-1: the source's trace in `SOURCE_SHADE`, the result's in white over it. `space` is
    that of the values of both, for chromaticities."""
    under = SOURCE_SHADE * shades(_laid_out(scope, source, space))
    return under if result is None else np.maximum(under, shades(_laid_out(scope, result, space)))


def _laid_out(scope: Trace, frame: Frame, space: str) -> Counts:
    if scope == "vectorscope":
        return vectorscope(frame)
    if scope in {"gamut-xy", "gamut-uv"}:
        return diagram_counts(thinned(frame), space, "xy" if scope == "gamut-xy" else "uv")
    return np.concatenate(list(waveform(frame, "rgb" if scope == "parade" else "luma")), axis=1)


def _bins(plane: Array) -> Counts:
    """Number of the level's bin; what lies beyond the ends is counted in the last one, NaN as black."""
    codes = np.nan_to_num(plane, nan=0.0) * np.float32(CV_SCALE)
    return np.clip(np.floor((codes - LOWEST_CV) / BIN_CV), 0, LEVELS - 1).astype(np.int64)


def _cells(difference: Array) -> Counts:
    """Cell of a colour difference: -0.5 to 0.5 are 896 of 1024 codes (10-bit quantization of ITU-R BT.709-6)."""
    codes = 512 + np.nan_to_num(difference, nan=0.0) * np.float32(896)
    return np.clip(np.floor(codes * VECTOR_SIDE / 1024), 0, VECTOR_SIDE - 1).astype(np.int64)


def _counted(rows: Counts, columns: Counts, height: int, width: int) -> Counts:
    return np.bincount((rows * width + columns).ravel(), minlength=height * width).reshape(height, width)
