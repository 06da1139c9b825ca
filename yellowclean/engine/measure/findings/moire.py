"""Moiré: coloured waves that a sensor made of threads finer than it can tell apart (`measure.false_colour`)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ...frames import CV_SCALE
from ...media import MediaInfo
from ..false_colour import CELL, false_colour
from .base import LEAST_OFTEN, Detector, Finding, Look, Place

WORST = 0.75
"""Of the cells of an area: those at its rim are only partly covered."""

AT_RIM = 0.7
"""Part of that which a window half covered reads."""

FEWEST = 6
"""Cells below which an area is not told of."""


@dataclass(frozen=True, slots=True)
class Fringes:
    """The largest area with moiré: RMS amplitude (frame units), period in pixels, share in percent."""

    amplitude: float
    period: float
    area: float
    place: Place | None


def observe(look: Look) -> Fringes:
    seen = false_colour(look.frame)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(seen.inside.astype(np.uint8), connectivity=8)
    largest = 1 + int(boxes[1:, cv2.CC_STAT_AREA].argmax()) if count > 1 else 0
    if not largest or boxes[largest, cv2.CC_STAT_AREA] < FEWEST:
        return Fringes(0.0, 0.0, 0.0, None)
    inside = labels == largest
    amplitude = float(np.quantile(seen.amplitude[inside], WORST))
    full = inside & (seen.amplitude > AT_RIM * amplitude)
    x, y, wide, high = (v * CELL for v in cv2.boundingRect(full.astype(np.uint8)))
    height, width = look.luma.shape
    place = Place(x=x, y=y, width=min(wide, width - x), height=min(high, height - y))
    period = float(np.median(seen.period[full]))
    return Fringes(amplitude, period, 100 * float(seen.inside.mean()), place)


def conclude(seen: Sequence[tuple[int, Fringes]], info: MediaInfo) -> Finding:
    worst, fringes = max(seen, key=lambda item: item[1].amplitude * np.sqrt(item[1].area))
    lasting = sum(f.area > 0 for _, f in seen) / len(seen)
    if lasting < LEAST_OFTEN:
        return DETECTOR.finding(0.0, worst)
    detail = f"waves of {fringes.period:.1f} px over {fringes.area:.0f} % of the frame" if fringes.area else ""
    return DETECTOR.finding(
        fringes.amplitude * CV_SCALE, worst, region=fringes.place, confidence=0.5 + 0.5 * lasting, detail=detail
    )


DETECTOR = Detector("moiré", "CV", 4.0, 70, observe, conclude)
"""Value: RMS chroma amplitude of the waves. Tolerance: common practice, no source."""
