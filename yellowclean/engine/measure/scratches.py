"""Upright scratches: thin bright or dark lines that stand at one place of the frame while the picture moves behind
them, or sway before one that stands (after Kokaram 1998 and Joyeux, Buisson, Besserer, Boukir 1999: an outlier
across, long and straight down, that lasts)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array

Mask = npt.NDArray[np.bool_]

_Upright = tuple[int, int, Mask, bool]
"""Place (x, y), mask, and whether it is bright."""

DOWN, SIDE, WIDE = 15, 3, 3
"""Rows that are averaged; pixels to each side from which the sides of a line begin, and how many are averaged."""

STRONG, LEAST_CV = 4.0, 3.0
"""Deviations of that average, and CV, by which a line exceeds both of its sides."""

LONG, MOSTLY = 4 * DOWN + 1, 0.8
"""Rows of which this share exceeds both sides, by however little: so a line shows in texture stronger than it."""

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

WHOLE, SLIM, SWAYS, OFTEN_WHOLE = 0.9, 9, 0.4, 0.3
"""Before a picture that stands still: part of the frame's height that a scratch reaches, pixels that it is broad at
most, and by how many it sways from frame to frame, RMS; and the part of frames where it reaches so far."""

STAYS, TRACKED, TRAVELLED = 0.4, 4, 3.0
"""Part of the picture's speed that a line that stays behind has at most, places that tell it, and the pixels by
which the picture has to have moved on between the first and the last."""

ASIDE, AMONG_MANY = (-19, -13, -8, 8, 13, 19), 0.4
"""Where lines are looked for that a scratch does not have beside it, in pixels; from this share of frames on that
have some it is one of many: threads and fences come to stand where others stood."""

SHOWN, AT_LEAST, NEAR = 0.3, 2, 4.0
"""Part of the other frames, and how many, in which a row of a scratch has to be seen to be one of it here too,
where texture hides it; and how many pixels from it a piece may lie that is one of it."""

LEANING = 2.0
"""Pixels by which a scratch leans otherwise than in the other frames, typically, over the frame's height."""

FLANK = 60
"""Pixels to each side in which the motion is read, where the picture has upright edges: the line stands still, and
flat places follow it."""

ENOUGH = 40
"""Pixels of such edges that it takes; else the motion of the whole frame is taken."""


@dataclass(frozen=True, slots=True)
class Line:
    """An upright line: its place (x, y, and the size of its mask), whether it is bright, by how many pixels a frame
    the picture beside it moves across, and whether it runs through all of the picture."""

    x: int
    y: int
    mask: Mask
    bright: bool
    drift: float
    whole: bool

    def tall(self, height: int) -> bool:
        """Whether it is more than a piece, in a frame of that height."""
        return self.mask.shape[0] >= TALL * height

    def aside_of(self, other: Line) -> float:
        """Pixels by which it lies to the right of another, in the rows that both have; NaN where they have none."""
        (here, middle), (there, middle_there) = self.track(), other.track()
        _, own, its = np.intersect1d(here, there, return_indices=True)
        return float((middle[own] - middle_there[its]).mean()) if len(own) else np.nan

    def track(self) -> tuple[npt.NDArray[np.intp], Array]:
        """Rows of the frame, and the middle of the line in each."""
        rows = np.nonzero(self.mask.any(axis=1))[0]
        part = self.mask[rows]
        return rows + self.y, self.x + (part * np.arange(part.shape[1])).sum(axis=1) / part.sum(axis=1)

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
    noise = np.maximum(STRONG * sigma / np.sqrt(np.float32(DOWN)), LEAST_CV / CV_SCALE)
    strong, any_at_all = _beyond_sides(here, DOWN), _beyond_sides(here, SIDE)
    every: list[_Upright] = []
    for bright in (True, False):
        mostly = cv2.blur((any_at_all[bright] > sigma / 2).astype(np.float32), (1, LONG)) > MOSTLY
        every += [(*place, bright) for on in (strong[bright] > noise, mostly) for place in _upright(on)]
    places = _apart(every)
    if not places:
        return []
    slope = np.abs(cv2.Sobel(cv2.GaussianBlur(here, (0, 0), 1.5), cv2.CV_32F, 1, 0)) / 8
    tells = slope > np.maximum(sigma, LEAST_CV / CV_SCALE)
    for x, y, mask, _ in places:
        tells[y : y + mask.shape[0], max(x - BREADTH, 0) : x + mask.shape[1] + BREADTH] = False
    whole = float(np.median(motion[tells, 0])) if tells.any() else 0.0
    found = []
    for x, y, mask, bright in places:
        drift, through = _drift(motion[..., 0], tells, x, y, mask.shape, whole), len(mask) >= WHOLE * height
        found.append(Line(x, y, mask, bright, drift, through))
    return found


def _beyond_sides(here: Array, rows: int) -> dict[bool, Array]:
    """By how much the mean of so many rows exceeds both sides (bright lines), and falls short of them (dark)."""
    smooth = cv2.blur(here, (1, rows))
    left, right = (_moved(cv2.blur(smooth, (WIDE, 1)), way * (SIDE + WIDE // 2)) for way in (-1, 1))
    return {True: smooth - np.maximum(left, right), False: np.minimum(left, right) - smooth}


def _apart(lines: list[_Upright]) -> list[_Upright]:
    """The taller one of lines beside one another: found twice, or the shade that a line has to its side."""
    kept: list[_Upright] = []
    for line in sorted(lines, key=lambda line: -len(line[2])):
        x, y, mask, _ = line
        middle, bottom = x + mask.shape[1] / 2, y + len(mask)
        if not any(
            abs(middle - (a + other.shape[1] / 2)) <= BREADTH and min(bottom, b + len(other)) > max(y, b)
            for a, b, other, _ in kept
        ):
            kept.append(line)
    return kept


def _moved(plane: Array, across: int) -> Array:
    shifted: Array = np.roll(plane, -across, axis=1)
    if across > 0:
        shifted[:, -across:] = plane[:, -1:]
    else:
        shifted[:, :-across] = plane[:, :1]
    return shifted


def _upright(on: Mask) -> list[tuple[int, int, Mask]]:
    """Lines and pieces by their place and mask."""
    height, width = on.shape
    joined = cv2.morphologyEx(on.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((2 * DOWN + 1, 1), np.uint8))
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
    apart, and their lines) by which the picture behind it has moved on; of all, where the line cannot belong to the
    picture. 0 where nothing tells, or among many lines."""
    others = list(others)
    alike = [(0, line)]  # one that is broken in another frame, or here, too
    alike += [
        (apart, each) for apart, lines in others for each in lines if each.meets([line]) or line.meets([each])
    ]
    drift = float(np.median([each.drift for _, each in alike]))
    passed = [lines for apart, lines in others if abs(drift) >= MOVES and abs(apart * drift) > PASSED]
    if not passed and _strange(alike, drift):
        passed = [lines for _, lines in others]
    if not passed:
        return 0.0
    here, *elsewhere = (sum(line.meets(lines, aside) for lines in passed) / len(passed) for aside in (0, *ASIDE))
    return here if max(elsewhere) < AMONG_MANY else 0.0


def through_texture(line: Line, frames: Sequence[Sequence[Line]], height: int) -> Line:
    """A scratch of the first of some frames (their lines) with what texture hides of it there: the rows that other
    frames show, along what is seen of it."""
    seen = np.stack([_seen(line, lines, height) for lines in frames])
    here, *others = ~np.isnan(seen)
    rows = here | (np.sum(others, axis=0) >= max(SHOWN * len(others), AT_LEAST))
    course, broad = _course(seen), float(np.median(line.mask.sum(axis=1)))
    left = min(max(int(course[rows].min() - broad), 0), line.x)
    columns = np.arange(left, max(int(course[rows].max() + broad), line.x + line.mask.shape[1]) + 1)
    mask = (np.abs(columns - course[:, None]) <= broad / 2) & rows[:, None]
    mask[line.track()[0]] = False
    mask[line.y : line.y + line.mask.shape[0], line.x - left : line.x - left + line.mask.shape[1]] |= line.mask
    (first, last), (begin, end) = (np.nonzero(mask.any(axis=axis))[0][[0, -1]] for axis in (1, 0))
    return replace(line, x=left + int(begin), y=int(first), mask=mask[first : last + 1, begin : end + 1])


def _course(seen: Array) -> Array:
    """Where a scratch lies in each row of the first of some frames, by where it was seen in all of them (frames ×
    rows, NaN where not): its usual course, moved and leant as what is seen of it there."""
    here, known = ~np.isnan(seen[0]), ~np.isnan(seen).all(axis=0)
    every = np.arange(seen.shape[1])
    usual = np.interp(every, every[known], np.nanmedian(seen[:, known], axis=0))
    apart, down = (seen[0] - usual)[here], every / len(every)
    at, middle = down[here], down[here].mean()
    lean = np.mean((at - middle) * apart) / (np.mean((at - middle) ** 2) + DOWN / len(at) / LEANING**2)
    found: Array = np.where(here, seen[0], usual + apart.mean() + lean * (down - middle))
    return found


def _seen(line: Line, lines: Sequence[Line], height: int) -> Array:
    """Where a scratch's pieces in a frame lie in each of its rows; NaN where none is."""
    found = np.full(height, np.nan)
    rows, middle = line.track()
    lean, start = np.polyfit(rows, middle, 1)
    for other in lines:
        there, at = other.track()
        near = np.abs(at - start - lean * there) < NEAR + WOBBLE * np.minimum(
            np.abs(there - rows.mean()) / height, 1
        )
        if other.bright == line.bright and near.mean() > TOGETHER:
            found[there] = at
    return found


def _strange(alike: list[tuple[int, Line]], drift: float) -> bool:
    """Whether the first of lines, by its places in several frames, cannot belong to a picture that drifts so: it
    stays behind; or it runs through all of a picture that stands, and sways."""
    line = alike[0][1]
    seen = np.array([(apart, each.aside_of(line)) for apart, each in alike])
    seen = seen[~np.isnan(seen[:, 1])]
    if len(seen) < TRACKED:
        return False
    apart, places = seen.T
    speed, start = np.polyfit(apart, places, 1)
    if abs(drift) >= MOVES:
        return bool(abs(speed) < STAYS * abs(drift) and np.ptp(apart) * abs(drift) > TRAVELLED)
    if line.mask.shape[1] > SLIM or np.mean([each.whole for _, each in alike]) < OFTEN_WHOLE:
        return False
    unsure = float(np.std([each.drift for _, each in alike]))
    return float(np.sqrt(np.mean((places - start - speed * apart) ** 2))) > SWAYS + unsure
