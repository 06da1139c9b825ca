"""Variance stabilising: after it, noise is 1 at every level, and one threshold serves all.

Forward: f(x) = ∫ dx / sigma(x), the generalised Anscombe idea for a measured curve. Back: the plain
inverse of an average darkens or lifts (f is curved), so the bias is removed after Mäkitalo and Foi
2013: E[f(x)] over the noise at a level is computed by Gauss-Hermite quadrature, and its inverse
gives the level. What is taken off is in proportion to the noise variance that was removed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np

from ..colour.opponent import opponent_axes
from ..frames import Array, Frame
from ..parallel import in_bands
from ..simd import unsigned as _u
from .profile import NoiseProfile

LOW, HIGH, POINTS = -0.25, 1.5, 7169
"""Frame values covered by the tables (step 1/4096); beyond them the ends continue straight."""

SIGMA_FLOOR = 0.02 / 1023
"""A fiftieth of a code value: no sigma is taken for smaller, so that f stays finite."""


@dataclass(frozen=True, slots=True)
class Stabiliser:
    """Tables for R', G' and B': f over levels, its inverse and its bias over f; and the axes of the channels
    that live."""

    forward: Array
    inverse: Array
    bias: Array
    start: Array
    step: Array
    axes: Array

    @staticmethod
    def of(profile: NoiseProfile) -> Stabiliser:
        grid = np.linspace(LOW, HIGH, POINTS)
        tables = [_tables(grid, profile.curve.sigma_at(grid.astype(np.float32), c)) for c in "rgb"]
        forward, inverse, bias, start, step = (np.array(parts) for parts in zip(*tables, strict=True))
        single = (forward, inverse, bias, start, step, opponent_axes(profile.curve.dead))
        return Stabiliser(*(np.ascontiguousarray(t, np.float32) for t in single))

    def opponent(self, rgb: Frame) -> Array:
        """Stabilised opponent planes, 3×H×W, each with noise deviation near 1."""
        planes = np.empty((3, *rgb.shape[:2]), np.float32)
        in_bands(rgb.shape[0], lambda a, b: _forward_rows(rgb, self.forward, self.axes, planes, a, b))
        return planes

    def applied(self, rgb: Frame, before: Array, after: Array, removed: Array) -> Frame:
        """The frame whose opponent planes went from `before` to `after`.

        `removed` (2×H×W) is the share of the noise variance taken out, for luma and chroma. Only the
        change is added to `rgb`, so that an unchanged plane returns the very same pixels.
        """
        out = np.empty_like(rgb)
        tables = self.inverse, self.bias, self.start, self.step
        in_bands(
            rgb.shape[0],
            lambda a, b: _inverse_rows(rgb, before, after, removed, *tables, self.axes, out, a, b),
        )
        return out


def _tables(grid: Array, sigma: Array) -> tuple[Array, Array, Array, float, float]:
    """(f, f⁻¹, bias, start and step of the f axis) for one channel."""
    sigma = np.maximum(np.asarray(sigma, np.float64), SIGMA_FLOOR)
    slope = 1 / sigma
    rise = np.concatenate([[0], np.cumsum((slope[1:] + slope[:-1]) / 2 * np.diff(grid))])
    nodes, weights = np.polynomial.hermite_e.hermegauss(15)
    expected = sum(
        w * np.interp(grid + sigma * z, grid, rise) for z, w in zip(nodes, weights / weights.sum(), strict=True)
    )
    axis = np.linspace(rise[0], rise[-1], POINTS)
    inverse = np.interp(axis, rise, grid)
    unbiased = np.interp(axis, np.maximum.accumulate(expected), grid)
    bias = np.where((inverse > LOW + 0.1) & (inverse < HIGH - 0.1), unbiased - inverse, 0.0)
    return rise, inverse, bias, rise[0], axis[1] - axis[0]


@nb.njit(nogil=True, cache=True)
def _looked_up(table, position):  # type: ignore[no-untyped-def]
    """Linear interpolation with straight continuation at both ends."""
    k = _u(min(max(position, np.float32(0)), np.float32(table.shape[0] - 2)))
    return table[k] + (position - np.float32(k)) * (table[k + _u(1)] - table[k])


@nb.njit(nogil=True, cache=True)
def _forward_rows(rgb, table, axes, out, first, end):  # type: ignore[no-untyped-def]
    scale = np.float32((POINTS - 1) / (HIGH - LOW))
    for y in range(first, end):
        for x in range(rgb.shape[1]):
            r = _looked_up(table[0], (rgb[y, x, 0] - np.float32(LOW)) * scale)
            g = _looked_up(table[1], (rgb[y, x, 1] - np.float32(LOW)) * scale)
            b = _looked_up(table[2], (rgb[y, x, 2] - np.float32(LOW)) * scale)
            for k in range(3):
                out[k, y, x] = axes[k, 0] * r + axes[k, 1] * g + axes[k, 2] * b


@nb.njit(nogil=True, cache=True)
def _inverse_rows(rgb, before, after, removed, inverse, bias, start, step, axes, out, first, end):  # type: ignore[no-untyped-def]
    width = rgb.shape[1]
    at_old, at_new = np.empty(width, np.float32), np.empty(width, np.float32)
    for y in range(first, end):
        row = _u(y)
        for c in range(3):
            lives = np.float32(1 / 3) if axes[0, c] != 0 or axes[1, c] != 0 or axes[2, c] != 0 else np.float32(0)
            a0, a1, a2, per_step = axes[0, c], axes[1, c], axes[2, c], 1 / step[c]
            for x in range(_u(width)):
                old = a0 * before[0, row, x] + a1 * before[1, row, x] + a2 * before[2, row, x]
                new = a0 * after[0, row, x] + a1 * after[1, row, x] + a2 * after[2, row, x]
                at_old[x] = (old - start[c]) * per_step
                at_new[x] = (new - start[c]) * per_step
            back, lift = inverse[c], bias[c]
            for x in range(_u(width)):
                at = at_new[x]
                k = _u(min(max(at, np.float32(0)), np.float32(back.shape[0] - 2)))
                part = at - np.float32(k)
                new = back[k] + part * (back[k + _u(1)] - back[k])
                inside = min(max(part, np.float32(0)), np.float32(1))
                lifted = lift[k] + inside * (lift[k + _u(1)] - lift[k])
                taken = (removed[0, row, x] + 2 * removed[1, row, x]) * lives
                out[row, x, c] = rgb[row, x, c] + (new - _looked_up(back, at_old[x]) + taken * lifted)
