"""How much light the values of a colour space stand for, along its greys."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..frames import Array
from ..tables import read
from .encodings import converted

LINEAR = "Linear Rec.709 (sRGB)"

LEAST, MOST, POINTS = -0.2, 1.5, 17 * 1024 + 1
"""Values between which the curve is known; beyond, it goes on straight."""


@dataclass(frozen=True, slots=True)
class GreyCurve:
    """Values of R'G'B' and the light of each, both rising."""

    values: Array
    lights: Array

    def light(self, values: Array) -> Array:
        """Linear light of grey values."""
        return _read(self.values, self.lights, values)

    def value(self, light: Array) -> Array:
        """The inverse of `light`."""
        return _read(self.lights, self.values, light)

    def slope(self, values: Array) -> Array:
        """Light for a small step of value, at grey values."""
        steps = np.gradient(self.lights, self.values)
        return read(values, self.values, steps)


@lru_cache(16)
def grey_curve(space: str) -> GreyCurve:
    """The curve of a space, by its name."""
    values = np.linspace(LEAST, MOST, POINTS)
    greys = np.repeat(values.astype(np.float32)[None, :, None], 3, axis=2)
    lights = converted(greys, space, LINEAR)[0, :, 1].astype(np.float64)
    rising = (
        np.maximum.accumulate(lights) + np.arange(POINTS) * 1e-12
    )  # where a space is cut off it can be no inverse
    return GreyCurve(values, rising)


def _read(at: Array, told: Array, x: Array) -> Array:
    found = read(x, at, told)
    for end, outside in ((0, x < at[0]), (-1, x > at[-1])):
        if outside.any():
            beside = 1 if end == 0 else -2
            steep = (told[end] - told[beside]) / (at[end] - at[beside])
            found = np.where(outside, told[end] + (x - at[end]) * steep, found)
    return found.astype(np.float32)
