"""Flicker: the gain of the whole picture changing from frame to frame, measured apart from motion.

The gain between neighbours is the median of the ratios of block means, in linear light: what moves
touches few blocks, a change of exposure touches all.
"""

from __future__ import annotations

import itertools
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


def observe(look: Glance) -> Array:
    """Linear block means, 18×32."""
    means = cv2.resize(look.luma, GRID, interpolation=cv2.INTER_AREA)
    linear: Array = means if look.info.transfer == "linear" else DECODERS["bt709"](means)
    return linear


def gains(means: Sequence[Array]) -> Array:
    """Gain of each frame against the first, from medians of block ratios."""
    logs = [0.0]
    for before, here in itertools.pairwise(means):
        told = (before > DARKEST) & (here > DARKEST)
        ratios = np.log(here[told] / before[told])
        same_scene = told.sum() >= 8 and np.subtract(*np.quantile(ratios, (0.75, 0.25))) < CUT
        logs.append(float(np.median(ratios)) if same_scene else 0.0)
    return np.exp(np.cumsum(logs))


def without_drift(gain: Array) -> Array:
    """Relative deviation of a gain from its own slow course (a quadratic over a sliding window)."""
    logs = np.log(gain)
    drift = np.empty_like(logs)
    for n in range(len(logs)):
        first, end = max(n - SLOW_FRAMES, 0), min(n + SLOW_FRAMES + 1, len(logs))
        at = np.arange(first, end) - n
        drift[n] = np.polyfit(at, logs[first:end], min(2, len(at) - 1))[-1]
    return logs - drift


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    if len(seen) < 6:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="too few frames to tell")
    rest = without_drift(gains([means for _, means in seen]))
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
