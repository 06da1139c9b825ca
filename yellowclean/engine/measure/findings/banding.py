"""Banding: contours of small equal steps between flat runs (`measure.contours`), where a smooth ramp was meant."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ...frames import CV_SCALE, Array
from ...media import MediaInfo
from ..contours import RUN, alike, contour_steps, in_company
from .base import LEAST_OFTEN, Detector, Finding, Look, Place, densest

LARGEST_BAND = 20 / CV_SCALE
"""Steps above it are looked at, so that edges of the scene are told from bands, but are no bands."""

SPREAD = 24
"""Pixels around a contour that are seen as banded."""

ALIKE, ALIKE_WITHIN, LEAST_ALIKE = 0.25, 48, 0.6
"""Bands come of one quantiser: this share of the steps lies within a quarter of the mean of those around, over so
many pixels each way."""

EVEN, LEAST_EVEN = 0.2, 0.5
"""The sides of bands are flat: of this share of the contours to so much of the step (of photographs' soft edges
less than a tenth were, one out of six apart, of bands nearly all)."""

LEAST_AREA = 3.0
"""Percent of the frame below which contours are taken for chance."""


@dataclass(frozen=True, slots=True)
class Bands:
    """Median step (frame units), share of the frame in percent, share of the steps that are alike, and the densest
    place."""

    step: float
    area: float
    alike: float
    place: Place | None


NOTHING = Bands(0.0, 0.0, 0.0, None)


def observe(look: Look) -> Bands:
    """The bands of luma or of green, whichever has more that are alike: video is quantised in the one, RGB in the
    other."""
    return max((bands_of(look.luma), bands_of(look.frame[..., 1])), key=lambda bands: bands.area * bands.alike)


def bands_of(plane: Array) -> Bands:
    """The bands of one plane."""
    if min(plane.shape) < 4 * RUN:
        return NOTHING
    steps = contour_steps(plane)
    found = in_company(steps > 0)
    if not found.any():
        return NOTHING
    step = float(np.median(steps[found]))
    same = alike(steps, found, ALIKE_WITHIN, ALIKE)
    share = float(same.sum() / found.sum())
    if float((found & (contour_steps(plane, flatness=EVEN) > 0)).sum()) < LEAST_EVEN * found.sum():
        return NOTHING
    if step > LARGEST_BAND or share < LEAST_ALIKE:
        return NOTHING
    near = cv2.dilate(same.astype(np.uint8), np.ones((SPREAD, SPREAD), np.uint8))
    return Bands(step, 100 * float(near.mean()), share, densest(same, 128))


def conclude(seen: Sequence[tuple[int, Bands]], info: MediaInfo) -> Finding:
    worst, bands = max(seen, key=lambda item: item[1].area)
    banded = [n for n, each in seen if each.area >= LEAST_AREA]
    if not banded or len(banded) < LEAST_OFTEN * len(seen):
        return DETECTOR.finding(0.0, worst)
    return DETECTOR.finding(
        bands.step * CV_SCALE, worst, region=bands.place, confidence=min(0.4 + bands.area / 25, 1.0),
        detail=f"steps of {bands.step * CV_SCALE:.1f} CV over {bands.area:.0f} % of the frame",
    )  # fmt: skip


DETECTOR = Detector("banding", "CV", 1.5, 50, observe, conclude)
"""Value: the step of the visible contours. Tolerance: 1.5 CV is below the contrast that a step shows
at on a normal display (common practice, no source)."""
