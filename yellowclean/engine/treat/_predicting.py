"""Single pixels predicted from what is known around them: by least squares, as the pixels about each are predicted
from their own surroundings, from their other colours and from where motion finds them in the frames beside (after
the least-squares prediction of Li and Orchard 2001, with neighbours in time and colour)."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import Array, Frame
from ..motion import Track

Mask = npt.NDArray[np.bool_]
Places = npt.NDArray[np.int64]

REACH = 6
"""Pixels to each side that a prediction is learnt from."""

STAYS = 2.0
"""Pixels up to which a place that motion leads to is the hot pixel itself."""

DAMPING = 0.02
"""Of the least squares, in parts of what they explain; it keeps few samples from being learnt by heart."""

CHUNK = 1024


def ringed(frame: Frame, places: Places, holes: Mask) -> Frame:
    """The frame (H×W×3) with its holes (N×3×3×3, about places N×2: y, x) given the mean of what is known around
    each."""
    grid = np.mgrid[-2:3, -2:3].reshape(2, -1)
    y, x = _mirrored(places, grid, frame.shape)
    around = frame[y, x]
    square = np.ones((len(places), 5, 5, 3), bool)
    square[:, 1:4, 1:4] = ~holes
    known = square.reshape(len(places), 25, 3)
    near = np.exp(-0.5 * ((grid[:, :, None] - grid[:, None, :]) ** 2).sum(axis=0)).astype(np.float32)
    total = np.einsum("pq,nqc->npc", near, known.astype(np.float32))
    filled = np.einsum("pq,nqc->npc", near, np.where(known, around, 0)) / np.maximum(total, 1e-6)
    result = frame.copy()
    for c in range(3):
        which, pixel = np.nonzero(~known[..., c])
        result[y[which, pixel], x[which, pixel], c] = filled[which, pixel, c]
    return result


def predicted(base: Frame, places: Places, holes: Mask, beside: Sequence[tuple[Frame, Track]]) -> Frame:
    """What the 3×3 pixels at each place (N×2: y, x) would be without their holes (N×3×3×3), N×3×3×3. `base` is the
    frame and `beside` are its neighbours with motion to them, all with the holes filled by `ringed`."""
    pieces = [
        _predicted(base, places[k : k + CHUNK], holes[k : k + CHUNK], beside) for k in range(0, len(places), CHUNK)
    ]
    return np.concatenate(pieces)


def _predicted(base: Frame, places: Places, holes: Mask, beside: Sequence[tuple[Frame, Track]]) -> Frame:
    side = 2 * REACH + 3
    grid = np.mgrid[-REACH - 1 : REACH + 2, -REACH - 1 : REACH + 2].reshape(2, -1)
    y, x = _mirrored(places, grid, base.shape)
    here = base[y, x].reshape(-1, side, side, 3)
    moved = [_followed(there, track, places, y, x) for there, track in beside]
    learns = np.ones((len(places), side - 2, side - 2, 3), bool)
    learns[:, REACH - 1 : REACH + 2, REACH - 1 : REACH + 2] = ~holes
    result = here[:, REACH : REACH + 3, REACH : REACH + 3].copy()
    told = ~holes[:, 1, 1]
    for c in range(3):
        clues, target, level = _clues(here, moved, c, told)
        weights = _learnt(clues, target, learns[..., c])
        means = level + np.einsum("nyxf,nf->nyx", clues, weights)
        inner = means[:, REACH - 1 : REACH + 2, REACH - 1 : REACH + 2]
        result[..., c] = np.where(holes[..., c], inner, result[..., c])
    return result


def _clues(here: Array, moved: list[tuple[Array, Mask]], c: int, told: Mask) -> tuple[Array, Array, Array]:
    """What a pixel of colour c is predicted from (N×S×S×F) and what it is, both against the mean of its eight
    neighbours; and that mean."""
    plane = here[..., c]
    level = _mean_beside(plane)
    clues = [(_at(plane, dy, dx) + _at(plane, -dy, -dx)) / 2 - level for dy, dx in ((0, 1), (1, 0), (1, 1))]
    clues += [(_at(there[..., c], 0, 0) - level) * elsewhere[:, None, None] for there, elsewhere in moved]
    for other in {0, 1, 2} - {c}:
        beyond = _at(here[..., other], 0, 0) - _mean_beside(here[..., other])
        clues.append(beyond * told[:, other, None, None])
    return np.stack(clues, axis=-1), _at(plane, 0, 0) - level, level


def _mean_beside(plane: Array) -> Array:
    """The mean of each pixel's eight neighbours."""
    offsets = [(dy, dx) for dy in (-1, 0, 1) for dx in (-1, 0, 1) if dy or dx]
    total: Array = np.sum([_at(plane, dy, dx) for dy, dx in offsets], axis=0) / 8
    return total


def _learnt(clues: Array, target: Array, learns: Mask) -> Array:
    weighted = clues * learns[..., None]
    square = np.einsum("nyxf,nyxg->nfg", weighted, clues).astype(np.float64)
    along = np.einsum("nyxf,nyx->nf", weighted, target).astype(np.float64)
    count = square.shape[-1]
    floor = DAMPING * np.trace(square, axis1=1, axis2=2) / count + 1e-9
    solved: Array = np.linalg.solve(square + floor[:, None, None] * np.eye(count), along[..., None])[..., 0]
    return solved.astype(np.float32)


def _at(planes: Array, dy: int, dx: int) -> Array:
    """Planes N×S×S but their border, moved."""
    side = planes.shape[1]
    return planes[:, 1 + dy : side - 1 + dy, 1 + dx : side - 1 + dx]


def _followed(there: Frame, track: Track, places: Places, y: Places, x: Places) -> tuple[Array, Mask]:
    """Pixels (N×S×S×3) of a neighbour along the motion, and whether that leads away from the hot pixel itself."""
    across, down = track.reduction
    rows = np.clip((places[:, 0] / down).astype(int), 0, track.field.shape[0] - 1)
    columns = np.clip((places[:, 1] / across).astype(int), 0, track.field.shape[1] - 1)
    way = track.field[rows, columns, :2].astype(np.float32)
    to_x, to_y = x.astype(np.float32) + way[:, :1], y.astype(np.float32) + way[:, 1:]
    moved = cv2.remap(there, to_x, to_y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101)
    side = 2 * REACH + 3
    return moved.reshape(-1, side, side, 3), np.abs(way).max(axis=1) > STAYS


def _mirrored(places: Places, grid: Places, shape: tuple[int, ...]) -> tuple[Places, Places]:
    """Rows and columns (N×K) about each place; beyond the frame those inside, mirrored about its last pixel: a hot
    pixel at the rim is not its own neighbour."""
    y, x = places[:, 0, None] + grid[0], places[:, 1, None] + grid[1]
    y, x = (top - np.abs(top - np.abs(k)) for k, top in ((y, shape[0] - 1), (x, shape[1] - 1)))
    return np.clip(y, 0, None), np.clip(x, 0, None)
