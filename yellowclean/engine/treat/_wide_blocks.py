"""Wide blocks cleared of what an error may have made: threads, bricks and waves fill few frequencies of a block of
32×32 pixels and many of one of 8×8, so that more of them stands out there (Nosratinia 2001, shifted transforms, as
for the narrow ones)."""

from __future__ import annotations

import numba as nb
import numpy as np

from ..frames import Array
from ..octaves import dct
from ..parallel import in_bands

SIDE, STEP = 32, 8
"""Side of a block, and pixels from one to the next."""

BAR, RISES = 2.0, 14.0
"""Coefficients below so many errors are dropped, and over how many frequencies of blocks of 8×8, across and down
together, that doubles."""

_K = np.arange(SIDE)
BASIS = dct(SIDE)
BACK = np.ascontiguousarray(BASIS.T)

WINDOW = np.sin(np.pi * (_K + 0.5) / SIDE).astype(np.float32)
"""How much a block counts from one side to the other: less near its sides, where its waves end."""


def in_wide_blocks(plane: Array, error: Array) -> Array:
    """The mean of what shifted blocks make of a plane (H×W, multiples of 8) without coefficients that an `error`
    (same shape and unit) may have made. A block counts by how few coefficients it needs."""
    height, width = plane.shape
    padded, errors = (np.pad(given, SIDE - STEP, mode="symmetric") for given in (plane, error))
    cells = errors.reshape(errors.shape[0] // STEP, STEP, -1, STEP).mean(axis=(1, 3))
    blocks = np.lib.stride_tricks.sliding_window_view(cells, (SIDE // STEP, SIDE // STEP)).mean(axis=(2, 3))
    bars = np.float32(BAR) * (1 + (_K[:, None] + _K) * np.float32(8 / SIDE / RISES))
    limits, power = (bars**2).astype(np.float32), (blocks**2).astype(np.float32)
    total = np.zeros_like(padded)
    in_bands(len(padded) // STEP, lambda a, b: _cleared_rows(padded, power, limits, total, a, b))
    found: Array = total[SIDE - STEP :, SIDE - STEP :][:height, :width]
    return found


@nb.njit(nogil=True, cache=True)
def _cleared_rows(plane, power, limits, total, first, end):  # type: ignore[no-untyped-def]
    """Rows of cells `first` to `end`, whatever the rows asked for summed in the same order."""
    width = plane.shape[1]
    weights = np.zeros(((end - first) * STEP, width), np.float32)
    upright, rows = np.empty((SIDE, width), np.float32), np.empty((SIDE, width), np.float32)
    lined = np.empty((width, SIDE), np.float32)
    back, share = np.empty((width, SIDE), np.float32), np.empty(width, np.float32)
    for r in range(max(first - SIDE // STEP + 1, 0), min(end, power.shape[0])):
        _turned(BASIS, plane[r * STEP : r * STEP + SIDE], upright)
        lined[:] = upright.T
        back[:], share[:] = 0, 0
        for b in range(power.shape[1]):
            at = b * STEP
            _block(lined[at : at + SIDE], power[r, b] * limits, back[at : at + SIDE], share[at : at + SIDE])
        upright[:] = back.T
        _turned(BACK, upright, rows)
        for y in range(SIDE):
            row = r * STEP + y
            if first * STEP <= row < end * STEP:
                for x in range(width):
                    total[row, x] += WINDOW[y] * rows[y, x]
                    weights[row - first * STEP, x] += WINDOW[y] * share[x]
    for row in range(len(weights)):
        for x in range(width):
            total[first * STEP + row, x] /= weights[row, x]


@nb.njit(nogil=True, cache=True)
def _block(lined, limits, back, share):  # type: ignore[no-untyped-def]
    """Add a block's rows of waves, cleared and times its weight, to `back`, and the weight to `share`."""
    waves, turned, kept = np.empty((SIDE, SIDE), np.float32), np.empty((SIDE, SIDE), np.float32), 1
    _turned(BASIS, lined, waves)
    for v in range(SIDE):
        for u in range(SIDE):
            stays = waves[v, u] * waves[v, u] >= limits[v, u] or u + v == 0
            kept += stays
            waves[v, u] = waves[v, u] if stays else np.float32(0)
    _turned(BACK, waves, turned)
    for x in range(SIDE):
        weight = WINDOW[x] / np.float32(kept)
        share[x] += weight
        for u in range(SIDE):
            back[x, u] += weight * turned[x, u]


@nb.njit(nogil=True, cache=True)
def _turned(basis, columns, out):  # type: ignore[no-untyped-def]
    """Columns in another basis."""
    out[:] = 0
    for k in range(SIDE):
        for j in range(0, SIDE, 4):  # four at once, so that sums are loaded and stored less often
            p, q, r, s = basis[k, j : j + 4]
            for x in range(columns.shape[1]):
                out[k, x] += (
                    p * columns[j, x] + q * columns[j + 1, x] + r * columns[j + 2, x] + s * columns[j + 3, x]
                )
