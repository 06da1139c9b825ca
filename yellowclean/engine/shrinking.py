"""Kernels of the sliding 8×8 DCT: hard threshold, then a Wiener pass guided by the first.

After Yu and Sapiro 2011 (IPOL 1, "DCT image denoising"), with a deviation for each coefficient in
place of one sigma. Sixteen blocks of a row are carried side by side. Blocks of a row share their columns: those are
transformed once a row, and turned back once, all blocks of the row summed.
"""

from __future__ import annotations

from typing import NamedTuple

import numba as nb
import numpy as np

from .frames import Array
from .octaves import BLOCK, DCT
from .parallel import in_bands
from .simd import COUNT, chosen, evens, first_woven, last_woven, load, odds, root, spread, store
from .simd import unsigned as _u

_ALL, _FOURTH = DCT[0, 0], DCT[4, 0]
_C20, _C21 = DCT[2, :2]
_C60, _C61 = DCT[6, :2]
_C10, _C11, _C12, _C13 = DCT[1, :4]
_C30, _C31, _C32, _C33 = DCT[3, :4]
_C50, _C51, _C52, _C53 = DCT[5, :4]
_C70, _C71, _C72, _C73 = DCT[7, :4]


@nb.njit(nogil=True, cache=True)
def _forward(a):  # type: ignore[no-untyped-def]
    """Eight-point DCT of eight lanes."""
    s0, s1, s2, s3 = a[0] + a[7], a[1] + a[6], a[2] + a[5], a[3] + a[4]
    d0, d1, d2, d3 = a[0] - a[7], a[1] - a[6], a[2] - a[5], a[3] - a[4]
    e0, e1, e2, e3 = s0 + s3, s1 + s2, s0 - s3, s1 - s2
    return (
        _ALL * (e0 + e1),
        _C10 * d0 + _C11 * d1 + _C12 * d2 + _C13 * d3,
        _C20 * e2 + _C21 * e3,
        _C30 * d0 + _C31 * d1 + _C32 * d2 + _C33 * d3,
        _FOURTH * (e0 - e1),
        _C50 * d0 + _C51 * d1 + _C52 * d2 + _C53 * d3,
        _C60 * e2 + _C61 * e3,
        _C70 * d0 + _C71 * d1 + _C72 * d2 + _C73 * d3,
    )


@nb.njit(nogil=True, cache=True)
def _inverse(c):  # type: ignore[no-untyped-def]
    """Transpose of `_forward`."""
    p, q = _ALL * c[0], _FOURTH * c[4]
    v, w = _C20 * c[2] + _C60 * c[6], _C21 * c[2] + _C61 * c[6]
    e0, e1, e2, e3 = p + q + v, p - q + w, p - q - w, p + q - v
    o0 = _C10 * c[1] + _C30 * c[3] + _C50 * c[5] + _C70 * c[7]
    o1 = _C11 * c[1] + _C31 * c[3] + _C51 * c[5] + _C71 * c[7]
    o2 = _C12 * c[1] + _C32 * c[3] + _C52 * c[5] + _C72 * c[7]
    o3 = _C13 * c[1] + _C33 * c[3] + _C53 * c[5] + _C73 * c[7]
    return e0 + o0, e1 + o1, e2 + o2, e3 + o3, e3 - o3, e2 - o2, e1 - o1, e0 - o0


_LINE, _TWO_LINES = _u(COUNT), _u(2 * COUNT)
_ROW = _u(BLOCK * COUNT)
"""Numbers of a row of sixteen blocks."""


@nb.njit(nogil=True, cache=True)
def _loaded(array, at, step):  # type: ignore[no-untyped-def]
    """Eight lanes, `step` elements from each to the next."""
    return (
        load(array, at),
        load(array, at + step),
        load(array, at + _u(2) * step),
        load(array, at + _u(3) * step),
        load(array, at + _u(4) * step),
        load(array, at + _u(5) * step),
        load(array, at + _u(6) * step),
        load(array, at + _u(7) * step),
    )


@nb.njit(nogil=True, cache=True)
def _stored(array, at, step, lanes):  # type: ignore[no-untyped-def]
    """The opposite of `_loaded`."""
    store(array, at, lanes[0])
    store(array, at + step, lanes[1])
    store(array, at + _u(2) * step, lanes[2])
    store(array, at + _u(3) * step, lanes[3])
    store(array, at + _u(4) * step, lanes[4])
    store(array, at + _u(5) * step, lanes[5])
    store(array, at + _u(6) * step, lanes[6])
    store(array, at + _u(7) * step, lanes[7])


@nb.njit(nogil=True, cache=True)
def _added(array, at, lanes):  # type: ignore[no-untyped-def]
    store(array, at, load(array, at) + lanes)


@nb.njit(nogil=True, cache=True)
def _columns(plane, y, lined):  # type: ignore[no-untyped-def]
    """The DCT along the columns of eight rows from y on: `lined` (8×2×…) holds even and odd columns apart, so that
    neighbouring blocks, which begin at every second, lie side by side."""
    width, half = _u(plane.shape[1]), _u(lined.shape[2])
    start, both = _u(y) * width, _u(2) * half
    for k in range((width + _TWO_LINES - _u(1)) // _TWO_LINES):
        x = min(_u(k) * _TWO_LINES, width - _TWO_LINES)  # the last ones anew, where the width is no multiple
        a, b = _loaded(plane, start + x, width), _loaded(plane, start + x + _LINE, width)
        even = _forward(
            (
                evens(a[0], b[0]), evens(a[1], b[1]), evens(a[2], b[2]), evens(a[3], b[3]),
                evens(a[4], b[4]), evens(a[5], b[5]), evens(a[6], b[6]), evens(a[7], b[7]),
            )
        )  # fmt: skip
        _stored(lined, x // _u(2), both, even)
        odd = _forward(
            (
                odds(a[0], b[0]), odds(a[1], b[1]), odds(a[2], b[2]), odds(a[3], b[3]),
                odds(a[4], b[4]), odds(a[5], b[5]), odds(a[6], b[6]), odds(a[7], b[7]),
            )
        )  # fmt: skip
        _stored(lined, half + x // _u(2), both, odd)


@nb.njit(nogil=True, cache=True)
def _blocks(lined, j, block):  # type: ignore[no-untyped-def]
    """The coefficients of sixteen blocks, which begin at every second column from 2·j on."""
    half = _u(lined.shape[2])
    for k in range(_u(BLOCK)):
        even = k * _u(2) * half + j
        odd = even + half
        lanes = (
            load(lined, even), load(lined, odd),
            load(lined, even + _u(1)), load(lined, odd + _u(1)),
            load(lined, even + _u(2)), load(lined, odd + _u(2)),
            load(lined, even + _u(3)), load(lined, odd + _u(3)),
        )  # fmt: skip
        _stored(block, k * _ROW, _LINE, _forward(lanes))


@nb.njit(nogil=True, cache=True)
def _blocks_back(block, weight, j, lined):  # type: ignore[no-untyped-def]
    """Add the blocks, each times its weight, to the columns that they lie over. From right to left, so that a
    column receives its blocks from left to right however they are grouped: sums are the same in every region."""
    half = _u(lined.shape[2])
    for k in range(_u(BLOCK)):
        back = _inverse(_loaded(block, k * _ROW, _LINE))
        even = k * _u(2) * half + j
        odd = even + half
        _added(lined, odd + _u(3), weight * back[7])
        _added(lined, even + _u(3), weight * back[6])
        _added(lined, odd + _u(2), weight * back[5])
        _added(lined, even + _u(2), weight * back[4])
        _added(lined, odd + _u(1), weight * back[3])
        _added(lined, even + _u(1), weight * back[2])
        _added(lined, odd, weight * back[1])
        _added(lined, even, weight * back[0])


@nb.njit(nogil=True, cache=True)
def _row_back(total, y, k, first, end, x, even, odd):  # type: ignore[no-untyped-def]
    if first <= y + k < end:
        at = _u(y + k) * _u(total.shape[1]) + x
        _added(total, at, first_woven(even, odd))
        _added(total, at + _LINE, last_woven(even, odd))


@nb.njit(nogil=True, cache=True)
def _columns_back(lined, y, total, first, end):  # type: ignore[no-untyped-def]
    """Add what `_blocks_back` summed to rows y to y + 7, as far as they are asked for, and clear it."""
    half = _u(lined.shape[2])
    zero = spread(np.float32(0))
    cleared = (zero, zero, zero, zero, zero, zero, zero, zero)
    for x in range(_u(0), _u(total.shape[1]), _TWO_LINES):
        at, both = x // _u(2), _u(2) * half
        even = _inverse(_loaded(lined, at, both))
        odd = _inverse(_loaded(lined, half + at, both))
        _stored(lined, at, both, cleared)
        _stored(lined, half + at, both, cleared)
        _row_back(total, y, 0, first, end, x, even[0], odd[0])
        _row_back(total, y, 1, first, end, x, even[1], odd[1])
        _row_back(total, y, 2, first, end, x, even[2], odd[2])
        _row_back(total, y, 3, first, end, x, even[3], odd[3])
        _row_back(total, y, 4, first, end, x, even[4], odd[4])
        _row_back(total, y, 5, first, end, x, even[5], odd[5])
        _row_back(total, y, 6, first, end, x, even[6], odd[6])
        _row_back(total, y, 7, first, end, x, even[7], odd[7])


@nb.njit(nogil=True, cache=True)
def _kept_above(block, limits, power):  # type: ignore[no-untyped-def]
    """Drop coefficients whose square is below limit·power; one more than the number of those kept."""
    zero, one = spread(np.float32(0)), spread(np.float32(1))
    count = one
    for k in range(_u(1), _u(BLOCK * BLOCK)):
        c = load(block, k * _LINE)
        square, limit = c * c, limits[k] * power
        store(block, k * _LINE, chosen(square, limit, c, zero))
        count = count + chosen(square, limit, one, zero)
    return count


@nb.njit(nogil=True, cache=True)
def _guided_by(block, ideal, variance, power):  # type: ignore[no-untyped-def]
    """Wiener gain from the guide's coefficients; one more than the sum of the squared gains."""
    total = spread(np.float32(1))
    for k in range(_u(1), _u(BLOCK * BLOCK)):
        g = load(ideal, k * _LINE)
        g = g * g
        gain = g / (g + variance[k] * power + np.float32(1e-12))
        store(block, k * _LINE, load(block, k * _LINE) * gain)
        total = total + gain * gain
    return total


@nb.njit(nogil=True, cache=True)
def _lent_by(block, ideal, limits, power):  # type: ignore[no-untyped-def]
    """Coefficients whose square is below limit·power become the guide's, kept below that too."""
    zero = spread(np.float32(0))
    for k in range(_u(1), _u(BLOCK * BLOCK)):
        limit = root(limits[k] * power)
        below = zero - limit
        g, c = load(ideal, k * _LINE), load(block, k * _LINE)
        g = chosen(g, limit, limit, chosen(below, g, below, g))
        store(block, k * _LINE, chosen(chosen(c, zero, c, zero - c), limit, c, chosen(limit, zero, g, c)))


@nb.njit(nogil=True, cache=True)
def _sliding_rows(plane, guide, limits, power, begins, lends, total, weights, first, end):  # type: ignore[no-untyped-def]
    """Denoise rows `first` to `end` of a plane into `total`, blocks at every second row and column.

    Coefficients below limit·power are dropped; with a `guide` each is scaled by g²/(g² + limit·power), or where
    the guide `lends`, those below are taken from it. `power` holds the local variance at every second pixel, and
    `begins` 1 for every second column at which a block begins, else 0. `weights` receives each block's weight.
    Every pixel adds its blocks in the same order whatever the rows asked for.
    """
    height, starts = plane.shape[0], _u(plane.shape[1] // 2 - BLOCK // 2 + 1)
    half = power.shape[1]
    guided = guide.shape[0] > 0
    lined, back = np.zeros((BLOCK, 2, half), np.float32), np.zeros((BLOCK, 2, half), np.float32)
    ideal_lined = np.zeros((BLOCK, 2, half if guided else 0), np.float32)
    block, ideal = np.empty(BLOCK * BLOCK * COUNT, np.float32), np.empty(BLOCK * BLOCK * COUNT, np.float32)
    for y in range((max(first - 7, 0) + 1) // 2 * 2, min(end, height - 7), 2):
        row = _u(y // 2) * _u(half)
        _columns(plane, y, lined)
        if guided:
            _columns(guide, y, ideal_lined)
        for j in range(_u(0), starts, _LINE):
            _blocks(lined, j, block)
            variance = load(power, row + _u(2 * half + 2) + j)
            weight = load(begins, j)
            if lends:
                _blocks(ideal_lined, j, ideal)
                _lent_by(block, ideal, limits, variance)
            elif guided:
                _blocks(ideal_lined, j, ideal)
                weight = weight / _guided_by(block, ideal, limits, variance)
            else:
                weight = weight / _kept_above(block, limits, variance)
            _blocks_back(block, weight, j, back)
            if first <= y < end:
                store(weights, row + j, weight)
        _columns_back(back, y, total, first, end)


@nb.njit(nogil=True, cache=True)
def _over_cells(weights, row, down, summed):  # type: ignore[no-untyped-def]
    """A row of cells of 2×2 pixels: for each the sum of the weights of the blocks over it."""
    down[:] = 0
    for y in range(max(row - 3, 0), row + 1):
        for x in range(_u(down.size)):
            down[x] += weights[_u(y), x]
    for x in range(down.size):
        total = np.float32(0)
        for k in range(max(x - 3, 0), x + 1):
            total += down[k]
        summed[x] = total


@nb.njit(nogil=True, cache=True)
def _cell_rows(weights, summed, first, end):  # type: ignore[no-untyped-def]
    down = np.empty(summed.shape[1], np.float32)
    for y in range(first, end):
        _over_cells(weights, y, down, summed[y])


def pixel_weights(weights: Array) -> Array:
    """H/2×W/2: for each cell of 2×2 pixels the sum of the weights of the blocks over it."""
    summed = np.empty_like(weights)
    in_bands(len(weights), lambda a, b: _cell_rows(weights, summed, a, b))
    return summed


@nb.njit(nogil=True, cache=True)
def _shared_rows(total, weights, summed, out, first, end):  # type: ignore[no-untyped-def]
    """What was summed over the weights: rows 2·first to 2·end."""
    down = np.empty(summed.shape[1], np.float32)
    for y in range(first, end):
        _over_cells(weights, y, down, summed[y])
        for x in range(down.size):
            down[x] = 1 / summed[y, x]
        for k in range(2):
            row = _u(2 * y + k)
            for x in range(_u(down.size)):
                out[row, _u(2) * x] = total[row, _u(2) * x] * down[x]
                out[row, _u(2) * x + _u(1)] = total[row, _u(2) * x + _u(1)] * down[x]


class Shrunk(NamedTuple):
    """The result of a pass; the weight of the block at each second pixel, 0 where none begins; and the sum of those
    over each cell of 2×2 pixels."""

    plane: Array
    blocks: Array
    weights: Array


def shrunk(
    plane: Array, guide: Array | None, deviation: Array, noise: Array, threshold: float, *, lends: bool = False
) -> Shrunk:
    """A pass over a plane (sides even). `noise` (H/2×W/2) is the local deviation, `deviation` (64 values) the noise
    of each coefficient where that is 1. Without a guide, coefficients below threshold·deviation·noise are dropped;
    with one, each is scaled by g²/(g² + deviation²·noise²), or where the guide `lends`, those below the threshold
    are taken from it."""
    height, width = plane.shape
    if width < 2 * COUNT:  # narrower than what is worked on at once
        wider = (0, 0), (0, 2 * COUNT - width)
        guide = None if guide is None else np.pad(guide, wider, "edge")
        noise = np.pad(noise, ((0, 0), (0, COUNT - width // 2)), "edge")
        done, *kinds = shrunk(np.pad(plane, wider, "edge"), guide, deviation, noise, threshold, lends=lends)
        blocks, summed = (weights[:, : width // 2] for weights in kinds)
        return Shrunk(np.ascontiguousarray(done[:, :width]), blocks, summed)
    half = (width // 2 + 2 * COUNT - 1) // COUNT * COUNT
    begins = (np.arange(half) <= width // 2 - BLOCK // 2).astype(np.float32)
    power = np.pad(noise * noise, ((0, 0), (0, half - width // 2)), "edge")
    limits = deviation * deviation
    if guide is None or lends:
        limits = limits * np.float32(threshold) ** 2
    total, weights = np.zeros((height, 2 * half), np.float32), np.zeros_like(power)
    ideal = NO_GUIDE if guide is None else guide
    in_bands(
        height // 2,
        lambda a, b: _sliding_rows(plane, ideal, limits, power, begins, lends, total, weights, 2 * a, 2 * b),
    )
    blocks, done = weights[:, : width // 2], np.empty_like(plane)
    summed = np.empty(blocks.shape, np.float32)
    in_bands(height // 2, lambda a, b: _shared_rows(total, weights, summed, done, a, b))
    return Shrunk(done, blocks, summed)


NO_GUIDE = np.empty((0, 0), np.float32)
