"""The smoothest surface inside a tube: what a rounded ramp was before it was rounded, as far as that can be told.

The sum of squared second differences is made small by accelerated gradient steps (Nesterov 1983), each followed by
the projection into the tube; from coarse to fine, where the tube of a coarser pixel is the mean of those of its
four finer ones, which holds the mean of what they hold. Second differences across an edge are left out, and on
coarser pixels those across several steps too: there the finer ones see enough. Last, where steps are crossed within
a few pixels, means are those of what is there: errors of rounding are as good as noise then, and cancel (Widrow,
Kollár, Liu 1996, "Statistical theory of quantization"), while a surface without bends cuts off what is round."""

from __future__ import annotations

import cv2
import numba as nb
import numpy as np
import numpy.typing as npt

from ..frames import Array
from ..octaves import doubled
from ..parallel import in_bands

SPREADS = (0, 0, 0, 2, 4, 2)
"""Rounds of spreading from fine to coarse: means of neighbours, which bridge wide runs in few rounds."""

ROUNDS = (40, 28, 16, 6, 0, 0)
"""Gradient steps after those."""

STEEP = (5.0, 3.0, 2.5, 2.1, 1.5, 1.2)
"""Half steps between neighbouring pixels from which on there is an edge, from fine to coarse."""

STAYS, LEAVES = 0.6, 0.9
"""Parts of the tube's half width up to which a spread is believed, and from which on not."""

RATE = np.float32(0.03)
"""Length of a gradient step: below 1/32, the inverse of the largest curvature of the sum."""

MEANS = (6, 3)
"""Deviations in pixels of the means that are held."""

CROSSED = 0.5
"""Steps within such a deviation from which on its mean is held."""

EDGE = 4.0
"""Steps from a pixel to the next, up or down, from which on it belongs to no mean."""

GRID = 1 << (len(ROUNDS) - 1)
MARGIN = sum((SPREADS[k] + 2 * ROUNDS[k] + 3) << k for k in range(len(ROUNDS))) + sum(4 * s for s in MEANS) + 2
"""Pixels beyond which the surroundings no longer matter."""


def smoothest(planes: Array, half: Array, rounding: float = 1.0) -> Array:
    """The smoothest planes (P×H×W) that lie within ±`half` (P×H×W) of the given ones; sides are multiples of
    `GRID`. `rounding` is the part of `half` that rounding alone makes."""
    levels: list[tuple[Array, Array]] = [(planes, half)]
    for _ in ROUNDS[1:]:
        levels.append((_halved(levels[-1][0]), _halved(levels[-1][1])))
    change: Array = np.zeros_like(levels[-1][0])
    for k in reversed(range(len(ROUNDS))):
        given, room = levels[k]
        if change.shape != given.shape:
            change = np.stack([doubled(plane) for plane in change]).astype(np.float32)
        change = _relaxed(given, room, rounding, change, SPREADS[k], ROUNDS[k], STEEP[k]) - given
    held = _with_means(planes, change, np.float32(2 * rounding) * half)
    surface: Array = planes + np.clip(held, -half, half)
    return surface


def _with_means(given: Array, change: Array, step: Array) -> Array:
    """A change of planes that leaves their means where the surface crosses steps fast, P×H×W."""
    slopes = [_slopes(surface, size) for surface, size in zip(given + change, step, strict=True)]
    level = (np.abs(slopes).max(axis=(0, 1)) < EDGE).astype(np.float32)
    for deviation in MEANS:
        weight = np.maximum(_mean(level, deviation), np.float32(1e-3))
        held = []
        for plane, size, slope in zip(change, step, slopes, strict=True):
            down, across = (_mean(level * s, deviation) / weight * np.float32(deviation / CROSSED) for s in slope)
            share = level * (size > 0) * (1 - np.exp(-((down**2 + across**2) ** 2)))
            held.append(plane - share * _mean(level * plane, deviation) / weight)
        change = np.stack(held)
    return change


def _slopes(plane: Array, step: Array) -> Array:
    """Change per pixel, down and across, in steps: 2×H×W."""
    size = np.maximum(step, np.float32(1e-6))
    return np.stack([np.gradient(plane, axis=axis) / size for axis in (0, 1)])


def _mean(plane: Array, deviation: float) -> Array:
    return cv2.GaussianBlur(plane, (0, 0), deviation)


def _halved(planes: Array) -> Array:
    quarter = np.float32(0.25)
    rows = planes[:, ::2] + planes[:, 1::2]
    mean: Array = (rows[:, :, ::2] + rows[:, :, 1::2]) * quarter
    return mean


def _relaxed(
    given: Array, room: Array, rounding: float, change: Array, spreads: int, rounds: int, steep: float
) -> Array:
    low, high = given - room, given + room
    level_x, level_y = _no_edges(given, room, steep)
    last = np.clip(given + change, low, high)
    if spreads:
        wide: Array = last
        for _ in range(spreads):
            wide = _spread(wide, level_x, level_y)
        last = np.clip(
            last + _believed(np.abs(wide - given), np.float32(rounding) * room) * (wide - last), low, high
        )
    ahead, spare = last.copy(), np.empty_like(last)
    for k in range(rounds):
        momentum = np.float32(k / (k + 3))
        in_bands(
            given.shape[1],
            lambda a, b, y=ahead, out=spare, m=momentum: _step_rows(  # type: ignore[misc]
                y, last, low, high, level_x, level_y, m, out, a, b
            ),
        )
        ahead, spare = spare, ahead
    return last


def _no_edges(given: Array, room: Array, steep: float) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """Pixels whose neighbours on both sides, in a row and in a column, are no edge away in any plane."""
    height, width = given.shape[1:]
    limit = np.float32(steep) * room.max(axis=0)
    near_x, near_y = np.ones((height, width - 1), bool), np.ones((height - 1, width), bool)
    for plane in given:
        near_x &= np.abs(np.diff(plane, axis=1)) <= np.minimum(limit[:, 1:], limit[:, :-1])
        near_y &= np.abs(np.diff(plane, axis=0)) <= np.minimum(limit[1:], limit[:-1])
    level_x, level_y = np.zeros((height, width), bool), np.zeros((height, width), bool)
    level_x[:, 1:-1] = near_x[:, 1:] & near_x[:, :-1]
    level_y[1:-1] = near_y[1:] & near_y[:-1]
    return level_x, level_y


def _believed(moved: Array, room: Array) -> Array:
    """How far a spread is believed, H×W: in full where it stays well inside the tube all around, not at all where
    it leaves it, since what curves more than a wide mean can follow is left to finer pixels."""
    share = (moved / np.maximum(room, np.float32(1e-6))).max(axis=0)
    worst = cv2.dilate(share, np.ones((3, 3), np.uint8))
    believed: Array = np.clip((LEAVES - worst) / np.float32(LEAVES - STAYS), 0, 1)
    return believed


def _spread(planes: Array, level_x: npt.NDArray[np.bool_], level_y: npt.NDArray[np.bool_]) -> Array:
    """Each pixel moved towards the mean of its neighbours, in a row and in a column, where there is no edge."""
    quarter = np.float32(0.25)
    moved = planes.copy()
    bend = planes[:, :, 2:] - 2 * planes[:, :, 1:-1] + planes[:, :, :-2]
    moved[:, :, 1:-1] += quarter * level_x[:, 1:-1] * bend
    bend = planes[:, 2:] - 2 * planes[:, 1:-1] + planes[:, :-2]
    moved[:, 1:-1] += quarter * level_y[1:-1] * bend
    return moved


@nb.njit(nogil=True, cache=True)
def _step_rows(ahead, last, low, high, level_x, level_y, momentum, out, first, end):  # type: ignore[no-untyped-def]
    """One gradient step from `ahead` into the tube: the new surface in `last`, its extrapolation in `out`."""
    count, height, width = ahead.shape
    for p in range(count):
        for r in range(first, end):
            for c in range(width):
                here = ahead[p, r, c]
                slope = np.float32(0)
                if level_x[r, c]:
                    slope -= 2 * (ahead[p, r, c - 1] - 2 * here + ahead[p, r, c + 1])
                if c >= 2 and level_x[r, c - 1]:
                    slope += ahead[p, r, c - 2] - 2 * ahead[p, r, c - 1] + here
                if c < width - 2 and level_x[r, c + 1]:
                    slope += here - 2 * ahead[p, r, c + 1] + ahead[p, r, c + 2]
                if level_y[r, c]:
                    slope -= 2 * (ahead[p, r - 1, c] - 2 * here + ahead[p, r + 1, c])
                if r >= 2 and level_y[r - 1, c]:
                    slope += ahead[p, r - 2, c] - 2 * ahead[p, r - 1, c] + here
                if r < height - 2 and level_y[r + 1, c]:
                    slope += here - 2 * ahead[p, r + 1, c] + ahead[p, r + 2, c]
                new = min(max(here - RATE * slope, low[p, r, c]), high[p, r, c])
                old = last[p, r, c]
                last[p, r, c] = new
                out[p, r, c] = new + momentum * (new - old)
