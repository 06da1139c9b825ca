"""Crush: pixels cut off at black, where shadow detail and noise are gone."""

from __future__ import annotations

from collections.abc import Sequence

from ...media import MediaInfo
from .base import Detector, Finding, Look, Place, densest


def observe(look: Look) -> tuple[list[float], Place | None]:
    """(percent of each channel at black, where most of it lies)."""
    cut = look.frame <= look.info.clip_levels[0]
    return [100 * float(cut[..., c].mean()) for c in range(3)], densest(cut.any(axis=2))


def conclude(seen: Sequence[tuple[int, tuple[list[float], Place | None]]], info: MediaInfo) -> Finding:
    worst, (channels, place) = max(seen, key=lambda item: max(item[1][0]))
    red, green, blue = channels
    return DETECTOR.finding(
        max(channels), worst, region=place, detail=f"R {red:.2f} %, G {green:.2f} %, B {blue:.2f} % at black"
    )


DETECTOR = Detector("crush", "% of pixels", 2.0, 91, observe, conclude)
