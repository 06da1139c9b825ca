"""Kernels of the sliding 8×8 DCT: hard threshold, then a Wiener pass guided by the first.

After Yu and Sapiro 2011 (IPOL 1, "DCT image denoising"), with a deviation for each coefficient in
place of one sigma. Sixteen blocks of a row are carried side by side, so that every arithmetic line
works on sixteen numbers at once.
"""

from __future__ import annotations

import numba as nb
import numpy as np

LANES = 16
SIZE = 8

_K = np.arange(SIZE)
DCT = (np.cos(np.pi * (2 * _K[None, :] + 1) * _K[:, None] / 16) / 2).astype(np.float32)
DCT[0] /= np.sqrt(2, dtype=np.float32)
"""Orthonormal DCT-II of eight points: rows are frequencies."""

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


@nb.njit(nogil=True, cache=True)
def _gather(plane, y, x, step, count, block):  # type: ignore[no-untyped-def]
    for row in range(8):
        for column in range(8):
            at = (row * 8 + column) * 16
            for lane in range(count):
                block[at + lane] = plane[y + row, x + lane * step + column]


@nb.njit(nogil=True, cache=True)
def _scatter(block, weight, y, x, step, count, total, weights, first, end):  # type: ignore[no-untyped-def]
    for lane in range(count):
        left = x + lane * step
        w = weight[lane]
        for row in range(8):
            if first <= y + row < end:
                for column in range(8):
                    total[y + row, left + column] += w * block[(row * 8 + column) * 16 + lane]
                    weights[y + row, left + column] += w


@nb.njit(nogil=True, cache=True)
def sliding_rows(plane, guide, deviation, noise, threshold, step, total, weights, first, end):  # type: ignore[no-untyped-def]
    """Denoise rows `first` to `end` of a plane into `total` / `weights`.

    `deviation` (64 values) is the noise of each coefficient at noise 1, `noise` (H×W) the local
    deviation. With an empty `guide` coefficients below threshold·deviation·noise are dropped; with
    one, each is scaled by g²/(g² + deviation²·noise²). Blocks start at multiples of `step`. Every
    pixel adds its blocks in the same order whatever the rows asked for.
    """
    height, width = plane.shape
    guided = guide.shape[0] > 0
    block = np.empty(1024, np.float32)
    ideal = np.empty(1024, np.float32)
    spare = np.empty(1024, np.float32)
    weight = np.empty(16, np.float32)
    sigma = np.empty(16, np.float32)
    block[:] = 0
    ideal[:] = 0
    starts = (width - 8) // step + 1
    row_from = max(first - 7, 0)
    row_from = (row_from + step - 1) // step * step
    for y in range(row_from, min(end, height - 7), step):
        for group in range(0, starts, 16):
            count = min(16, starts - group)
            x = group * step
            _gather(plane, y, x, step, count, block)
            _forward(block, spare)
            if guided:
                _gather(guide, y, x, step, count, ideal)
                _forward(ideal, spare)
            for lane in range(16):
                sigma[lane] = noise[y + 4, min(x + lane * step + 4, width - 1)]
                weight[lane] = 0
            for k in range(64):
                for lane in range(16):
                    i = k * 16 + lane
                    s = deviation[k] * sigma[lane]
                    if guided:
                        g = ideal[i] * ideal[i]
                        gain = g / (g + s * s + np.float32(1e-12)) if k > 0 else np.float32(1)
                    else:
                        gain = np.float32(1) if k == 0 or abs(block[i]) > threshold * s else np.float32(0)
                    block[i] *= gain
                    weight[lane] += gain * gain
            for lane in range(16):
                weight[lane] = 1 / weight[lane]
            _inverse(block, spare)
            _scatter(block, weight, y, x, step, count, total, weights, first, end)
