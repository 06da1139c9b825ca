"""Upright scratches: thin bright or dark lines that stand at one place of the frame while the picture moves behind
them (after Kokaram 1998 and Joyeux, Buisson, Besserer, Boukir 1999: an outlier across, long and straight down, that
lasts)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array

Mask = npt.NDArray[np.bool_]

DOWN, SIDE, WIDE = 15, 3, 3
"""Rows that are averaged; pixels to each side from which the sides of a line begin, and how many are averaged."""

STRONG, LEAST_CV = 4.0, 3.0
"""Deviations of that average, and CV, by which a line exceeds both of its sides."""

TALL, PIECE, LEANS = 0.2, 0.05, 0.03
"""Part of the frame's height that a line reaches, that a piece of it in another frame does, and by how much of its
height it may lean."""

BREADTH = 6
"""Pixels that an upright line is broad at most."""

WOBBLE, TOGETHER = 2, 0.7
"""Pixels by which a scratch may stand elsewhere in another frame, and the part of it that has to stand there."""

PASSED, MOVES = 4.0, 0.5
"""Pixels by which the picture has to have moved across, and by which it has to move from frame to frame, for what
stands still to be told from it."""

ASIDE, AMONG_MANY = (-19, -13, -8, 8, 13, 19), 0.4
"""Where lines are looked for that a scratch does not have beside it, in pixels; from this share of frames on that
have some it is one of many: threads and fences come to stand where others stood."""

FLANK = 60
"""Pixels to each side in which the motion is read, where the picture has upright edges: the line stands still, and
flat places follow it."""

ENOUGH = 40
"""Pixels of such edges that it takes; else the motion of the whole frame is taken."""


@dataclass(frozen=True, slots=True)
class Line:
    """An upright line: its place (x, y, and the size of its mask), whether it is bright, and by how many pixels a
    frame the picture beside it moves across."""

    x: int
    y: int
    mask: Mask
    bright: bool
    drift: float

    def tall(self, height: int) -> bool:
        """Whether it is more than a piece, in a frame of that height."""
        return self.mask.shape[0] >= TALL * height

    def meets(self, others: Sequence[Line], aside: int = 0) -> bool:
        """Whether lines of another frame stand at the same place, or so many pixels `aside` of it."""
        alike = (other for other in others if other.bright == self.bright)
        return sum(self._within(other, aside) for other in alike) > TOGETHER

    def _within(self, other: Line, aside: int) -> float:
        """The part of this line that lies within reach of another."""
        apart = self.x + aside - other.x
        if apart > other.mask.shape[1] + WOBBLE or apart < -self.mask.shape[1] - WOBBLE:
            return 0.0
        rows, columns = np.nonzero(self.mask)
        wide = np.pad(other.mask.astype(np.uint8), WOBBLE)
        reached = cv2.dilate(wide, np.ones((2 * WOBBLE + 1, 2 * WOBBLE + 1), np.uint8))
        y, x = rows + self.y - other.y + WOBBLE, columns + self.x + aside - other.x + WOBBLE
        inside = (y >= 0) & (x >= 0) & (y < reached.shape[0]) & (x < reached.shape[1])
        return float((reached[y[inside], x[inside]] > 0).sum() / max(len(rows), 1))


def lines_in(here: Array, sigma: Array, motion: Array) -> list[Line]:
    """The upright lines of a luma plane (H×W), and pieces of lines, given the deviation of its noise and its motion
    to the next frame (H×W×2, pixels)."""
    height, width = here.shape
    if height < 2 * DOWN or width < 4 * (SIDE + WIDE):
        return []
    smooth = cv2.blur(here, (1, DOWN))
    sides = [_moved(cv2.blur(smooth, (WIDE, 1)), way * (SIDE + WIDE // 2)) for way in (-1, 1)]
    noise = np.maximum(STRONG * sigma / np.sqrt(np.float32(DOWN)), LEAST_CV / CV_SCALE)
    masks = {}
    for bright in (True, False):
        beyond = smooth - np.maximum(*sides) if bright else np.minimum(*sides) - smooth
        masks[bright] = _upright((beyond > noise).astype(np.uint8))
    if not any(masks.values()):
        return []
    slope = np.abs(cv2.Sobel(cv2.GaussianBlur(here, (0, 0), 1.5), cv2.CV_32F, 1, 0)) / 8
    tells = slope > np.maximum(sigma, LEAST_CV / CV_SCALE)
    for x, y, mask in (place for places in masks.values() for place in places):
        tells[y : y + mask.shape[0], max(x - BREADTH, 0) : x + mask.shape[1] + BREADTH] = False
    whole = float(np.median(motion[tells, 0])) if tells.any() else 0.0
    return [
        Line(x, y, mask, bright, _drift(motion[..., 0], tells, x, y, mask.shape, whole))
        for bright, places in masks.items()
        for x, y, mask in places
    ]


def _moved(plane: Array, across: int) -> Array:
    shifted: Array = np.roll(plane, -across, axis=1)
    if across > 0:
        shifted[:, -across:] = plane[:, -1:]
    else:
        shifted[:, :-across] = plane[:, :1]
    return shifted


def _upright(on: npt.NDArray[np.uint8]) -> list[tuple[int, int, Mask]]:
    """Lines and pieces by their place and mask."""
    height, width = on.shape
    joined = cv2.morphologyEx(on, cv2.MORPH_CLOSE, np.ones((2 * DOWN + 1, 1), np.uint8))
    joined = cv2.morphologyEx(joined, cv2.MORPH_CLOSE, np.ones((1, 3), np.uint8))
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(joined, connectivity=8)
    found = []
    for label in range(1, count):
        x, y, across, down, area = (int(v) for v in boxes[label])
        lone = min(x, width - x - across) >= SIDE + WIDE  # at the rim of the frame a line has one side
        if lone and down >= PIECE * height and across <= BREADTH + LEANS * down and area <= BREADTH * down:
            found.append((x, y, labels[y : y + down, x : x + across] == label))
    return found


def _drift(motion: Array, tells: Mask, x: int, y: int, shape: tuple[int, ...], whole: float) -> float:
    """Median motion across of what is beside a line and tells it: that of the slower side, for a line may be the
    rim of something that stands."""
    rows = slice(y, y + shape[0])
    sides = [(rows, slice(max(x - FLANK, 0), x)), (rows, slice(x + shape[1], x + shape[1] + FLANK))]
    seen = [motion[side][tells[side]] for side in sides]
    drifts = [float(np.median(side)) for side in seen if side.size > ENOUGH]
    return min(drifts, key=abs, default=whole)


def standing(line: Line, others: Iterable[tuple[int, Sequence[Line]]]) -> float:
    """Share of the frames in which a line stands where it does here, of those `others` (by how many frames they are
    apart, and their lines) by which the picture behind it has moved on. 0 where it has not, or among many lines:
    then nothing can be told."""
    passed = [lines for apart, lines in others if abs(apart * line.drift) > PASSED]
    if not passed or abs(line.drift) < MOVES:
        return 0.0
    here, *elsewhere = (sum(line.meets(lines, aside) for lines in passed) / len(passed) for aside in (0, *ASIDE))
    return here if max(elsewhere) < AMONG_MANY else 0.0
