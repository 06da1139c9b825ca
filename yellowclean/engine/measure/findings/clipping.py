"""Clipping: pixels cut off at white, where nothing can be brought back. What one colour alone is cut off of is told
but does not count: a saturated flower or lamp is meant to be so."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...media import MediaInfo
from .base import CutOff, Detector, Finding, Look, cut_off, worst_cut_off

ROUNDING = 0.5 / 255
"""Half an 8-bit step: codecs do not keep the last code exactly."""


def observe(look: Look) -> CutOff:
    white = look.info.clip_levels[1] if look.info.range == "full" else 1.0
    return cut_off(np.float32(white - ROUNDING) - look.frame)


def conclude(seen: Sequence[tuple[int, CutOff]], info: MediaInfo) -> Finding:
    return worst_cut_off(DETECTOR, seen, "white")


DETECTOR = Detector(
    "clipping", "% of pixels", 1.0, 90, observe, conclude,
    instead="What is clipped holds no detail: ask for a recording that kept it, or let the grade roll it off.",
)  # fmt: skip
"""Tolerance: common practice, no source; lamps and reflections in shot clip about that much."""
