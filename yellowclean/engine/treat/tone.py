"""Tone curve by points: a last means where a fault cannot be repaired, such as a band bent to where nobody sees it.

The curve runs through the points without overshoot (monotone cubic, Fritsch and Carlson 1980, as SciPy has it). It
acts on luma, and the change goes to all channels alike, so that colour differences stay.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import scipy

from ..frames import CV_SCALE, Array, luma
from ..parallel import in_bands
from ..parameters import Parameters, quantity
from .base import Around, Need, Picture, Treatment, Window

POINTS = "Lift or lower at levels"
LOW, HIGH, STEPS = -0.25, 1.5, 7169
"""Luma over which the curve is kept as a table; beyond, the change at its ends goes on."""


def _point(level: int) -> float:
    help_text = f"How much what stands at {level} CV is lifted or lowered."
    return quantity(0, f"{level} CV", help_text, unit="CV", least=-200, most=200, step=1, curve=POINTS)  # type: ignore[no-any-return]


class Tone(Parameters):
    """Levels moved along a curve. A step for hiding: it repairs nothing."""

    at_0: float = _point(0)
    at_64: float = _point(64)
    at_128: float = _point(128)
    at_256: float = _point(256)
    at_384: float = _point(384)
    at_512: float = _point(512)
    at_640: float = _point(640)
    at_768: float = _point(768)
    at_896: float = _point(896)
    at_1023: float = _point(1023)

    @property
    def points(self) -> tuple[tuple[float, float], ...]:
        """Level and where it goes, in CV."""
        levels = (float(name.removeprefix("at_")) for name in type(self).model_fields)
        return tuple((level, level + getattr(self, f"at_{level:.0f}")) for level in levels)


def need(p: Tone) -> Need:
    return Need()


def apply(p: Tone, window: Window, around: Around) -> Picture:
    """Move luma along the curve; noise grows or shrinks by its slope."""
    here = window.here.part(window.inside)
    level = luma(here.rgb)
    grid, moved = _curve(p.points)
    change, slope = np.empty(level.shape, np.float32), np.empty(level.shape, np.float32)

    def looked_up(a: int, b: int) -> None:
        change[a:b] = np.interp(level[a:b], grid, moved - grid)
        slope[a:b] = np.interp(level[a:b], grid, np.gradient(moved, grid))

    in_bands(len(level), looked_up)
    noise = (here.noise * np.stack([slope * slope, np.ones_like(slope)])).astype(np.float32)
    return Picture(here.rgb + change[..., None], noise)


@lru_cache(8)
def _curve(points: tuple[tuple[float, float], ...]) -> tuple[Array, Array]:
    """Luma, and where it goes. Points that would run backwards are held where the one below them stands."""
    at, to = np.array(points).T / CV_SCALE
    curve = scipy.interpolate.PchipInterpolator(at, np.maximum.accumulate(to), extrapolate=False)
    grid = np.linspace(LOW, HIGH, STEPS)
    moved = curve(np.clip(grid, 0, 1)) + grid - np.clip(grid, 0, 1)
    return grid, np.asarray(moved)


TREATMENT = Treatment(
    kind="tone", title="Tone curve", treats=(), order=82, parameters=Tone, need=need, apply=apply,
    early="noise and faults were measured before the levels moved",
)  # fmt: skip
