"""Values read from tables, as `numpy.interp` does, over threads: for whole pictures and tables of thousands."""

from __future__ import annotations

import numba as nb
import numpy as np
import numpy.typing as npt

from .frames import Array
from .parallel import in_bands
from .simd import unsigned as _u


def read(x: Array, at: npt.ArrayLike, told: npt.ArrayLike) -> Array:
    """What is told at `at` (rising), read at each x by straight lines; beyond the ends the ends."""
    places, values = (np.ascontiguousarray(side, np.float64) for side in (at, told))
    flat = np.ascontiguousarray(x, np.float32).reshape(-1)
    found = np.empty(flat.shape, np.float32)
    in_bands(len(flat), lambda a, b: _read(flat, places, values, found, a, b), least=1 << 14)
    return found.reshape(np.shape(x))


@nb.njit(nogil=True, cache=True)
def _read(x, at, told, found, first, end):  # type: ignore[no-untyped-def]
    last = at.size - 1
    even = last / (at[last] - at[0]) if at[last] > at[0] else 0.0
    for i in range(_u(first), _u(end)):
        value = np.float64(x[i])
        if not value > at[0]:  # not a number neither
            found[i] = told[0] if value <= at[0] else np.nan
            continue
        if value >= at[last]:
            found[i] = told[last]
            continue
        # most tables are even, or nearly; else the place is halved in
        low, high = 0, last
        k = min(int((value - at[0]) * even), last - 1)
        while not at[_u(k)] <= value < at[_u(k + 1)]:
            if at[_u(k)] > value:
                high = k
            else:
                low = k + 1
            k = (low + high) // 2
        rise = (told[_u(k + 1)] - told[_u(k)]) / (at[_u(k + 1)] - at[_u(k)])
        found[i] = rise * (value - at[_u(k)]) + told[_u(k)]
