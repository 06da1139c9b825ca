"""Small blocks of a frame: their level, and their variance about a plane, in six signals at once."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import cast

import numba as nb
import numpy as np

from ..colour.opponent import SIGNAL_MATRIX
from ..frames import Array, Frame
from ..parallel import in_bands

SIDE = 16
"""Pixels; 256 samples fix a block's sigma to about 5 % for white noise."""

MOST_CLIPPED = 0.01
"""Share of a block's pixels that may be cut off."""


@dataclass(frozen=True, slots=True)
class Blocks:
    """Blocks in rows × columns. `level` and `variance` are rows×columns×signals (by default the six of
    SIGNALS), in frame units; `clipped`, of the same shape, is the share of pixels at or beyond black or
    white in any channel that the signal is made of; `detail`
    is the RMS of the picture's own fine detail, where a comparison tells it from noise (else 0)."""

    level: Array
    variance: Array
    clipped: Array
    detail: Array

    def cut(self, but: Collection[str] = ()) -> Array:
        """rows×columns: share of pixels cut off in any channel but those named."""
        living = [k for k, name in enumerate("rgb") if name not in but]
        if len(living) in {0, 3}:
            return self.clipped[..., 3]
        share: Array = self.clipped[..., living].max(axis=-1)
        return share


def block_statistics(
    frame: Frame,
    limits: tuple[float, float],
    other: Frame | None = None,
    shift: Array | None = None,
    *,
    refined: bool = True,
    signals: Array = SIGNAL_MATRIX,
) -> Blocks:
    """Statistics of every whole block of a frame; `limits` are the frame values of black and white clip.

    With `other`, variance is that of the difference to it, halved: static detail falls out and noise
    stays. `shift` (rows×columns×2, whole pixels x, y) says where each block is found in `other`; a
    block that is not wholly inside it gets an infinite variance. The fraction of a pixel that whole
    shifts leave is found for each block from its luma gradients (Lucas and Kanade 1981) and taken off
    to first order, unless `refined` is off. The gradients are those of the mean of both blocks: their
    noise does not correlate with that of the difference, so nothing of the noise is explained away.

    `detail` comes of the power of the Laplacian (summed over R'G'B') less the noise in it, which half
    the power of the difference of both Laplacians tells.

    `signals` are the rows of weights (signals × channels) of what is measured; a single plane is
    measured as H×W×1 with the weight 1.
    """
    rows, columns = frame.shape[0] // SIDE, frame.shape[1] // SIDE
    level = np.zeros((rows, columns, len(signals)), np.float32)
    variance = np.zeros_like(level)
    clipped = np.zeros_like(level)
    detail = np.zeros((rows, columns), np.float32)
    compared = np.empty((0, 0, frame.shape[2]), np.float32) if other is None else other
    moves = np.zeros((rows, columns, 2), np.int32) if shift is None else shift.astype(np.int32)
    kernel = _ROWS[frame.shape[2], len(signals)]
    in_bands(
        rows,
        lambda a, b: kernel(
            frame, limits, compared, moves, refined, signals, level, variance, clipped, detail, a, b
        ),
        least=2,
    )
    return Blocks(level, variance, clipped, detail)


@nb.njit(nogil=True, cache=True)
def _gradient(frame, y, x, c):  # type: ignore[no-untyped-def]
    """Central differences (x, y) of a channel, one-sided at the frame's edge."""
    xa, xb = max(x - 1, 0), min(x + 1, frame.shape[1] - 1)
    ya, yb = max(y - 1, 0), min(y + 1, frame.shape[0] - 1)
    return (frame[y, xb, c] - frame[y, xa, c]) * np.float32(0.5), (frame[yb, x, c] - frame[ya, x, c]) * np.float32(
        0.5
    )


@nb.njit(nogil=True, cache=True)
def _laplacian(frame, y, x, c):  # type: ignore[no-untyped-def]
    """Four neighbours less four times the pixel, the frame's edge repeated."""
    xa, xb = max(x - 1, 0), min(x + 1, frame.shape[1] - 1)
    ya, yb = max(y - 1, 0), min(y + 1, frame.shape[0] - 1)
    return frame[y, xa, c] + frame[y, xb, c] + frame[ya, x, c] + frame[yb, x, c] - 4 * frame[y, x, c]


@nb.njit(nogil=True, cache=True)
def _detail(frame, other, y0, x0, dy, dx):  # type: ignore[no-untyped-def]
    """RMS of the Laplacian that both pictures of a block share, over all channels."""
    total = 0.0
    for j in range(SIDE):
        for i in range(SIDE):
            for c in range(3):
                here = _laplacian(frame, y0 + j, x0 + i, c)
                there = _laplacian(other, y0 + j + dy, x0 + i + dx, c)
                total += here * here - 0.5 * (here - there) * (here - there)
    return np.sqrt(max(total / (SIDE * SIDE), 0.0))


@nb.njit(nogil=True, cache=True)
def _fraction(frame, other, y0, x0, dy, dx):  # type: ignore[no-untyped-def]
    """The part of a pixel (x, y) by which a block's whole shift is off, at most one."""
    xx, yy, xy, xd, yd = 0.0, 0.0, 0.0, 0.0, 0.0
    for j in range(SIDE):
        for i in range(SIDE):
            y, x = y0 + j, x0 + i
            gx, gy, d = 0.0, 0.0, 0.0
            for c in range(3):
                ax, ay = _gradient(frame, y, x, c)
                bx, by = _gradient(other, y + dy, x + dx, c)
                gx += (ax + bx) * 0.5
                gy += (ay + by) * 0.5
                d += frame[y, x, c] - other[y + dy, x + dx, c]
            xx += gx * gx
            yy += gy * gy
            xy += gx * gy
            xd += gx * d
            yd += gy * d
    determinant = xx * yy - xy * xy
    if determinant <= 1e-12 * (xx + yy) * (xx + yy) or determinant <= 0:
        return 0.0, 0.0
    fx = (yy * xd - xy * yd) / determinant
    fy = (xx * yd - xy * xd) / determinant
    return min(max(fx, -1.0), 1.0), min(max(fy, -1.0), 1.0)


@nb.njit(nogil=True, cache=True)
def fractions(frame, other, place, shift):  # type: ignore[no-untyped-def]
    """The part of a pixel (N×2: x, y) by which whole shifts (N×2: x, y) of blocks (N×2: row, column) are off."""
    found = np.empty((len(place), 2), np.float32)
    for k in range(len(place)):
        y0, x0 = place[k, 0] * SIDE, place[k, 1] * SIDE
        found[k, 0], found[k, 1] = _fraction(frame, other, y0, x0, shift[k, 1], shift[k, 0])
    return found


def _kernel(channels: int, signals: int) -> Callable[..., None]:
    """The statistics of rows of blocks, compiled for so many channels and signals: as constants they
    let the inner loops unroll, which makes them eight times as fast."""

    @nb.njit(nogil=True, cache=True)
    def rows_kernel(frame, limits, other, moves, refined, matrix, level, variance, clipped, detail, first, end):  # type: ignore[no-untyped-def]
        compared = other.shape[0] > 0
        half = (SIDE - 1) / 2.0
        spread = SIDE * (SIDE * (SIDE * SIDE - 1) / 12.0)
        count = float(SIDE * SIDE)
        freedom = count - (5 if compared and refined else 3)
        for row in range(first, end):
            for column in range(level.shape[1]):
                y0, x0 = row * SIDE, column * SIDE
                dy, dx = 0, 0
                fx, fy = 0.0, 0.0
                if compared:
                    dx, dy = moves[row, column, 0], moves[row, column, 1]
                    inside = 0 <= y0 + dy <= other.shape[0] - SIDE and 0 <= x0 + dx <= other.shape[1] - SIDE
                    if not inside:
                        variance[row, column] = np.inf
                        dy, dx = 0, 0
                    elif refined:
                        fx, fy = _fraction(frame, other, y0, x0, dy, dx)
                        detail[row, column] = _detail(frame, other, y0, x0, dy, dx)
                mean = np.zeros(channels)
                total = np.zeros(channels)
                slope_x = np.zeros(channels)
                slope_y = np.zeros(channels)
                cross = np.zeros((channels, channels))
                beyond = 0
                beyond_channel = np.zeros(channels)
                value = np.zeros(channels)
                for j in range(SIDE):
                    for i in range(SIDE):
                        out = False
                        y, x = y0 + j, x0 + i
                        for c in range(channels):
                            v = frame[y, x, c]
                            if v <= limits[0] or v >= limits[1]:
                                out = True
                                beyond_channel[c] += 1
                            mean[c] += v
                            if compared:
                                v -= other[y + dy, x + dx, c]
                                if fx != 0.0 or fy != 0.0:
                                    ax, ay = _gradient(frame, y, x, c)
                                    bx, by = _gradient(other, y + dy, x + dx, c)
                                    v -= fx * (ax + bx) * 0.5 + fy * (ay + by) * 0.5
                            value[c] = v
                        beyond += out
                        for c in range(channels):
                            total[c] += value[c]
                            slope_x[c] += value[c] * (i - half)
                            slope_y[c] += value[c] * (j - half)
                            for d in range(c, channels):
                                cross[c, d] += value[c] * value[d]
                for c in range(channels):
                    for d in range(c, channels):
                        # the variance about a plane: the sums of squares that mean and slopes explain go off
                        explained = total[c] * total[d] / count
                        explained += (slope_x[c] * slope_x[d] + slope_y[c] * slope_y[d]) / spread
                        cross[c, d] = (cross[c, d] - explained) / freedom
                        cross[d, c] = cross[c, d]
                for s in range(signals):
                    m = 0.0
                    v = 0.0
                    parts = 0
                    part = 0
                    for c in range(channels):
                        m += matrix[s, c] * mean[c] / count
                        if matrix[s, c] != 0:
                            parts += 1
                            part = c
                        for d in range(channels):
                            v += matrix[s, c] * matrix[s, d] * cross[c, d]
                    level[row, column, s] = m
                    clipped[row, column, s] = (beyond_channel[part] if parts == 1 else beyond) / count
                    if variance[row, column, s] < np.inf:
                        variance[row, column, s] = max(v, 0.0) * (0.5 if compared else 1.0)

    return cast(Callable[..., None], rows_kernel)


_ROWS = {shape: _kernel(*shape) for shape in ((3, 6), (1, 1))}
