"""Filters of few taps that are alike in all directions, fitted where a picture has power.

What a filter should do at each frequency is met with the least squares of the error that is left in the picture:
one counts by the picture's own power there (weighted least squares, Parks and Burrus 1987, "Digital Filter Design",
from memory). A window laid over the transform would leave most of it in what is coarse, where pictures have most of
their power.
"""

from __future__ import annotations

from functools import cache
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from ..frames import Array

SIDE = 33
HALF = SIDE // 2
"""Pixels a side of a filter, and how far it reaches."""

SAMPLES = 128
"""Frequencies a side at which it is fitted."""

PLAIN = 30.0
"""Times the weight of any other frequency that plain areas have."""


class _Taps(NamedTuple):
    """What each group of equal taps (T) does at each frequency (N×T), how far down and across from the middle the
    groups lie (T each), and how many times each frequency stands in the plane (N)."""

    effect: Array
    down: npt.NDArray[np.intp]
    across: npt.NDArray[np.intp]
    times: Array


@cache
def frequencies() -> Array:
    """Cycles a pixel of the frequencies at which filters are fitted (N), one of all that are alike."""
    down, across = _octant()
    found: Array = np.hypot(down, across)
    return found


def fitted(response: Array, power: Array) -> Array:
    """The filter, SIDE×SIDE, that does to a picture of that `power` what `response` says, both at each of the
    `frequencies`; plain areas become 0."""
    taps = _taps()
    weight = np.sqrt(power * taps.times)
    weight[0], wanted = PLAIN * weight.max(), response.copy()
    wanted[0] = 0
    values = np.linalg.lstsq(taps.effect * weight[:, None], wanted * weight, rcond=1e-7)[0]
    quarter, from_middle = np.empty((HALF + 1, HALF + 1)), np.abs(np.arange(-HALF, HALF + 1))
    quarter[taps.down, taps.across] = quarter[taps.across, taps.down] = values
    kernel = quarter[np.ix_(from_middle, from_middle)]
    kernel[HALF, HALF] -= kernel.sum()
    return kernel.astype(np.float32)


def _octant() -> tuple[Array, Array]:
    """Cycles a pixel, down and across, of one of all frequencies that are alike."""
    rows, columns = np.tril_indices(SAMPLES // 2 + 1)
    return columns / SAMPLES, rows / SAMPLES


@cache
def _taps() -> _Taps:
    down, across = _octant()
    waves = [(2 if k else 1) * np.cos(2 * np.pi * k * np.stack([down, across])) for k in range(HALF + 1)]
    rows, columns = np.tril_indices(HALF + 1)
    effect = [
        (waves[y][0] * waves[x][1] + waves[x][0] * waves[y][1]) / (2 if x == y else 1)
        for y, x in zip(rows, columns, strict=True)
    ]
    sides = [np.where((side > 0) & (side < 0.5), 2, 1) for side in (down, across)]
    return _Taps(np.stack(effect, axis=1), rows, columns, sides[0] * sides[1] * np.where(down == across, 1, 2))
