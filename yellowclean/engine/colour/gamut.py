"""Colours outside a gamut: where they are, and limiting them without a change of hue.

Lightness and hue stay, chroma goes down to where the gamut ends, in Oklab (Ottosson, "A perceptual color space for
image processing", 2020, and "Gamut clipping", 2021; coefficients as colour-science prints them).
"""

from __future__ import annotations

import numba as nb
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array, Frame
from ..parallel import in_bands
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
    found = np.empty_like(light)
    in_bands(
        len(light),
        lambda a, b: _limit(light, to_cones, np.linalg.inv(to_cones), _TO_LAB, np.linalg.inv(_TO_LAB), found, a, b),
    )
    return found


@nb.njit(nogil=True, cache=True)
def _limit(light, to_cones, from_cones, to_lab, from_lab, found, first, end):  # type: ignore[no-untyped-def]
    lab, made = np.empty(3), np.empty(3)
    for k in range(first, end):
        for row in range(3):
            lab[row] = 0.0
        for cone in range(3):
            seen = 0.0
            for c in range(3):
                seen += to_cones[cone, c] * light[k, c]
            for row in range(3):
                lab[row] += to_lab[row, cone] * np.cbrt(seen)
        lightness = min(max(lab[0], 0.0), 1.0)
        low, high = 0.0, 1.0
        for halving in range(HALVINGS + 1):
            share = low if halving == HALVINGS else (low + high) / 2
            for c in range(3):
                made[c] = 0.0
            for cone in range(3):
                root = from_lab[cone, 0] * lightness
                root += share * (from_lab[cone, 1] * lab[1] + from_lab[cone, 2] * lab[2])
                for c in range(3):
                    made[c] += from_cones[c, cone] * root**3
            if made.min() >= 0 and made.max() <= 1:
                low = share
            else:
                high = share
        for c in range(3):
            found[k, c] = min(max(made[c], 0.0), 1.0)
