"""Hot pixels: photosites that shine in every frame at one place, whatever the picture does.

A pixel counts when it stands out of its 5×5 surroundings in nearly all frames looked at. If the
picture stands still too, only those of a single colour count: a lens gives every light some breadth
and all channels, a photosite behind a colour filter has neither.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ...frames import CV_SCALE, Array, Frame
from ...media import MediaInfo
from .base import Detector, Finding, Look, Place, Spot

SIGMAS = 5.0
LEAST_CV = 12.0
LASTING, LASTING_MOVING = 0.8, 0.7
"""Share of the frames looked at in which a pixel stands out; fewer where the picture moves behind it, and hides it
now and then."""

ENOUGH_LOOKS = 4
MOST = 20_000

LONELY, MAY_BE = 3.0, 0.5
"""By how much it exceeds all else within three pixels beyond its own 3×3, in the mean of the frames: lines and
texture that pass do not. And by how much at least in a single one, to be looked at."""

OTHERS, BESIDE, PURE = 0.3, 0.75, 0.2
"""In a still picture, where a lens gives every light some breadth and stars have all colours: the parts of a hot
pixel's height that other colours may reach within its 3×3 and its own beside it (demosaicing spreads half of its
light), and of its purity (what is highest less the colour in the middle) that anything farther away may have. Set
on a third of 34 photographs under forty hot pixels each, with and without a mosaic."""

NEAR = 3
"""Pixels to each side of one that are kept to judge it."""

BLOCK, CONTRAST, LEAST_PX, STILL_SHARE = 16, 1.0, 0.3, 0.5
"""The picture moves when less than this share of its blocks stand still, of those that tell: whose slopes (in
deviations of the noise a pixel) would show that they moved by so many pixels."""

SPILLED = 0.2
"""Part of a hot pixel's height from which on a colour, or a pixel beside it, shines too: demosaicing spreads it."""

RING = np.ones((2 * NEAR + 1, 2 * NEAR + 1), np.uint8)
RING[NEAR - 1 : NEAR + 2, NEAR - 1 : NEAR + 2] = 0


@dataclass(frozen=True, slots=True)
class Bright:
    """The places (N×2: y, x) of pixels that stand out of a frame, by how much each and those around it exceed their
    own surroundings (N×7×7×3), and whether the picture moves."""

    places: npt.NDArray[np.int64]
    over: npt.NDArray[np.float16]
    moving: bool


class Lasting(NamedTuple):
    """Whether the picture moves, the places of the pixels that shine in all frames (N×2: y, x), and which colours
    of the 3×3 pixels about each do (N×3×3×3)."""

    moving: bool
    places: npt.NDArray[np.int64]
    shine: npt.NDArray[np.bool_]


def observe(look: Look) -> Bright:
    return bright_in(look.frame, look.sigma, moves(look.luma, look.before, look.sigma))


def bright_in(frame: Frame, sigma: Array, moving: bool) -> Bright:
    """The pixels that stand out of a frame (H×W×3) by its noise (H×W), at most `MOST` of them."""
    over = frame - np.stack([cv2.medianBlur(np.ascontiguousarray(frame[..., c]), 5) for c in range(3)], -1)
    strongest = _most(over)
    around = cv2.dilate(_most(np.abs(over)), RING)
    outstanding = strongest > np.maximum(np.maximum(SIGMAS * sigma, LEAST_CV / CV_SCALE), MAY_BE * around)
    outstanding &= strongest >= cv2.dilate(strongest, np.ones((3, 3), np.uint8))
    places = np.argwhere(outstanding)
    lonely = (strongest[outstanding] / np.maximum(around[outstanding], 1e-6)).argsort()[::-1][:MOST]
    y, x = places[lonely].T[:, :, None] + NEAR + np.mgrid[-NEAR : NEAR + 1, -NEAR : NEAR + 1].reshape(2, 1, -1)
    wide = np.pad(over, ((NEAR, NEAR), (NEAR, NEAR), (0, 0)))
    side = 2 * NEAR + 1
    return Bright(places[lonely], wide[y, x].reshape(-1, side, side, 3).astype(np.float16), moving)


def _most(rgb: Array) -> Array:
    """The highest channel; several times as fast as `max` over an axis of three."""
    most: Array = np.maximum(np.maximum(rgb[..., 0], rgb[..., 1]), rgb[..., 2])
    return most


def lasting_in(looks: Sequence[Bright]) -> Lasting:
    """The pixels that stand out in most of the frames looked at, alone or, where the picture stands still, in a
    single colour."""
    moving = sum(bright.moving for bright in looks) > len(looks) / 2
    least = (LASTING_MOVING if moving else LASTING) * len(looks)
    places = np.concatenate([bright.places for bright in looks])
    different, which, times = np.unique(places, axis=0, return_inverse=True, return_counts=True)
    lasting, often = np.flatnonzero(times >= least), times[which.ravel()] >= least
    over = np.concatenate([bright.over for bright in looks])[often].astype(np.float32)
    mean = np.zeros((len(lasting), *over.shape[1:]), np.float32)
    np.add.at(mean, np.searchsorted(lasting, which.ravel()[often]), over)
    mean /= times[lasting, None, None, None]
    height = mean[:, NEAR, NEAR].max(axis=1)
    around = np.abs(mean[:, RING > 0]).max(axis=(1, 2), initial=0)
    alone = height > LONELY * around if moving else _one_coloured(mean)
    inner = mean[alone, NEAR - 1 : NEAR + 2, NEAR - 1 : NEAR + 2]
    return Lasting(moving, different[lasting[alone]], inner > SPILLED * height[alone, None, None, None])


def _one_coloured(mean: Array) -> npt.NDArray[np.bool_]:
    """Whether what stands out (N×7×7×3) is one photosite of one colour, and nothing near it as pure."""
    inner = mean[:, NEAR - 1 : NEAR + 2, NEAR - 1 : NEAR + 2]
    centre = inner[:, 1, 1]
    height = centre.max(axis=1)
    own = np.arange(3) == centre.argmax(axis=1)[:, None, None, None]
    others = np.where(own, 0, np.abs(inner)).max(axis=(1, 2, 3), initial=0)
    beside = np.delete(np.where(own, inner, 0).max(axis=3).reshape(-1, 9), 4, axis=1).max(axis=1, initial=0)
    purity = mean.max(axis=3) - np.median(mean, axis=3)
    as_pure = purity[:, RING > 0].max(axis=1, initial=0) > PURE * purity[:, NEAR, NEAR]
    return (others < OTHERS * height) & (beside < BESIDE * height) & ~as_pure


def moves(here: Array, before: Array | None, sigma: Array) -> bool:
    """Whether blurred pictures (luma, H×W), in which noise is small, still differ where they show something."""
    if before is None or min(here.shape) < 2 * BLOCK:
        return False
    noise = float(np.median(sigma)) / 9
    shown = cv2.blur(here, (9, 9))
    change = np.abs(shown - cv2.blur(before, (9, 9)))
    slope = np.abs(cv2.Sobel(shown, cv2.CV_32F, 1, 0)) + np.abs(cv2.Sobel(shown, cv2.CV_32F, 0, 1))
    size = here.shape[1] // BLOCK, here.shape[0] // BLOCK
    changed, steep = (cv2.resize(plane, size, interpolation=cv2.INTER_AREA) for plane in (change, slope / 8))
    tells = steep > np.maximum(CONTRAST * noise, np.median(steep))
    still = changed[tells] <= 1.8 * noise + LEAST_PX * steep[tells]
    return bool(tells.any() and still.mean() < STILL_SHARE)


def conclude(seen: Sequence[tuple[int, Bright]], info: MediaInfo) -> Finding:
    if len(seen) < ENOUGH_LOOKS:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="too few frames to tell")
    moving, places, _ = lasting_in([bright for _, bright in seen])
    first = seen[0][0]
    spots = [Spot(frame=first, x=max(x - 1, 0), y=max(y - 1, 0), width=3, height=3) for y, x in places.tolist()]
    place = Place(**spots[0].model_dump(exclude={"frame"})) if spots else None
    detail = "at the same places in every frame" if spots else ""
    return DETECTOR.finding(
        float(len(spots)), first, confidence=1.0 if moving else 0.6, region=place, detail=detail, spots=spots
    )


DETECTOR = Detector("hot pixels", "pixels", 2.0, 41, observe, conclude, beside=3)
"""Tolerance: common practice, no source."""
