"""Colours outside a gamut: where they are, and limiting them without a change of hue.

Lightness and hue stay, chroma goes down to where the gamut ends, in Oklab (Ottosson, "A perceptual color space for
image processing", 2020, and "Gamut clipping", 2021; coefficients as colour-science prints them).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array, Frame
from .encodings import converted, linear_of

KEEP, LIMIT, CLIP = "keep", "limit", "clip"

_TO_CONES = np.array(
    [
        [0.8189330101, 0.3618667424, -0.1288597137],
        [0.0329845436, 0.9293118715, 0.0361456387],
        [0.0482003018, 0.2643662691, 0.6338517070],
    ]
)
_TO_LAB = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
XYZ = "CIE XYZ-D65 - Scene-referred"

HALVINGS = 18
"""Of the interval in which the gamut's end is looked for: finer than a code of 16 bits."""

JUST_OUTSIDE = 0.05 / CV_SCALE
"""What rounding alone brings about."""


def outside(values: Frame, beyond: float = JUST_OUTSIDE) -> npt.NDArray[np.bool_]:
    """Pixels of which a channel lies outside 0-1, H×W."""
    found: npt.NDArray[np.bool_] = np.any((values < -beyond) | (values > 1 + beyond), axis=-1)
    return found


def limited(values: Frame, space: str, how: str) -> Frame:
    """Values of a video space, H×W×3, with what is outside of its gamut brought to its border by `how`; pixels
    inside stay as they are."""
    if how == CLIP:
        return np.clip(values, 0, 1)
    linear = linear_of(space)
    if how == KEEP or linear is None:
        return values
    where = outside(values)
    if not where.any():
        return values
    light = converted(values[where][None], space, linear)[0]
    peak = float(converted(np.ones((1, 1, 3), np.float32), space, linear)[0, 0].min())
    result = values.copy()
    inside = _on_border(light.astype(np.float64) / peak, linear) * peak
    result[where] = np.clip(converted(inside.astype(np.float32)[None], linear, space)[0], 0, 1)
    return result


def _on_border(light: Array, linear: str) -> Array:
    """Linear light N×3, white 1, with as much chroma of its hue and lightness as 0-1 holds."""
    to_cones = _TO_CONES @ converted(np.eye(3, dtype=np.float32)[None], linear, XYZ)[0].T.astype(np.float64)
    from_cones, from_lab = np.linalg.inv(to_cones), np.linalg.inv(_TO_LAB)
    lab = np.cbrt(light @ to_cones.T) @ _TO_LAB.T
    lightness = np.clip(lab[:, :1], 0, 1)
    colour = np.concatenate([np.zeros_like(lightness), lab[:, 1:]], axis=1)
    grey = np.concatenate([lightness, np.zeros_like(colour[:, 1:])], axis=1)

    def at(share: Array) -> Array:
        cones: Array = (grey + share[:, None] * colour) @ from_lab.T
        return cones**3 @ from_cones.T

    low, high = np.zeros(len(light)), np.ones(len(light))
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        tried = at(middle)
        fits = (tried.min(axis=1) >= 0) & (tried.max(axis=1) <= 1)
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    return np.clip(at(low), 0, 1)
