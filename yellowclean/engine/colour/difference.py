"""Colour differences as seen: CIE L*a*b* and CIEDE2000."""

from __future__ import annotations

import numpy as np

from ..frames import Array, Frame
from .curves import DISPLAY_POWER

BT709_TO_XYZ = np.array(
    [[0.4123908, 0.3575843, 0.1804808], [0.2126390, 0.7151687, 0.0721923], [0.0193308, 0.1191948, 0.9505322]]
)
"""From the primaries and white of ITU-R BT.709-6 items 1.3 and 1.4."""

D65 = BT709_TO_XYZ.sum(axis=1)


def lab(frame: Frame) -> Array:
    """L*, a*, b* (CIE 15) of a picture on a BT.709 reference display, H×W×3."""
    light = np.clip(frame, 0, None).astype(np.float64) ** DISPLAY_POWER
    ratio = light @ BT709_TO_XYZ.T / D65
    f = np.where(ratio > (6 / 29) ** 3, np.cbrt(ratio), ratio / (3 * (6 / 29) ** 2) + 4 / 29)
    x, y, z = f[..., 0], f[..., 1], f[..., 2]
    return np.stack([116 * y - 16, 500 * (x - y), 200 * (y - z)], axis=-1)


def ciede2000(one: Array, two: Array) -> Array:
    """CIEDE2000 (CIE 142-2001; formulas as in Sharma, Wu, Dalal 2005) between L*a*b* values, last axis 3."""
    l1, a1, b1 = np.moveaxis(np.asarray(one, np.float64), -1, 0)
    l2, a2, b2 = np.moveaxis(np.asarray(two, np.float64), -1, 0)
    mean_chroma7 = ((np.hypot(a1, b1) + np.hypot(a2, b2)) / 2) ** 7
    stretch = 1 + 0.5 * (1 - np.sqrt(mean_chroma7 / (mean_chroma7 + 25.0**7)))
    a1, a2 = a1 * stretch, a2 * stretch
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, a1)) % 360, np.degrees(np.arctan2(b2, a2)) % 360
    grey = c1 * c2 == 0
    turn = (h2 - h1 + 180) % 360 - 180
    turn = np.where(grey, 0, np.where((turn == -180) & (h2 > h1), 180, turn))
    dl, dc, dh = l2 - l1, c2 - c1, 2 * np.sqrt(c1 * c2) * np.sin(np.radians(turn / 2))
    mean_l, mean_c = (l1 + l2) / 2, (c1 + c2) / 2
    apart = np.abs(h1 - h2) > 180
    total = h1 + h2
    mean_h = np.where(grey, total, (total + np.where(apart, np.where(total < 360, 360, -360), 0)) / 2)
    t = (
        1
        - 0.17 * np.cos(np.radians(mean_h - 30))
        + 0.24 * np.cos(np.radians(2 * mean_h))
        + 0.32 * np.cos(np.radians(3 * mean_h + 6))
        - 0.20 * np.cos(np.radians(4 * mean_h - 63))
    )
    sl = 1 + 0.015 * (mean_l - 50) ** 2 / np.sqrt(20 + (mean_l - 50) ** 2)
    sc, sh = 1 + 0.045 * mean_c, 1 + 0.015 * mean_c * t
    rotation = 60 * np.exp(-(((mean_h - 275) / 25) ** 2))
    rt = -np.sin(np.radians(rotation)) * 2 * np.sqrt(mean_c**7 / (mean_c**7 + 25.0**7))
    found: Array = np.sqrt((dl / sl) ** 2 + (dc / sc) ** 2 + (dh / sh) ** 2 + rt * (dc / sc) * (dh / sh))
    return found
