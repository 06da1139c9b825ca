"""Tint: colours drawn towards one colour, a last means for an area whose own cannot be repaired.

Luma stays. Colour differences (Cb and Cr) are taken in proportion to luma, so that light and shade of the area stay
in it.
"""

from __future__ import annotations

import numpy as np

from ..colour.opponent import SIGNAL_MATRIX
from ..frames import CV_SCALE, luma
from ..parameters import Colour, Parameters, amount, colour
from .base import Around, Need, Picture, Treatment, Window


class Tint(Parameters):
    """Another colour, at the same luma. A step for hiding: it repairs nothing."""

    towards: Colour = colour((512, 512, 512), "Colour", "The colour that the area takes on; grey drains it.")
    strength: float = amount(100, "Tint", "How far colours go there.", most=100)


def need(p: Tint) -> Need:
    return Need()


def apply(p: Tint, window: Window, around: Around) -> Picture:
    """Draw colour differences to those of the colour; what they hold of noise goes with them."""
    here = window.here.part(window.inside)
    share = np.float32(p.strength / 100)
    wanted = np.array(p.towards, np.float32) / np.float32(CV_SCALE)
    bright = max(float(wanted @ SIGNAL_MATRIX[3]), 1 / CV_SCALE)
    level = luma(here.rgb)[..., None]
    coloured = level * (wanted / np.float32(bright))
    kept = np.stack([np.ones_like(level[..., 0]), np.full_like(level[..., 0], (1 - share) ** 2)])
    return Picture(here.rgb + share * (coloured - here.rgb), here.noise * kept)


TREATMENT = Treatment(
    kind="tint", title="Tint", treats=(), order=83, parameters=Tint, need=need, apply=apply,
    early="noise and faults were measured in the colours before it",
)  # fmt: skip
