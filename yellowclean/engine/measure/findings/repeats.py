"""Repeated frames: a frame that is the one before once more, as dropped frames leave it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...frames import Array
from ...media import MediaInfo
from ..repeating import change_between, repeated
from .base import Detector, Finding, Glance, whole_frames

NOTHING_BEFORE = -1.0


def observe(look: Glance) -> tuple[float]:
    """Change since the frame before."""
    if look.before is None:
        return (NOTHING_BEFORE,)
    return (change_between(look.luma, look.before),)


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    changes = [(n, float(change)) for n, (change,) in seen if change != NOTHING_BEFORE]
    usual = float(np.median([change for _, change in changes])) if changes else 0.0
    repeats = [n for n, change in changes if repeated(change, usual)]
    first = repeats[0] if repeats else (seen[0][0] if seen else 0)
    listed = ", ".join(str(n) for n in repeats[:8])
    told = f"frame {listed} repeats" if len(repeats) == 1 else f"frames {listed} repeat"
    detail = f"{told} the one before" if repeats else ""
    confidence = 1.0 if usual > 0 else 0.3
    return DETECTOR.finding(
        float(len(repeats)), first, confidence=confidence, detail=detail, spots=whole_frames(repeats, info)
    )


DETECTOR = Detector("repeated frames", "frames", 0.0, 95, observe, conclude, every_frame=True)
