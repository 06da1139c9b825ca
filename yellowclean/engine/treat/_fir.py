"""Filters of few taps, fitted where a picture has power: alike in all directions, or through the middle alone.

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

SAMPLES, FEWER = 128, 64
"""Frequencies a side at which it is fitted; one that has a direction, at fewer: it has eight times as many taps."""

PLAIN = 30.0
"""Times the weight of any other frequency that plain areas have."""


class Taps(NamedTuple):
    """Cycles a pixel, down and across, of the frequencies at which a filter is fitted (N each, the first is 0), one
    of all that are alike; how many times each stands in the plane (N), what each group of equal taps (T) does at
    each (N×T), and which group each tap belongs to (SIDE×SIDE)."""

    down: Array
    across: Array
    times: Array
    effect: Array
    group: npt.NDArray[np.intp]

    @property
    def away(self) -> Array:
        """Cycles a pixel in whatever direction (N)."""
        found: Array = np.hypot(self.down, self.across)
        return found


def fitted(response: Array, power: Array, taps: Taps) -> Array:
    """The filter, SIDE×SIDE, that does to a picture of that `power` what `response` says, both at each of the
    frequencies of its `taps`; plain areas become 0."""
    weight = np.sqrt(power * taps.times)
    weight[0], wanted = PLAIN * weight.max(), response.copy()
    wanted[0] = 0
    values = np.linalg.lstsq(taps.effect * weight[:, None], wanted * weight, rcond=1e-7)[0]
    kernel = values[taps.group]
    kernel[HALF, HALF] -= kernel.sum()
    return kernel.astype(np.float32)


@cache
def through_the_middle() -> Taps:
    """Of a filter whose taps equal those opposite, whatever direction it has."""
    down, across = (side.ravel() / FEWER for side in np.mgrid[-FEWER // 2 : FEWER // 2, : FEWER // 2 + 1])
    first = np.argsort(np.hypot(down, across), kind="stable")
    down, across = down[first], across[first]
    rows, columns = (side.ravel() - HALF for side in np.mgrid[:SIDE, :SIDE])
    half = rows.size // 2 + 1  # the rest lies opposite
    turns = 2 * np.pi * (np.outer(down, rows[:half]) + np.outer(across, columns[:half]))
    effect = np.where(np.arange(half) < half - 1, 2, 1) * np.cos(turns)
    group = np.minimum(np.arange(rows.size), rows.size - 1 - np.arange(rows.size)).reshape(SIDE, SIDE)
    return Taps(down, across, np.where((across > 0) & (across < 0.5), 2, 1), effect, group)


@cache
def alike() -> Taps:
    """Of a filter that is alike in all directions."""
    rows, columns = np.tril_indices(SAMPLES // 2 + 1)
    down, across = columns / SAMPLES, rows / SAMPLES
    waves = [(2 if k else 1) * np.cos(2 * np.pi * k * np.stack([down, across])) for k in range(HALF + 1)]
    rows, columns = np.tril_indices(HALF + 1)
    effect = [
        (waves[y][0] * waves[x][1] + waves[x][0] * waves[y][1]) / (2 if x == y else 1)
        for y, x in zip(rows, columns, strict=True)
    ]
    sides = [np.where((side > 0) & (side < 0.5), 2, 1) for side in (down, across)]
    times = sides[0] * sides[1] * np.where(down == across, 1, 2)
    quarter, from_middle = np.empty((HALF + 1, HALF + 1), np.intp), np.abs(np.arange(-HALF, HALF + 1))
    quarter[rows, columns] = quarter[columns, rows] = np.arange(len(rows))
    return Taps(down, across, times, np.stack(effect, axis=1), quarter[np.ix_(from_middle, from_middle)])
