"""Contours: lines along which a picture steps from one flat run to the next, as a smooth ramp does once it is
rounded.

Along rows and columns the means of a run of pixels on both sides of a gap are compared. A band's contour has a step
of a few code values and sides that are flat against it; a ramp has sides that rise as the step does; an edge of the
scene is larger, and texture or noise is not flat. After the visibility ideas of Tandon et al. 2021 and the run
structure of Bhagavathy, Llach and Zhai 2009."""

from __future__ import annotations

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array

RUN, GAP = 8, 2
SMALLEST, LARGEST = 1.2 / CV_SCALE, 48 / CV_SCALE

FLATNESS = 0.4
"""The range within a side against the step: a ramp has 0.6 or more, whatever its slope."""

CLOSE, SHARPNESS = 3, 0.7
"""Pixels next to the gap on both sides, and how much of the step lies between their means: half of it on a ramp."""

COMPANY, COMPANY_WITHIN = 5, 9
"""Pixels of a contour within a square of so many, the pixel itself included: contours are lines; steps that noise
makes by chance stand alone."""

UNITS = 1 << 20
"""Steps are summed in whole multiples of 1/UNITS: exactly, so that no sum depends on where it began."""


def contour_steps(plane: Array, *, run: int = RUN, largest: float = LARGEST, flatness: float = FLATNESS) -> Array:
    """Size of the step of the contour at each pixel, 0 where there is none; H×W, in frame units.

    `run` is the least length of the flat sides in pixels, `largest` the step from which on an edge is one of the
    scene."""
    plane = plane.astype(np.float32)
    if min(plane.shape) <= 2 * run + GAP:
        return np.zeros_like(plane)
    across = _along_rows(plane, run, largest, flatness)
    down = _along_rows(np.ascontiguousarray(plane.T), run, largest, flatness).T
    return np.maximum(across, down)


def in_company(found: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """The pixels of contours that form lines."""
    beside = cv2.boxFilter(
        found.astype(np.float32), -1, (COMPANY_WITHIN, COMPANY_WITHIN), normalize=False,
        borderType=cv2.BORDER_CONSTANT,
    )  # fmt: skip
    lines: npt.NDArray[np.bool_] = found & (beside >= COMPANY)
    return lines


def local_mean(values: Array, there: npt.NDArray[np.bool_], reach: int) -> Array:
    """Mean of the values that are there, over the square of `reach` pixels around each; 0 where there are none."""
    side = 2 * reach + 1, 2 * reach + 1
    whole = np.rint(np.where(there, values, 0).astype(np.float64) * UNITS)
    total, count = (
        cv2.boxFilter(v, -1, side, normalize=False, borderType=cv2.BORDER_CONSTANT)
        for v in (whole, there.astype(np.float64))
    )
    mean: Array = (total / np.maximum(count, 1) / UNITS).astype(np.float32)
    return mean


def alike(steps: Array, lines: npt.NDArray[np.bool_], reach: int, within: float) -> npt.NDArray[np.bool_]:
    """Those of the lines whose step is about that of the lines around: bands come of one quantiser, which may be
    finer in the shadows than in the lights; edges of the scene that happen to be small have all sizes."""
    usual = local_mean(steps, lines, reach)
    same: npt.NDArray[np.bool_] = lines & (np.abs(steps - usual) <= within * usual)
    return same


def _along_rows(plane: Array, run: int, largest: float, flatness: float) -> Array:
    lows, highs, sums, close = plane, plane, plane, plane
    for k in range(run - 1):
        sums = sums[:, :-1] + plane[:, -sums.shape[1] + 1 :]
        close = sums if k == CLOSE - 2 else close
        lows = np.minimum(lows[:, :-1], plane[:, -lows.shape[1] + 1 :])
        highs = np.maximum(highs[:, :-1], plane[:, -highs.shape[1] + 1 :])
    apart = run + GAP
    spread = highs - lows
    step = np.abs(sums[:, apart:] - sums[:, :-apart]) / np.float32(run)
    beside = CLOSE + GAP  # those nearest to the gap: of a ramp they differ by much less than the whole sides do
    within = slice(run - CLOSE, run - CLOSE + step.shape[1])
    sharp = np.abs(close[:, beside:] - close[:, :-beside])[:, within] / np.float32(CLOSE)
    uneven = np.maximum(spread[:, apart:], spread[:, :-apart])
    banded = (step >= SMALLEST) & (step <= largest) & (sharp >= SHARPNESS * step) & (uneven <= flatness * step)
    result = np.zeros_like(plane)
    first = run + GAP // 2
    result[:, first : first + step.shape[1]] = np.where(banded, step, 0)
    return result
