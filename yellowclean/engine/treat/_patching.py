"""Holes in a picture filled: along motion from the frames beside it, and where those do not fit, from a place of
the frame itself that looks alike around (after Criminisi, Pérez, Toyama 2004), joined to the border by its
gradients (Pérez, Gangnet, Blake 2003), or at last from the border alone.

A hole is worked on in tiles. What surrounds a tile is laid over each neighbour, at whole pixels about where the
motion leads and then between them, and where it fits is where the filling is taken from: the mean of the neighbours
by how well they fit, each where it has no hole of its own. Averages lack the picture's grain, which is laid over
them again, as much as is missing."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import Array, Frame, Region, extended

Mask = npt.NDArray[np.bool_]

TILE, CONTEXT, SEARCH = 32, 10, 4
"""Pixels of a tile and around it, and how far from where the motion leads a fit is looked for."""

AT_HOME = 32
"""Pixels to each side in which the frame itself is searched for what looks alike."""

FITS, FITS_CONTRAST = 2.5, 0.4
"""Deviation of what surrounds a tile from a neighbour, in that of noise alone or as a part of the contrast there,
up to which the neighbour is used."""

OPEN, MOSTLY_CLEAN = 0.5, 0.05
"""Part of a hole that a neighbour may leave open, for another one to fill; and that of a pixel."""

LEAST_KNOWN = 24
"""Pixels around a hole that a fit needs."""

SPREADS = 200
"""Rounds in which a hole that no neighbour fills is filled from its border."""


@dataclass(frozen=True, slots=True)
class Neighbour:
    """A whole frame beside, its own holes, and where motion leads from a place: (dx, dy) in pixels."""

    frame: Frame
    holes: Mask
    leads: Callable[[Region], tuple[float, float]]


Ring = Callable[[], Sequence[Neighbour]]
"""Neighbours equally far away, made when they are needed."""


@dataclass(frozen=True, slots=True)
class Filling:
    """A tile of the frame: its region, its mask, the filled pixels (H×W×3), and the share of the noise's variance
    that they hold."""

    region: Region
    mask: Mask
    rgb: Frame
    noise: float


def fillings(frame: Frame, holes: Mask, rings: Sequence[Ring], sigma: float) -> list[Filling]:
    """Fill the holes (H×W) of a frame, tile by tile. `sigma` is the deviation of its noise. Neighbours of a farther
    ring are used where none of a nearer one fits: a hole that stands still has moved on in them."""
    height, width = holes.shape
    found = []
    for y in range(0, height, TILE):
        for x in range(0, width, TILE):
            mask = holes[y : y + TILE, x : x + TILE]
            if mask.any():
                region = Region(x, y, mask.shape[1], mask.shape[0])
                found.append(_filled(frame, holes, region, rings, sigma))
    return found


def _filled(frame: Frame, holes: Mask, region: Region, rings: Sequence[Ring], sigma: float) -> Filling:
    height, width = holes.shape
    mask = holes[region.slices]
    around = region.grown(CONTEXT).clipped(width, height)
    here, known = frame[around.slices], ~holes[around.slices]
    inside = region.within(around).slices
    contrast = float(here[known].std(axis=0).mean()) if known.any() else 0.0
    most = max(FITS * np.sqrt(2) * sigma, FITS_CONTRAST * contrast)
    for ring in rings:
        fits = [fit for each in ring() if (fit := _fitted(here, known, around, each, OPEN)) and fit.off <= most]
        if not fits:
            continue
        weights = np.stack([fit.clean[inside] / np.float32(fit.off**2 + 1e-9) for fit in fits])
        total = weights.sum(axis=0)
        if (total[mask] > 0).all():
            shares = weights / np.maximum(total, np.float32(1e-12))
            mean = np.einsum("nyx,nyxc->yxc", shares, np.stack([fit.moved[inside] for fit in fits]))
            return Filling(region, mask, mean, float((shares**2).sum(axis=0)[mask].mean()))
    alike = _fitted(here, known, around, Neighbour(frame, holes, lambda _: (0.0, 0.0)), 0, AT_HOME)
    if alike and alike.off <= most:
        joined = alike.moved + _from_around(here - alike.moved, known)
        return Filling(region, mask, joined[inside], 1.0)
    return Filling(region, mask, _from_around(here, known)[inside], 0.0)


class _Fit(NamedTuple):
    """A neighbour laid over a place, where it is no hole itself, and by how much it differs in what both know."""

    moved: Frame
    clean: Mask
    off: float


def _fitted(
    here: Frame, known: Mask, around: Region, neighbour: Neighbour, open_part: float, search: int = SEARCH
) -> _Fit | None:
    """The neighbour laid where it fits best, and leaves at most that part of the hole open; None if nowhere."""
    if known.sum() < LEAST_KNOWN:
        return None
    lead_x, lead_y = (round(v) for v in neighbour.leads(around))
    wider = Region(around.x + lead_x, around.y + lead_y, around.width, around.height).grown(search + 2)
    other, clean = _cut(neighbour, wider)
    rows, columns = known.shape
    template = np.where(known[..., None], here, np.float32(0)).astype(np.float32)
    weights = np.repeat(known[..., None], 3, axis=2).astype(np.float32)
    errors = cv2.matchTemplate(
        np.ascontiguousarray(other[2:-2, 2:-2], np.float32), template, cv2.TM_SQDIFF, mask=weights
    )
    holes = cv2.dilate((~known).astype(np.uint8), np.ones((3, 3), np.uint8))
    unclean = cv2.matchTemplate((~clean[2:-2, 2:-2]).astype(np.float32), holes.astype(np.float32), cv2.TM_CCORR)
    errors[unclean > open_part * holes.sum() + 0.5] = np.nan
    if not np.isfinite(errors).any():
        return None
    j, i = (int(v) for v in np.unravel_index(int(np.nanargmin(errors)), errors.shape))
    best = (i + _between(errors[j], i), j + _between(errors[:, i], j))
    shift = np.array([[1, 0, best[0] + 2], [0, 1, best[1] + 2]], np.float64)
    moved = cv2.warpAffine(other, shift, (columns, rows), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)
    holed = cv2.warpAffine((~clean).astype(np.float32), shift, (columns, rows), flags=cv2.WARP_INVERSE_MAP)
    whole = holed < MOSTLY_CLEAN
    both = known & whole
    if both.sum() < LEAST_KNOWN:
        return None
    return _Fit(moved, whole, float(np.sqrt(((here[both] - moved[both]) ** 2).mean())))


def _between(line: Array, k: int) -> float:
    """Where between samples a parabola through the least one and its neighbours is lowest."""
    if not 0 < k < len(line) - 1 or not np.isfinite(line[k - 1 : k + 2]).all():
        return 0.0
    bend = line[k - 1] - 2 * line[k] + line[k + 1]
    return float(np.clip(0.5 * (line[k - 1] - line[k + 1]) / bend, -0.5, 0.5)) if bend > 0 else 0.0


def _cut(neighbour: Neighbour, wanted: Region) -> tuple[Frame, Mask]:
    """A region of a neighbour that may reach beyond the frame, and where it can be used."""
    height, width = neighbour.holes.shape
    inside = wanted.clipped(width, height)
    if not inside.width or not inside.height:
        return np.zeros((wanted.height, wanted.width, 3), np.float32), np.zeros((wanted.height, wanted.width), bool)
    clean = np.zeros((wanted.height, wanted.width), bool)
    clean[inside.within(wanted).slices] = ~neighbour.holes[inside.slices]
    return extended(neighbour.frame[inside.slices], inside, wanted), clean


def _from_around(here: Frame, known: Mask) -> Frame:
    """The smoothest filling that joins its border: each pixel the mean of its four neighbours."""
    if not known.any():
        return here
    filled = here.copy()
    filled[~known] = here[known].mean(axis=0)
    hole = ~known
    for _ in range(SPREADS):
        wide = np.pad(filled, ((1, 1), (1, 1), (0, 0)), mode="edge")
        mean = (wide[:-2, 1:-1] + wide[2:, 1:-1] + wide[1:-1, :-2] + wide[1:-1, 2:]) * np.float32(0.25)
        filled[hole] = mean[hole]
    return filled
