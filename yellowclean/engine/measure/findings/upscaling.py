"""Upscaling: a spectrum that falls off a cliff, and second differences that repeat with the factor.

An interpolation filter lets nearly nothing through above the old limit, lower than any lens or noise
would leave it: the cliff says that a picture was made larger. By how much tells the period in the
strength of its second differences (Gallagher 2005): new pixels half way between old ones are smoother.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from ...frames import Array
from ...media import MediaInfo
from .base import Detector, Finding, Look

LONGEST = 256
SOUGHT = 0.19, 0.495
"""Cycles a pixel between which a cliff is looked for."""

CLIFF = 0.08
CLIFF_DB = 12.0
"""Fall over `CLIFF` cycles a pixel; camera footage stays below 10 dB there, noise makes it 3."""

PEAK_WIDTH = 11
"""Bins over which the median is taken, so that a pattern in the scene makes no cliff."""

OVER_SURROUNDINGS = 8.0
ROOM = 1.35
"""The cliff lies this much above the old limit, typically (cubic interpolation)."""


@dataclass(frozen=True, slots=True)
class Trace:
    """Power in dB over 0 to 0.5 cycles a pixel, and the spectrum of the second differences."""

    power: Array
    periods: Array


def observe(look: Look) -> Trace:
    both = [look.luma, np.ascontiguousarray(look.luma.T)]
    return Trace(_mean([spectrum(p) for p in both]), _mean([_periods(p) for p in both]))


def _mean(curves: Sequence[Array]) -> Array:
    """Mean of curves over 0 to 0.5 cycles a pixel, whatever their lengths."""
    common = np.linspace(0, 0.5, LONGEST // 2 + 1)
    mean: Array = np.mean([np.interp(common, np.linspace(0, 0.5, len(c)), c) for c in curves], axis=0)
    return mean


def spectrum(plane: Array) -> Array:
    """Mean power in dB along the rows of a plane."""
    length = min(LONGEST, 1 << int(np.log2(plane.shape[1])))
    count = plane.shape[1] // length
    pieces = plane[::2, : count * length].reshape(-1, length)
    pieces = (pieces - pieces.mean(axis=1, keepdims=True)) * np.hanning(length).astype(np.float32)
    power = (np.abs(np.fft.rfft(pieces, axis=1)) ** 2).mean(axis=0)
    decibels: Array = 10 * np.log10(power + 1e-12)
    return decibels


def _periods(plane: Array) -> Array:
    """Spectrum over columns of the mean strength of the second difference along rows."""
    strength = np.abs(np.diff(plane, 2, axis=1)).mean(axis=0)
    length = min(LONGEST, len(strength))
    pieces = strength[: len(strength) // length * length].reshape(-1, length)
    pieces = pieces / np.maximum(pieces.mean(axis=1, keepdims=True), 1e-9) - 1
    found: Array = np.abs(np.fft.rfft(pieces * np.hanning(length), axis=1)).mean(axis=0)
    return found


def conclude(seen: Sequence[tuple[int, Trace]], info: MediaInfo) -> Finding:
    power = _mean([trace.power for _, trace in seen])
    frequency = np.linspace(0, 0.5, len(power))
    smooth = scipy.ndimage.median_filter(power, PEAK_WIDTH, mode="nearest")
    smooth[-PEAK_WIDTH:] = np.minimum(smooth, power)[-PEAK_WIDTH:]
    reach = int(CLIFF / frequency[1])
    start = np.arange(len(power) - reach)
    falls = smooth[start] - smooth[start + reach]
    falls[(frequency[start] < SOUGHT[0]) | (frequency[start + reach] > SOUGHT[1])] = 0
    k = int(falls.argmax())
    if falls[k] < CLIFF_DB:
        return DETECTOR.finding(1.0, seen[0][0], confidence=0.7)
    cliff = float(frequency[k]) + CLIFF / 2
    factor = _factor(_mean([trace.periods for _, trace in seen]), cliff)
    wide, high = round(info.width / factor), round(info.height / factor)
    detail = f"the spectrum falls by {falls[k]:.0f} dB at {cliff:.2f} cycles a pixel: as if from {wide}×{high}"
    return DETECTOR.finding(factor, seen[0][0], confidence=min(float(falls[k]) / 25, 1.0), detail=detail)


def _factor(periods: Array, cliff: float) -> float:
    """The factor that the strongest period allows and the cliff makes likely; else by the cliff alone."""
    likely = ROOM * 0.5 / cliff
    frequency = np.linspace(0, 0.5, len(periods))
    usual = scipy.ndimage.median_filter(periods, 15, mode="nearest")
    peak = np.where(frequency > 0.1, periods / np.maximum(usual, 1e-9), 0)
    k = int(peak.argmax())
    if peak[k] < OVER_SURROUNDINGS:
        return likely
    allowed = [1 / frequency[k], 1 / (1 - frequency[k])]
    return float(min(allowed, key=lambda factor: abs(np.log(factor / likely))))


DETECTOR = Detector(
    "upscaling", "times", 1.15, 3, observe, conclude, about_source=True,
    instead="Ask for the original size: enlarging made no detail, and no step here makes it either.",
)  # fmt: skip
"""Tolerance: a smaller step than any in use between delivery sizes (common practice, no source)."""
