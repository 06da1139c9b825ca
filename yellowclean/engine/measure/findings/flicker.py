"""Flicker: the light on the picture changing from frame to frame, of the whole or in travelling bands of rows,
measured apart from motion (`measure.lighting`)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...colour.input_space import encoding_of
from ...frames import Array
from ...media import MediaInfo
from ..lighting import BANDS, Change, Wave, beside_wave, change, small_light, wave, without_drift
from .base import Detector, Finding, Glance

SLOW_FRAMES = 12
"""Changes slower than about this many frames are exposure moves, not flicker (common practice, no source)."""

STRETCH, MOST_STRETCHES = 36, 12
"""Frames in which a wave is looked for, and how many such stretches of a shot are."""


def observe(look: Glance) -> tuple[float, ...]:
    """The change of light since the frame before, as numbers; NaN where another scene or too little is seen."""
    if look.before is None:
        return _numbers(None)
    encoding = encoding_of(look.info)
    return _numbers(change(small_light(look.before, encoding), small_light(look.luma, encoding)))


def _numbers(seen: Change | None) -> tuple[float, ...]:
    return (np.nan,) * (BANDS + 2) if seen is None else (seen.whole, seen.moved, *seen.bands)


def _change(numbers: Array) -> Change | None:
    if np.isnan(numbers[0]):
        return None
    return Change(float(numbers[0]), numbers[2:], float(numbers[1]))


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    if len(seen) < 6:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="too few frames to tell")
    numbers = [n for n, _ in seen]
    changes = [_change(row) for _, row in seen]
    bands = _strongest(changes, numbers[0])
    rest = without_drift(
        np.cumsum([_of_whole(c, bands, n) for n, c in zip(numbers, changes, strict=True)]), SLOW_FRAMES
    )
    of_whole, of_bands = 100 * float(rest.std()), 100 * bands.variation if bands else 0.0
    worst = numbers[int(np.abs(rest).argmax())] if of_whole > of_bands else numbers[len(numbers) // 2]
    return DETECTOR.finding(
        float(np.hypot(of_whole, of_bands)), worst, confidence=min(len(seen) / 24, 1.0),
        detail="; ".join(part for part in (_told_of_whole(rest, of_whole), _told_of_bands(bands)) if part),
    )  # fmt: skip


def _of_whole(seen: Change | None, bands: Wave | None, n: int) -> float:
    """The whole frame's change, with what bands add to it taken off."""
    if seen is None:
        return 0.0
    return beside_wave(seen, bands, n) if bands else seen.whole


def _strongest(changes: Sequence[Change | None], first: int) -> Wave | None:
    """The strongest wave of stretches all over the shot."""
    starts = np.unique(np.linspace(0, max(len(changes) - STRETCH, 0), MOST_STRETCHES).astype(int))
    found = [wave(changes[k : k + STRETCH], first + int(k)) for k in starts]
    return max((w for w in found if w), key=lambda w: w.variation, default=None)


def _told_of_whole(rest: Array, variation: float) -> str:
    if variation <= 0.2:
        return ""
    power = np.abs(np.fft.rfft(rest * np.hanning(len(rest)), 8 * len(rest))) ** 2
    power[:8] = 0
    period = 8 * len(rest) / max(int(power.argmax()), 1)
    return f"amplitude {variation * np.sqrt(2):.1f} %, period about {period:.1f} frames"


def _told_of_bands(bands: Wave | None) -> str:
    if bands is None:
        return ""
    strength, roll = 100 * bands.variation * np.sqrt(2), 100 * abs(bands.roll)
    told = f"bands of rows, {strength:.1f} % strong, {bands.cycles:.1f} down the picture"
    return f"{told}, moving by {roll:.0f} % of their distance a frame"


DETECTOR = Detector("flicker", "% of level", 0.7, 30, observe, conclude, every_frame=True)
"""Value: the coefficient of variation of the gain. Tolerance: common practice, no source."""
