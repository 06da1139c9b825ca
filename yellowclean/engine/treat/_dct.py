"""Kernels of the sliding 8×8 DCT: hard threshold, then a Wiener pass guided by the first.

After Yu and Sapiro 2011 (IPOL 1, "DCT image denoising"), with a deviation for each coefficient in
place of one sigma. Sixteen blocks of a row are carried side by side, so that every arithmetic line
works on sixteen numbers at once.
"""

from __future__ import annotations

import numba as nb
import numpy as np

from ..frames import Array
from ..octaves import DCT
from ..parallel import in_bands

_C = DCT


@nb.njit(nogil=True, cache=True, inline="always")
def _forward8(source, target, base, stride):  # type: ignore[no-untyped-def]
    """Eight-point DCT over elements base + k·stride of `source` for all lanes (even and odd halves)."""
    for lane in range(16):
        i = base + lane
        a0 = source[i]
        a1 = source[i + stride]
        a2 = source[i + 2 * stride]
        a3 = source[i + 3 * stride]
        a4 = source[i + 4 * stride]
        a5 = source[i + 5 * stride]
        a6 = source[i + 6 * stride]
        a7 = source[i + 7 * stride]
        s0 = a0 + a7
        s1 = a1 + a6
        s2 = a2 + a5
        s3 = a3 + a4
        d0 = a0 - a7
        d1 = a1 - a6
        d2 = a2 - a5
        d3 = a3 - a4
        target[i] = _C[0, 0] * (s0 + s1 + s2 + s3)
        target[i + stride] = _C[1, 0] * d0 + _C[1, 1] * d1 + _C[1, 2] * d2 + _C[1, 3] * d3
        target[i + 2 * stride] = _C[2, 0] * (s0 - s3) + _C[2, 1] * (s1 - s2)
        target[i + 3 * stride] = _C[3, 0] * d0 + _C[3, 1] * d1 + _C[3, 2] * d2 + _C[3, 3] * d3
        target[i + 4 * stride] = _C[4, 0] * (s0 - s1 - s2 + s3)
        target[i + 5 * stride] = _C[5, 0] * d0 + _C[5, 1] * d1 + _C[5, 2] * d2 + _C[5, 3] * d3
        target[i + 6 * stride] = _C[6, 0] * (s0 - s3) + _C[6, 1] * (s1 - s2)
        target[i + 7 * stride] = _C[7, 0] * d0 + _C[7, 1] * d1 + _C[7, 2] * d2 + _C[7, 3] * d3


@nb.njit(nogil=True, cache=True, inline="always")
def _inverse8(source, target, base, stride):  # type: ignore[no-untyped-def]
    """Transpose of `_forward8`."""
    for lane in range(16):
        i = base + lane
        c0 = source[i]
        c1 = source[i + stride]
        c2 = source[i + 2 * stride]
        c3 = source[i + 3 * stride]
        c4 = source[i + 4 * stride]
        c5 = source[i + 5 * stride]
        c6 = source[i + 6 * stride]
        c7 = source[i + 7 * stride]
        p = _C[0, 0] * c0
        q = _C[4, 0] * c4
        u = _C[2, 0] * c2 + _C[6, 0] * c6
        v = _C[2, 1] * c2 + _C[6, 1] * c6
        e0 = p + q + u
        e1 = p - q + v
        e2 = p - q - v
        e3 = p + q - u
        o0 = _C[1, 0] * c1 + _C[3, 0] * c3 + _C[5, 0] * c5 + _C[7, 0] * c7
        o1 = _C[1, 1] * c1 + _C[3, 1] * c3 + _C[5, 1] * c5 + _C[7, 1] * c7
        o2 = _C[1, 2] * c1 + _C[3, 2] * c3 + _C[5, 2] * c5 + _C[7, 2] * c7
        o3 = _C[1, 3] * c1 + _C[3, 3] * c3 + _C[5, 3] * c5 + _C[7, 3] * c7
        target[i] = e0 + o0
        target[i + stride] = e1 + o1
        target[i + 2 * stride] = e2 + o2
        target[i + 3 * stride] = e3 + o3
        target[i + 4 * stride] = e3 - o3
        target[i + 5 * stride] = e2 - o2
        target[i + 6 * stride] = e1 - o1
        target[i + 7 * stride] = e0 - o0


@nb.njit(nogil=True, cache=True)
def _forward(block, spare):  # type: ignore[no-untyped-def]
    for row in range(8):
        _forward8(block, spare, row * 128, 16)
    for column in range(8):
        _forward8(spare, block, column * 16, 128)


@nb.njit(nogil=True, cache=True)
def _inverse(block, spare):  # type: ignore[no-untyped-def]
    for column in range(8):
        _inverse8(block, spare, column * 16, 128)
    for row in range(8):
        _inverse8(spare, block, row * 128, 16)


# Unsigned positions: with signed ones every access would first be tested for a negative index, and
# no line of lanes could be carried as one.


@nb.njit(nogil=True, cache=True)
def _gather(parts, y, j, block):  # type: ignore[no-untyped-def]
    """Sixteen neighbouring blocks of a row, from the plane's even and odd columns."""
    for row in range(8):
        line = nb.uint64(y + row)
        for column in range(8):
            at = nb.uint64((row * 8 + column) * 16)
            start = nb.uint64(j + column // 2)
            half = nb.uint64(column % 2)
            for lane in range(nb.uint64(16)):
                block[at + lane] = parts[half, line, start + lane]


@nb.njit(nogil=True, cache=True)
def _scatter(block, weight, y, j, total, first, end):  # type: ignore[no-untyped-def]
    """Add the blocks, each times its weight. Columns run backwards so that a pixel receives its blocks
    from left to right however they are grouped, and sums come out the same in every region."""
    for row in range(8):
        if first <= y + row < end:
            line = nb.uint64(y + row)
            for column in range(7, -1, -1):
                at = nb.uint64((row * 8 + column) * 16)
                start = nb.uint64(j + column // 2)
                half = nb.uint64(column % 2)
                for lane in range(nb.uint64(16)):
                    total[half, line, start + lane] += weight[lane] * block[at + lane]


@nb.njit(nogil=True, cache=True)
def _kept_above(block, deviation, bar, power, weight):  # type: ignore[no-untyped-def]
    """Drop coefficients whose square is below bar·deviation²·power; count the kept into `weight`."""
    for k in range(1, 64):
        at = nb.uint64(k * 16)
        limit = deviation[k] * deviation[k] * bar
        for lane in range(nb.uint64(16)):
            c = block[at + lane]
            gain = np.float32(1) if c * c > limit * power[lane] else np.float32(0)
            block[at + lane] = c * gain
            weight[lane] += gain


@nb.njit(nogil=True, cache=True)
def _guided_by(block, ideal, deviation, power, weight):  # type: ignore[no-untyped-def]
    """Wiener gain from the guide's coefficients; the sum of squared gains into `weight`."""
    for k in range(1, 64):
        at = nb.uint64(k * 16)
        d = deviation[k] * deviation[k]
        for lane in range(nb.uint64(16)):
            g = ideal[at + lane] * ideal[at + lane]
            gain = g / (g + d * power[lane] + np.float32(1e-12))
            block[at + lane] *= gain
            weight[lane] += gain * gain


@nb.njit(nogil=True, cache=True)
def _lent_by(block, ideal, deviation, bar, power):  # type: ignore[no-untyped-def]
    """Coefficients whose square is below bar·deviation²·power become the guide's, kept below that too."""
    for k in range(1, 64):
        at = nb.uint64(k * 16)
        for lane in range(nb.uint64(16)):
            limit = deviation[k] * np.sqrt(bar * power[lane])
            g = min(max(ideal[at + lane], -limit), limit)
            block[at + lane] = g if abs(block[at + lane]) < limit else block[at + lane]


@nb.njit(nogil=True, cache=True)
def sliding_rows(parts, guide, deviation, noise, threshold, lends, total, weights, first, end):  # type: ignore[no-untyped-def]
    """Denoise rows `first` to `end` of a plane into `total`, blocks at every second row and column.

    `parts` is the plane split by `columns_apart`, `noise` (H/2×W/2) the local deviation at every
    second pixel, `deviation` (64 values) the noise of each coefficient where that is 1. With an
    empty `guide` coefficients below threshold·deviation·noise are dropped; with one (split alike),
    each is scaled by g²/(g² + deviation²·noise²), or where the guide `lends`, those below the threshold
    are taken from it. `weights` (H/2×W/2) receives each block's weight.
    Every pixel adds its blocks in the same order whatever the rows asked for.
    """
    height = parts.shape[1]
    width = (parts.shape[2] - PADDING) * 2
    guided = guide.shape[1] > 0
    block = np.zeros(1024, np.float32)
    ideal = np.zeros(1024, np.float32)
    spare = np.zeros(1024, np.float32)
    weight = np.zeros(16, np.float32)
    power = np.zeros(16, np.float32)
    starts = (width - 8) // 2 + 1
    square = threshold * threshold
    for y in range((max(first - 7, 0) + 1) // 2 * 2, min(end, height - 7), 2):
        for j in range(0, starts, 16):
            _gather(parts, y, j, block)
            _forward(block, spare)
            if guided:
                _gather(guide, y, j, ideal)
                _forward(ideal, spare)
            for lane in range(16):
                s = noise[y // 2 + 2, min(j + lane + 2, noise.shape[1] - 1)]
                power[lane] = s * s
                weight[lane] = 1
            if lends:
                _lent_by(block, ideal, deviation, square, power)
            elif guided:
                _guided_by(block, ideal, deviation, power, weight)
            else:
                _kept_above(block, deviation, square, power, weight)
            for lane in range(16):
                weight[lane] = 1 / weight[lane] if j + lane < starts else 0
            _inverse(block, spare)
            _scatter(block, weight, y, j, total, first, end)
            if first <= y < end or (first == 0 and y == 0):
                for lane in range(min(16, starts - j)):
                    weights[y // 2, j + lane] = weight[lane]


PADDING = 20
"""Columns behind a split plane, so that sixteen lanes may always be carried."""


def columns_apart(plane: Array) -> Array:
    """2×H×(W/2+PADDING): even and odd columns, so that neighbouring blocks lie side by side."""
    height, width = plane.shape
    parts = np.zeros((2, height, width // 2 + PADDING), np.float32)
    parts[:, :, : width // 2] = plane.reshape(height, width // 2, 2).transpose(2, 0, 1)
    return parts


def columns_joined(parts: Array) -> Array:
    """The inverse of `columns_apart`."""
    height, half = parts.shape[1], parts.shape[2] - PADDING
    joined: Array = parts[:, :, :half].transpose(1, 2, 0).reshape(height, 2 * half)
    return np.ascontiguousarray(joined)


def pixel_weights(weights: Array) -> Array:
    """H/2×W/2: for each cell of 2×2 pixels the sum of the weights of the blocks over it."""
    padded = np.pad(weights, ((3, 0), (3, 0)))
    across = padded[:, :-3] + padded[:, 1:-2] + padded[:, 2:-1] + padded[:, 3:]
    summed: Array = across[:-3] + across[1:-2] + across[2:-1] + across[3:]
    return summed


NO_GUIDE = np.empty((2, 0, 0), np.float32)


def shrunk(
    parts: Array, guide: Array, deviation: Array, noise: Array, threshold: float, lends: bool = False
) -> tuple[Array, Array]:
    """A pass over a plane split by `columns_apart`: (result with its columns apart, weight of the block at each
    second pixel; 0 where none begins)."""
    height = parts.shape[1]
    total, blocks = np.zeros_like(parts), np.zeros_like(noise)
    in_bands(
        height // 2,
        lambda a, b: sliding_rows(
            parts, guide, deviation, noise, np.float32(threshold), lends, total, blocks, 2 * a, 2 * b
        ),
    )
    weights = pixel_weights(blocks)
    total[:, :, : weights.shape[1]] /= weights.repeat(2, axis=0)
    return total, blocks
