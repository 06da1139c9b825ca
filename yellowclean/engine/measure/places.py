"""Where to measure: flat places of a frame, found by themselves or near a place that was refused."""

from __future__ import annotations

import numpy as np

from ..frames import Array, Frame
from ..noise.profile import NoiseCurve
from .blocks import MOST_CLIPPED, SIDE, block_statistics
from .curve import noise_ratios
from .patch import LEAST_SIDE, Patch, PatchReading, measure_patch

LARGEST_OFFER, MOST_OFFERS, EVEN_SHARE = 128, 60, 0.1
"""Pixels a side, places tried, and the share of all places that is even enough, of a better patch."""


def automatic_patches(
    frame: Frame, n: int, curve: NoiseCurve, limits: tuple[float, float], most: int = 3
) -> list[PatchReading]:
    """Up to `most` flat patches of a frame at different levels, the largest even area first."""
    blocks = block_statistics(frame, limits)
    ratio = noise_ratios(blocks.variance[..., 3], blocks.level[..., 3], blocks.cut(curve.broken), curve)
    found: list[PatchReading] = []
    for side in (4, 3, 2):
        if len(found) >= most:
            break
        for reading in _even_windows(frame, n, ratio, side, curve, limits):
            apart = all(abs(reading.level_cv - other.level_cv) > 24 for other in found)
            if reading.flat and apart and len(found) < most:
                found.append(reading)
    return found


def better_patch(
    frame: Frame, refused: Patch, curve: NoiseCurve | None, limits: tuple[float, float]
) -> PatchReading | None:
    """The nearest flat place of the frame for a patch that is not: of its size, or smaller."""
    blocks = block_statistics(frame, limits)
    level, variance = blocks.level[..., 3], blocks.variance[..., 3]
    clipped = blocks.cut(curve.broken if curve else ())
    ratio = np.where(clipped > MOST_CLIPPED, np.inf, variance)
    if curve is not None:
        ratio = noise_ratios(variance, level, clipped, curve)
    middle = (refused.y + refused.height / 2) / SIDE, (refused.x + refused.width / 2) / SIDE
    for size in (1.0, 0.7, 0.5, 0.3):
        high, wide = (
            min(max(int(side * size), LEAST_SIDE), LARGEST_OFFER) // SIDE or 1
            for side in (refused.height, refused.width)
        )
        for row, column in _nearest_even(ratio, (high, wide), middle):
            patch = Patch(x=column * SIDE, y=row * SIDE, width=wide * SIDE, height=high * SIDE, frame=refused.frame)
            reading = measure_patch(frame, patch, curve, limits=limits)
            if reading.flat:
                return reading
    return None


def _nearest_even(ratio: Array, window: tuple[int, int], middle: tuple[float, float]) -> list[tuple[int, int]]:
    """Corners of the windows of blocks that hold little beyond noise, those nearest to a place first."""
    if ratio.shape[0] < window[0] or ratio.shape[1] < window[1]:
        return []
    worst = np.lib.stride_tricks.sliding_window_view(ratio, window).max(axis=(2, 3))
    finite = worst[np.isfinite(worst)]
    if not finite.size:
        return []
    even = worst <= np.quantile(finite, EVEN_SHARE)
    rows, columns = np.nonzero(even)
    distance = np.hypot(rows + window[0] / 2 - middle[0], columns + window[1] / 2 - middle[1])
    order = np.argsort(distance)[:MOST_OFFERS]
    return [(int(rows[k]), int(columns[k])) for k in order]


def _even_windows(
    frame: Frame, n: int, ratio: Array, side: int, curve: NoiseCurve, limits: tuple[float, float]
) -> list[PatchReading]:
    """Readings of the windows of side×side blocks that hold the least beyond noise."""
    if min(ratio.shape) < side or side * SIDE < LEAST_SIDE:
        return []
    windows = np.lib.stride_tricks.sliding_window_view(ratio, (side, side))
    worst = windows.max(axis=(2, 3))
    order = np.argsort(worst, axis=None)[:40]
    readings = []
    for row, column in zip(*np.unravel_index(order, worst.shape), strict=True):
        if not np.isfinite(worst[row, column]):
            break
        size = side * SIDE
        patch = Patch(x=int(column) * SIDE, y=int(row) * SIDE, width=size, height=size, frame=n)
        readings.append(measure_patch(frame, patch, curve, limits=limits))
    return readings
