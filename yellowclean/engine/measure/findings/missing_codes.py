"""Missing codes: fewer bits in the picture than in the file, such as 8-bit content in a 10-bit file."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...media import MediaInfo
from ..codes import Histogram, code_bits, code_histogram, fill
from .base import Detector, Finding, Look

NEEDED = 10
"""Bits that a picture can use; a camera's 12 bits in a 16-bit file are no loss."""


def observe(look: Look) -> Histogram:
    return code_histogram(look.frame, look.info)


def conclude(seen: Sequence[tuple[int, Histogram]], info: MediaInfo) -> Finding:
    total = np.sum([histogram for _, histogram in seen], axis=0)
    share = fill(total)
    bits = code_bits(info)
    real = bits + float(np.log2(share))
    missing = max(min(bits, NEEDED) - real, 0.0)
    detail = f"a {bits}-bit file with {real:.1f} bits in it: 1 code in {1 / share:.1f} is used"
    return DETECTOR.finding(missing, seen[0][0], detail=detail if missing > DETECTOR.tolerance else "")


DETECTOR = Detector(
    "missing codes", "bits", 0.5, 1, observe, conclude, about_source=True,
    instead="Ask for the recording from before it was turned into fewer bits: what the missing codes held is gone.",
)  # fmt: skip
