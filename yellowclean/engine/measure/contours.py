"""Contours: lines along which a picture steps from one flat run to the next, as a smooth ramp does once it is
rounded.

Along rows and columns the means of a run of pixels on both sides of a gap are compared. A band's contour has a step
of a few code values and sides that are flat against it; a ramp has sides that rise as the step does; an edge of the
scene is larger, and texture or noise is not flat. After the visibility ideas of Tandon et al. 2021 and the run
structure of Bhagavathy, Llach and Zhai 2009."""

from __future__ import annotations

import cv2
import numba as nb
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array
from ..parallel import in_bands
from ..simd import unsigned as _u

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
    plane = np.ascontiguousarray(plane, np.float32)
    across = np.zeros_like(plane)
    if min(plane.shape) <= 2 * run + GAP:
        return across
    turned = np.ascontiguousarray(plane.T)
    down = np.zeros_like(turned)
    for lying, steps in ((plane, across), (turned, down)):
        _found(lying, run, np.float32(largest), np.float32(flatness), steps)
    return np.maximum(across, down.T)


def _found(plane: Array, run: int, largest: np.float32, flatness: np.float32, steps: Array) -> None:
    in_bands(len(plane), lambda a, b: _across_rows(plane, run, largest, flatness, steps, a, b))


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


@nb.njit(nogil=True, cache=True)
def _across_rows(plane, run, largest, flatness, steps, first, end):  # type: ignore[no-untyped-def]
    """Contours that stand upright, in rows `first` to `end`."""
    width = plane.shape[1]
    sides = width - run + 1
    closest, sums = np.empty(width, np.float32), np.empty(width, np.float32)
    low, high = np.empty(width, np.float32), np.empty(width, np.float32)
    for y in range(first, end):
        row = plane[y]
        for x in range(_u(sides)):
            sums[x] = low[x] = high[x] = row[x]
        for k in range(1, run):
            for x in range(_u(sides)):
                value = row[x + _u(k)]
                sums[x] += value
                low[x] = min(low[x], value)
                high[x] = max(high[x], value)
        for x in range(_u(width - CLOSE + 1)):
            closest[x] = row[x] + row[x + _u(1)] + row[x + _u(2)]
        for x in range(_u(sides - run - GAP)):
            beyond, near = x + _u(run + GAP), x + _u(run - CLOSE)
            step = abs(sums[beyond] - sums[x]) / np.float32(run)
            sharp = abs(closest[near + _u(CLOSE + GAP)] - closest[near]) / np.float32(CLOSE)
            uneven = max(high[beyond] - low[beyond], high[x] - low[x])
            banded = (
                SMALLEST <= step <= largest and sharp >= np.float32(SHARPNESS) * step and uneven <= flatness * step
            )
            if banded:
                at = x + _u(run + GAP // 2)
                steps[_u(y), at] = max(steps[_u(y), at], step)
