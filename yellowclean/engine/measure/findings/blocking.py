"""Blocking: a grid of discontinuities left by block coding.

The jump between neighbouring pixels is compared with the jumps on both sides of it (Wang, Sheikh and
Bovik 2002) and averaged for each position modulo 8. A grid shows as one position that stands out, the
same in the whole picture.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...frames import CV_SCALE, Array
from ...media import MediaInfo
from .base import Detector, Finding, Look, Place

PERIOD = 8
CEILING = 20 / CV_SCALE
"""Jumps above this are edges of the scene."""

LEAST_CERTAIN = 5.0
"""Standard errors by which a position has to stand out."""


@dataclass(frozen=True, slots=True)
class Grid:
    """Strength (frame units), offset in pixels and certainty (standard errors) for columns and rows."""

    strength: tuple[float, float]
    offset: tuple[int, int]
    certain: tuple[float, float]
    place: Place | None


def grid_of(luma: Array, period: int = PERIOD, own: tuple[int, int] | None = None) -> Grid:
    """The block grid of a picture in both directions, other than one at offset `own`. `offset` is the
    first pixel of a block."""
    across, down = (_fold(p, period, own and own[k]) for k, p in enumerate((luma, luma.T)))
    return Grid(
        strength=(across[0], down[0]), offset=(across[1], down[1]), certain=(across[2], down[2]), place=None
    )


def _fold(plane: Array, period: int, own: int | None) -> tuple[float, int, float]:
    """(strength, offset, standard errors) of the columns' strongest position modulo `period`."""
    jump = np.abs(np.diff(plane.astype(np.float32), axis=1))
    if jump.shape[1] < 4 * period:
        return 0.0, 0, 0.0
    excess = (
        np.minimum(jump[:, 1:-1], CEILING)
        - (np.minimum(jump[:, :-2], CEILING) + np.minimum(jump[:, 2:], CEILING)) / 2
    )
    columns = excess.mean(axis=0)  # at boundary between x+1 and x+2
    whole = len(columns) // period * period
    folded = columns[:whole].reshape(-1, period)
    means = folded.mean(axis=0)
    sought = means.copy()
    if own is not None:
        sought[(own - 2) % period] = -np.inf
    best = int(sought.argmax())
    # A grid lowers the positions beside it as it raises its own: the rest is judged without those.
    others = [k for k in range(period) if (k - best) % period not in {0, 1, period - 1}]
    base = float(np.median(means[others]))
    error = float(folded.std()) / np.sqrt(len(folded)) + 1e-9
    return float(means[best] - base), (best + 2) % period, float((means[best] - base) / error)


def observe(look: Look) -> Grid:
    return grid_of(look.luma)


def conclude(seen: Sequence[tuple[int, Grid]], info: MediaInfo) -> Finding:
    def reliable(grid: Grid) -> float:
        # Codecs put one grid on both directions; one alone is a picket fence.
        return min(grid.strength) if min(grid.certain) >= LEAST_CERTAIN else 0.0

    worst, grid = max(seen, key=lambda item: reliable(item[1]))
    strength = float(np.median([reliable(g) for _, g in seen]))
    if strength <= 0:
        return DETECTOR.finding(0.0, worst)
    return DETECTOR.finding(
        strength * CV_SCALE, worst, confidence=min(min(grid.certain) / 20, 1.0),
        detail=f"grid of 8 px, first block at x {grid.offset[0]}, y {grid.offset[1]}",
    )  # fmt: skip


DETECTOR = Detector("blocking", "CV", 0.8, 43, observe, conclude)
"""Value: mean extra jump at block edges. Tolerance: common practice, no source."""
