"""The camera's own motion from one picture to another: the shift, turn and change of size that most of what stands
out follows. Dense flow tells it first (RANSAC, Fischler and Bolles 1981); then the pictures are laid over each
other (Lucas and Kanade 1981; Baker and Matthews 2004), what differs counting for less (Cauchy's weights)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from .frames import Array

Doubles = npt.NDArray[np.float64]

GRID, OF_PLACES = 8, 60
"""Pixels from one place of the flow that is asked to the next; the percent of places, those with least texture,
that are not."""

AGREES_PX, FOLLOWS = 0.7, 0.3
"""Pixels by which the flow of a place may be off the camera's motion, and the share of the places that follow."""

ROUNDS, ENOUGH_PX = 8, 0.005
"""Rounds of laying over each other, at most, and the change by which no further one is worth while."""

OF_PIXELS, MOST_PIXELS, RIM, SOFTENED = 80, 20_000, 8, 1.0
"""The percent of pixels, those with the weakest edges, that are not compared; how many are, at most; how far from
the rim; and by what blur both pictures are softened."""

STRANGE, LEAST_CODES = 1.5, 1e-3
"""Difference, in deviations of all (at least so many codes), that halves a pixel's say."""

FARTHEST_PX = 4.0
"""By how much laying the pictures over each other may correct what the flow says; else that stays."""

STILL_PX = 0.25
"""Shorter motion is none."""

DISPLACED, PACE = 0.04, 2
"""By how much of a pixel a codec displaces pictures, for each code of its error and code of their slope; and the
powers of time that a camera's pace has."""

CODES = 255
"""Of the pictures, at the top of the value range."""


class Camera(NamedTuple):
    """A motion of the camera: the shift of the picture's middle in pixels, and by how much of a pixel each pixel
    from there on moves outwards and aside."""

    x: float
    y: float
    grows: float
    turns: float

    def vectors(self, shape: tuple[int, ...]) -> Array:
        """Where it carries each pixel of a picture (H, W): H×W×2 (x, y), pixels."""
        height, width = shape
        across, down = np.arange(width) - width / 2, (np.arange(height) - height / 2)[:, None]
        moved = np.empty((height, width, 2), np.float32)
        moved[..., 0] = self.x + self.grows * across - self.turns * down
        moved[..., 1] = self.y + self.grows * down + self.turns * across
        return moved

    def back(self) -> Camera:
        """The motion that undoes it."""
        turned = 1 / complex(1 + self.grows, self.turns)
        shift = -turned * complex(self.x, self.y)
        return Camera(shift.real, shift.imag, turned.real - 1, turned.imag)


def camera_between(here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], vectors: Array) -> Camera | None:
    """The camera's motion from a picture (H×W, 8 bits) to another, given the dense flow between them (H×W×2); None
    where the camera stands, or too little follows one motion."""
    told = _told(here, vectors) if vectors.any() else None
    if told is None:
        return None
    camera = Camera(*(float(part) for part in _laid_over(here, there, told)))
    lengths = np.hypot(*np.moveaxis(camera.vectors(here.shape), 2, 0))
    return camera if float(np.median(lengths)) >= STILL_PX else None


def paced(measured: Mapping[int, Camera], away: int, astray: float) -> Camera | None:
    """The camera's motion to the frame that is so many `away`, from what was measured to frames around.

    A camera's pace changes evenly (least squares), and pictures that a codec holds stand up to `astray` pixels off
    their way; what is farther off is taken for the camera's own (Wiener). None where nothing was measured there,
    and pace does not tell.
    """
    own, free = measured.get(away), len(measured) - PACE
    if free < 1 or astray <= 0:
        return own
    times = np.array([0, *measured], np.float64)[:, None] ** np.arange(PACE + 1)
    places = np.array([Camera(0, 0, 0, 0), *measured.values()])
    pace = np.linalg.lstsq(times, places, rcond=None)[0]
    off = float(np.square(places - times @ pace)[:, :2].sum()) / (2 * free)
    share = astray**2 / max(off, astray**2)
    even = float(away) ** np.arange(1, PACE + 1) @ pace[1:]
    if own is None:
        return Camera(*even.tolist()) if share >= 0.5 else None
    return Camera(*(share * even + (1 - share) * np.array(own)).tolist())


def displaced_px(here: npt.NDArray[np.uint8], error: float) -> float:
    """By how many pixels a codec that makes such an error (of the value range) is likely to displace a picture."""
    if not error:
        return 0.0
    slope = float(np.sqrt(np.square(np.diff(here.astype(np.float32), axis=1)).sum() / here.size))
    return DISPLACED * error * CODES / slope if slope else 0.0


def _told(here: npt.NDArray[np.uint8], vectors: Array) -> Doubles | None:
    """What the flow says of the camera: the shift of the middle (x, y), growth and turn by pixel; None where it
    does not agree."""
    height, width = here.shape
    rows, columns = np.mgrid[GRID // 2 : height : GRID, GRID // 2 : width : GRID]
    edges = sum(cv2.Sobel(here, cv2.CV_32F, *way) ** 2 for way in ((1, 0), (0, 1)))
    texture = cv2.boxFilter(np.asarray(edges, np.float32), -1, (GRID + 1, GRID + 1))[rows, columns]
    asked = texture >= max(float(np.percentile(texture, OF_PLACES)), 1.0)
    middle = np.array([width / 2, height / 2])
    places = (np.stack([columns[asked], rows[asked]], axis=1) - middle).astype(np.float32)
    if len(places) < GRID:
        return None
    way, agree = cv2.estimateAffinePartial2D(
        places, places + vectors[rows[asked], columns[asked]], ransacReprojThreshold=AGREES_PX
    )
    if way is None or agree.mean() < FOLLOWS:
        return None
    return np.array([way[0, 2], way[1, 2], way[0, 0] - 1, way[1, 0]])


def _laid_over(here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], told: Doubles) -> Doubles:
    """The same motion as the pictures themselves say, from one that is told."""
    height, width = here.shape
    first, second = (cv2.GaussianBlur(plane.astype(np.float32), (0, 0), SOFTENED) for plane in (here, there))
    slopes = [cv2.Sobel(first, cv2.CV_32F, *way, ksize=3, scale=1 / 8) for way in ((1, 0), (0, 1))]
    edges = slopes[0] ** 2 + slopes[1] ** 2
    inner = np.zeros(edges.shape, bool)
    inner[RIM:-RIM, RIM:-RIM] = edges[RIM:-RIM, RIM:-RIM] > np.percentile(edges, OF_PIXELS)
    rows, columns = np.nonzero(inner)
    every = len(rows) // MOST_PIXELS + 1
    rows, columns = rows[::every], columns[::every]
    if len(rows) < GRID:
        return told
    x, y = (side.astype(np.float64) for side in (columns - width / 2, rows - height / 2))
    slope_x, slope_y = (slope[rows, columns].astype(np.float64) for slope in slopes)
    far = max(width, height) / 2  # so that growth and turn count in pixels at the rim
    moves = np.stack([slope_x, slope_y, (slope_x * x + slope_y * y) / far, (slope_y * x - slope_x * y) / far])
    pixels, scale = first[rows, columns], np.array([1, 1, far, far])
    way = told * scale
    for _ in range(ROUNDS):
        to_x = columns + way[0] + (way[2] * x - way[3] * y) / far
        to_y = rows + way[1] + (way[2] * y + way[3] * x) / far
        at_x, at_y = (side.astype(np.float32)[:, None] for side in (to_x, to_y))
        differs = pixels - cv2.remap(second, at_x, at_y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)[:, 0]
        differs = differs - np.median(differs)  # light may have changed
        usual = 1.4826 * float(np.median(np.abs(differs))) + LEAST_CODES
        says = 1 / (1 + (differs / (STRANGE * usual)) ** 2)
        says[(to_x < 0) | (to_y < 0) | (to_x > width - 1) | (to_y > height - 1)] = 0
        weighed = moves * says
        step = np.linalg.solve(weighed @ moves.T + 1e-6 * np.eye(4), weighed @ differs)
        way = way + step
        if np.abs(step).max() < ENOUGH_PX:
            break
    return way / scale if np.abs(way - told * scale).max() < FARTHEST_PX else told
