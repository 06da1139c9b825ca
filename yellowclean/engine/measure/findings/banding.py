"""Banding: contours of small equal steps between flat runs, where a smooth ramp was meant.

Along rows and columns the means of eight pixels on both sides of a gap are compared. A band edge has
a step of a few code values and sides that are flat against it; a ramp has sides that rise as the step
does; an edge of the scene is larger, and texture or noise is not flat. After the visibility ideas of
Tandon et al. 2021 and the run structure of Bhagavathy, Llach and Zhai 2009.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ...frames import CV_SCALE, Array
from ...media import MediaInfo
from .base import Detector, Finding, Look, Place, densest

RUN, GAP = 8, 2
SMALLEST, LARGEST = 1.2 / CV_SCALE, 48 / CV_SCALE
LARGEST_BAND = 12 / CV_SCALE
"""Steps above it are looked at, so that edges of the scene are told from bands, but are no bands."""

FLATNESS = 0.4
"""The range within a side against the step: a ramp has 0.6 or more, whatever its slope."""

SPREAD = 24
"""Pixels around a contour that are seen as banded."""

ALIKE, LEAST_ALIKE = 0.25, 0.6
"""Bands come of one quantiser: this share of the steps lies within a quarter of their median. Edges of
the scene that happen to be small have all sizes."""

COMPANY = 5
"""Pixels of a contour within nine pixels, the pixel itself included."""

LEAST_AREA = 3.0
"""Percent of the frame below which contours are taken for chance."""


@dataclass(frozen=True, slots=True)
class Bands:
    """Median step (frame units), share of the frame in percent, and the densest place."""

    step: float
    area: float
    place: Place | None


def contour_steps(luma: Array) -> Array:
    """Size of the band step at each pixel, 0 where there is none."""
    plane = luma.astype(np.float32)
    return np.maximum(_along_rows(plane), _along_rows(np.ascontiguousarray(plane.T)).T)


def _along_rows(plane: Array) -> Array:
    run = np.ones((1, RUN), np.uint8)
    mean = cv2.blur(plane, (RUN, 1))
    spread = cv2.dilate(plane, run) - cv2.erode(plane, run)
    shift = (RUN + GAP) // 2
    result = np.zeros_like(plane)
    left, right = mean[:, : -2 * shift], mean[:, 2 * shift :]
    uneven = np.maximum(spread[:, : -2 * shift], spread[:, 2 * shift :])
    step = np.abs(right - left)
    banded = (step >= SMALLEST) & (step <= LARGEST) & (uneven <= FLATNESS * step)
    result[:, shift:-shift] = np.where(banded, step, 0)
    return result


def observe(look: Look) -> Bands:
    """The bands of luma or of green, whichever has more: video is quantised in the one, RGB in the other."""
    return max((bands_of(look.luma), bands_of(look.frame[..., 1])), key=lambda bands: bands.area)


def bands_of(plane: Array) -> Bands:
    """The bands of one plane."""
    if min(plane.shape) < 4 * RUN:
        return Bands(0.0, 0.0, None)
    steps = contour_steps(plane)
    found = steps > 0
    # Contours are lines; steps that noise makes by chance stand alone.
    beside = cv2.boxFilter(found.astype(np.float32), -1, (9, 9), normalize=False)
    found &= beside >= COMPANY
    if not found.any():
        return Bands(0.0, 0.0, None)
    step = float(np.median(steps[found]))
    alike = found & (np.abs(steps - step) <= ALIKE * step)
    if step > LARGEST_BAND or alike.sum() < LEAST_ALIKE * found.sum():
        return Bands(0.0, 0.0, None)
    near = cv2.dilate(alike.astype(np.uint8), np.ones((SPREAD, SPREAD), np.uint8))
    return Bands(step, 100 * float(near.mean()), densest(alike, 128))


def conclude(seen: Sequence[tuple[int, Bands]], info: MediaInfo) -> Finding:
    worst, bands = max(seen, key=lambda item: item[1].area)
    if bands.area < LEAST_AREA:
        return DETECTOR.finding(0.0, worst)
    return DETECTOR.finding(
        bands.step * CV_SCALE, worst, region=bands.place, confidence=min(0.4 + bands.area / 25, 1.0),
        detail=f"steps of {bands.step * CV_SCALE:.1f} CV over {bands.area:.0f} % of the frame",
    )  # fmt: skip


DETECTOR = Detector("banding", "CV", 1.5, 50, observe, conclude)
"""Value: the step of the visible contours. Tolerance: 1.5 CV is below the contrast that a step shows
at on a normal display (common practice, no source)."""
