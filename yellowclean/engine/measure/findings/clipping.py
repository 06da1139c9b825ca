"""Clipping: pixels cut off at white, where nothing can be brought back."""

from __future__ import annotations

from collections.abc import Sequence

from ...media import MediaInfo
from .base import Detector, Finding, Look, Place, densest

ROUNDING = 0.5 / 255
"""Half an 8-bit step: codecs do not keep the last code exactly."""


def observe(look: Look) -> tuple[list[float], Place | None]:
    """(percent of each channel at white, where most of it lies)."""
    white = look.info.clip_levels[1] if look.info.range == "full" else 1.0
    cut = look.frame >= white - ROUNDING
    return [100 * float(cut[..., c].mean()) for c in range(3)], densest(cut.any(axis=2))


def conclude(seen: Sequence[tuple[int, tuple[list[float], Place | None]]], info: MediaInfo) -> Finding:
    worst, (channels, place) = max(seen, key=lambda item: max(item[1][0]))
    red, green, blue = channels
    return DETECTOR.finding(
        max(channels), worst, region=place, detail=f"R {red:.2f} %, G {green:.2f} %, B {blue:.2f} % at white"
    )


DETECTOR = Detector("clipping", "% of pixels", 1.0, 90, observe, conclude)
"""Tolerance: common practice, no source; lamps and reflections in shot clip about that much."""
