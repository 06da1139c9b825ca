"""Glow: light of bright places spread softly over what lies beside them, a last means for what is to be lit over.

Light is spread in linear light, as a filter before a lens spreads it (a Gaussian), and what is spread is added: no
place gets darker.
"""

from __future__ import annotations

import cv2
import numpy as np

from ..colour.encodings import converted, linear_like
from ..colour.grey import grey_curve
from ..frames import CV_SCALE, luma
from ..parameters import Parameters, amount, quantity
from .base import Around, Need, Picture, Treatment, Window

EXTENT = 3
"""Deviations after which the bell is cut off."""


class Glow(Parameters):
    """Light beside what is bright. A step for hiding: it repairs nothing."""

    strength: float = amount(30, "Glow", "How much of the spread light is added.", most=200)
    radius: float = quantity(
        12, "Radius", "Deviation of the bell by which light spreads.", unit="px", least=1, most=100, step=1
    )
    above: float = quantity(
        600, "From level", "Light of places below it is not spread.", unit="CV", least=0, most=1023, step=8
    )


def need(p: Glow) -> Need:
    return Need(margin=_reach(p))


def _reach(p: Glow) -> int:
    return int(np.ceil(EXTENT * p.radius))


def apply(p: Glow, window: Window, around: Around) -> Picture:
    """Add the spread light; noise stays as it is, since what is added is smooth."""
    encoding, inside = window.given.encoding, window.inside
    linear = linear_like(encoding)
    threshold = np.float32(grey_curve(encoding.space).light(np.array([p.above / CV_SCALE]))[0])
    light = converted(window.here.rgb, encoding.space, linear)
    level = np.maximum(luma(light), np.float32(1e-6))
    bright = light * (np.maximum(level - threshold, 0) / level)[..., None]
    side = 2 * _reach(p) + 1
    spread = cv2.GaussianBlur(np.maximum(bright, 0), (side, side), p.radius, borderType=cv2.BORDER_REFLECT_101)
    rows, columns = inside.slices
    here, added = window.here.part(inside), np.float32(p.strength / 100) * spread[rows, columns]
    if not added.any():
        return here
    lit = converted(np.ascontiguousarray(light[rows, columns] + added), linear, encoding.space)
    return Picture(np.where(added > 0, lit, here.rgb), here.noise)


TREATMENT = Treatment(
    kind="glow", title="Glow", treats=(), order=84, parameters=Glow, need=need, apply=apply,
    early="noise and faults were measured before it",
)  # fmt: skip
