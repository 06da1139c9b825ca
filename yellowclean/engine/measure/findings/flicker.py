"""Flicker: the gain of the whole picture changing from frame to frame, measured apart from motion.

The gain between neighbours is the median of the ratios of block means, in linear light: what moves
touches few blocks, a change of exposure touches all.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from ...colour.curves import DECODERS
from ...frames import Array
from ...media import MediaInfo
from .base import Detector, Finding, Glance

GRID = (32, 18)
DARKEST = 0.002
"""Blocks below this linear level tell nothing about a gain."""

CUT = 0.5
"""Spread of the log ratios (upper less lower quartile) at which the picture is another one."""

SLOW_FRAMES = 12
"""Changes slower than about this many frames are exposure moves, not flicker (common practice, no source)."""


def observe(look: Glance) -> tuple[float]:
    """Log of the gain since the frame before."""
    if look.before is None:
        return (0.0,)
    return (log_gain(_block_means(look.before, look), _block_means(look.luma, look)),)


def _block_means(plane: Array, look: Glance) -> Array:
    """Linear block means, 18×32."""
    means = cv2.resize(plane, GRID, interpolation=cv2.INTER_AREA)
    linear: Array = means if look.info.transfer == "linear" else DECODERS["bt709"](means)
    return linear


def log_gain(before: Array, here: Array) -> float:
    """Log of the gain between two frames, from the median of their blocks' ratios; 0 across a cut."""
    told = (before > DARKEST) & (here > DARKEST)
    if told.sum() < 8:
        return 0.0
    ratios = np.log(here[told] / before[told])
    same_scene = np.subtract(*np.quantile(ratios, (0.75, 0.25))) < CUT
    return float(np.median(ratios)) if same_scene else 0.0


def without_drift(logs: Array) -> Array:
    """Deviation of the logs of a gain from their own slow course (a quadratic over a sliding window)."""
    drift = np.empty_like(logs)
    for n in range(len(logs)):
        first, end = max(n - SLOW_FRAMES, 0), min(n + SLOW_FRAMES + 1, len(logs))
        at = np.arange(first, end) - n
        drift[n] = np.polyfit(at, logs[first:end], min(2, len(at) - 1))[-1]
    return logs - drift


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    if len(seen) < 6:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="too few frames to tell")
    rest = without_drift(np.cumsum([gain for _, (gain,) in seen]))
    variation = 100 * float(rest.std())
    power = np.abs(np.fft.rfft(rest * np.hanning(len(rest)), 8 * len(rest))) ** 2
    power[:8] = 0
    period = 8 * len(rest) / max(int(power.argmax()), 1)
    worst = seen[int(np.abs(rest).argmax())][0]
    detail = (
        f"amplitude {variation * np.sqrt(2):.1f} %, period about {period:.1f} frames" if variation > 0.2 else ""
    )
    return DETECTOR.finding(variation, worst, confidence=min(len(seen) / 24, 1.0), detail=detail)


DETECTOR = Detector("flicker", "% of level", 0.7, 30, observe, conclude, every_frame=True)
"""Value: the coefficient of variation of the gain. Tolerance: common practice, no source."""
