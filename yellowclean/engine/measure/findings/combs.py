"""Combed histogram: single codes empty or doubled, as a grade in too few bits leaves them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...media import MediaInfo
from ..codes import Histogram, combs, fill
from .base import Detector, Finding
from .missing_codes import observe

FULL = 0.7
"""Below this filling, codes are missing throughout; that is another finding."""


def conclude(seen: Sequence[tuple[int, Histogram]], info: MediaInfo) -> Finding:
    total = np.sum([histogram for _, histogram in seen], axis=0)
    share = 100 * combs(total) if fill(total) > FULL else 0.0
    detail = "the levels were stretched or squeezed in whole steps before" if share > DETECTOR.tolerance else ""
    return DETECTOR.finding(share, seen[0][0], detail=detail)


DETECTOR = Detector(
    "combed histogram", "% of codes", 3.0, 2, observe, conclude, about_source=True,
    instead="Ask for the recording from before its levels were stretched: the codes in between were never there.",
)  # fmt: skip
"""Tolerance: common practice, no source."""
