"""Detail that a codec dropped from colour, as luma foretells it where the two go together.

A codec's error in colour is mostly the detail it left out, which luma has still. Around each place colour is fitted
by a line to luma (He, Sun, Tang 2013, guided filter), and only coefficients that the codec may have dropped are
taken from what the line foretells."""

from __future__ import annotations

import numpy as np

from ..frames import Array
from ..octaves import doubled, halved, quartered
from ..shrinking import shrunk

LENT, BEGINS, WHOLLY = 4.0, 0.9 / 255, 2.9 / 255
"""Coefficients of colour below so many errors may be luma's; and the error from which that begins, and from which
it is done in full."""

WIDE = 3
"""Halvings of colour's half over which it is compared with luma: about 11 pixels of deviation each way."""

NONE, ALWAYS = 1e-8, 0.003
"""Mean square of luma's swing that is none, and the part of the error's square that is always in colour."""

ONES = np.ones(64, np.float32)


def lent(planes: list[Array], error: Array, part: np.float32) -> list[Array]:
    """Both colours of luma and colour planes, H×W, with what the codec may have dropped as luma foretells it.

    `error` is the expected RMS error of luma, H×W in frame units; `part` (0-1) is how far that is done. Sides must
    be multiples of 16; works in half the size, as most codecs keep colour."""
    shade, *colours = (quartered(plane) for plane in planes)
    error = quartered(error)
    local = np.ascontiguousarray(error[::2, ::2])
    led = []
    for plane, small in zip(planes[1:], colours, strict=True):
        filled = shrunk(small, _foretold(shade, small, error), ONES, local, LENT, lends=True).plane
        led.append(plane + part * doubled(filled - small))
    return led


def _foretold(shade: Array, colour: Array, error: Array) -> Array:
    """Colour as luma foretells it: by their line of best fit around, as far as they go together there and what the
    line leaves is no more than the error."""
    soft = [doubled(halved(plane)) for plane in (shade, colour)]
    swing, both, play = _moments(*soft)
    own, shared, all_play = _moments(shade, colour)
    square = _over(error) ** 2
    slope = both / (swing + np.float32(NONE))
    fit = np.abs(both) / np.sqrt(
        (swing + np.float32(NONE)) * (play + np.float32(ALWAYS) * square + np.float32(1e-12))
    )
    left = np.maximum(slope * slope * own - 2 * slope * shared + all_play, 0)
    begun = _over(np.clip((error - BEGINS) / np.float32(WHOLLY - BEGINS), 0, 1)) * square
    trust = np.minimum(fit, 1) * begun / (begun + left + np.float32(1e-12))
    parts = (trust * slope, trust * (_over(colour) - slope * _over(shade)), trust)
    along, level, trusted = (_spread(part) for part in parts)
    foretold: Array = colour + along * shade + level - trusted * colour
    return foretold


def _moments(one: Array, other: Array) -> tuple[Array, Array, Array]:
    """Variance of one, covariance, variance of the other, around each place of the coarse grid."""
    middle, centre = _over(one), _over(other)
    return (
        np.maximum(_over(one * one) - middle * middle, 0),
        _over(one * other) - middle * centre,
        np.maximum(_over(other * other) - centre * centre, 0),
    )


def _over(plane: Array) -> Array:
    for _ in range(WIDE):
        plane = halved(plane)
    return plane


def _spread(coarse: Array) -> Array:
    for _ in range(WIDE):
        coarse = doubled(coarse)
    return coarse
