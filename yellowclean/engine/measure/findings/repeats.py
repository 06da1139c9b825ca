"""Repeated frames: a frame that is the one before once more, as dropped frames leave it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...frames import Array
from ...media import MediaInfo
from .base import Detector, Finding, Glance

STEP = 4
SAME = 0.08
"""A difference below this share of the clip's usual one is a repeat (a codec may touch a repeat lightly)."""


NOTHING_BEFORE = -1.0


def observe(look: Glance) -> tuple[float]:
    """Mean difference to the frame before, on every fourth pixel."""
    if look.before is None:
        return (NOTHING_BEFORE,)
    return (float(np.abs(look.luma[::STEP, ::STEP] - look.before[::STEP, ::STEP]).mean()),)


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    changes = [(n, float(change)) for n, (change,) in seen if change != NOTHING_BEFORE]
    usual = float(np.median([change for _, change in changes])) if changes else 0.0
    repeats = [n for n, change in changes if change <= SAME * usual] if usual > 0 else []
    first = repeats[0] if repeats else (seen[0][0] if seen else 0)
    listed = ", ".join(str(n) for n in repeats[:8])
    detail = f"frames {listed} repeat the one before" if repeats else ""
    confidence = 1.0 if usual > 0 else 0.3
    return DETECTOR.finding(float(len(repeats)), first, confidence=confidence, detail=detail)


DETECTOR = Detector("repeated frames", "frames", 0.0, 95, observe, conclude, every_frame=True)
