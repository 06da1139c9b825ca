"""Crush: pixels cut off at black, where shadow detail and noise are gone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...media import MediaInfo
from .base import CutOff, Detector, Finding, Look, cut_off, worst_cut_off


def observe(look: Look) -> CutOff:
    return cut_off(look.frame - np.float32(look.info.clip_levels[0]))


def conclude(seen: Sequence[tuple[int, CutOff]], info: MediaInfo) -> Finding:
    return worst_cut_off(DETECTOR, seen, "black")


DETECTOR = Detector(
    "crush", "% of pixels", 2.0, 91, observe, conclude,
    instead="What is crushed holds no detail: ask for a recording that kept it, and leave it black in the grade.",
)  # fmt: skip
