"""Coding error: how large the errors are that the codec was let make, by the quantisers that the file tells."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...frames import CV_SCALE
from ...media import MediaInfo
from .base import Detector, Finding, Look


def observe(look: Look) -> float:
    """Mean expected RMS error of the frame's luma, in frame units; NaN where the file does not tell."""
    return look.said.coding_error


def conclude(seen: Sequence[tuple[int, float]], info: MediaInfo) -> Finding:
    told = [(n, error) for n, error in seen if np.isfinite(error)]
    if not told:
        return DETECTOR.finding(
            0.0, seen[0][0], confidence=0.0, detail=f"{info.codec} does not tell its quantisers"
        )
    worst, most = max(told, key=lambda frame: frame[1])
    typical = float(np.sqrt(np.mean([error**2 for _, error in told]))) * CV_SCALE
    return DETECTOR.finding(typical, worst, detail=f"{most * CV_SCALE:.1f} in frame {worst}, by its quantisers")


DETECTOR = Detector(
    "coding error", "CV", 8.0, 42, observe, conclude, told_by_file=True,
    instead="Ask for a recording at a higher rate; the Codec traces step takes what shows as blocks and ringing.",
)  # fmt: skip
"""Value: RMS error expected in luma where there is detail. Tolerance: about crf 22 of H.264 (common practice, no
source)."""
