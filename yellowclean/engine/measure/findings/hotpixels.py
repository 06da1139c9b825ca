"""Hot pixels: photosites that shine in every frame at one place, whatever the picture does.

A pixel counts when it stands out of its 5×5 surroundings in nearly all frames looked at. If the
picture stands still too, only those of a single colour count: a lens gives every light some breadth
and all channels, a photosite behind a colour filter has neither.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ...frames import CV_SCALE, Array, Frame
from ...media import MediaInfo
from .base import Detector, Finding, Look, Place, Spot

SIGMAS = 5.0
LEAST_CV = 12.0
LASTING, LASTING_MOVING = 0.8, 0.7
"""Share of the frames looked at in which a pixel stands out; fewer where the picture moves behind it, and hides it
now and then."""

ENOUGH_LOOKS = 4
SINGLE_COLOUR = 2.0
MOVING_CV = 1.0
"""Mean change between frames, beyond noise, at which the picture as a whole moves."""

MOST = 20_000

LONELY = 2.0
"""By how much it exceeds all else within three pixels beyond its own 3×3: lines and texture do not."""

RING = np.ones((7, 7), np.uint8)
RING[2:5, 2:5] = 0


@dataclass(frozen=True, slots=True)
class Bright:
    """Pixels that stand out (y, x), those of them that do so in one colour only and from all around, and whether
    the picture moves."""

    where: list[tuple[int, int]]
    coloured: set[tuple[int, int]]
    moving: bool


def observe(look: Look) -> Bright:
    return bright_in(look.frame, look.sigma, moves(look.luma, look.before, look.sigma))


def bright_in(frame: Frame, sigma: Array, moving: bool) -> Bright:
    """The pixels that stand out of a frame (H×W×3) by its noise (H×W)."""
    over = frame - np.stack([cv2.medianBlur(np.ascontiguousarray(frame[..., c]), 5) for c in range(3)], -1)
    strongest = np.maximum(np.maximum(over[..., 0], over[..., 1]), over[..., 2])
    deviation = np.abs(over)
    deviation = np.maximum(np.maximum(deviation[..., 0], deviation[..., 1]), deviation[..., 2])
    outstanding = strongest > np.maximum(SIGMAS * sigma, LEAST_CV / CV_SCALE)
    outstanding &= strongest >= cv2.dilate(strongest, np.ones((3, 3), np.uint8))
    around = cv2.dilate(deviation, RING)
    outstanding &= strongest > LONELY * around
    ys, xs = np.nonzero(outstanding)
    order = np.argsort(strongest[ys, xs])[::-1][:MOST]
    ys, xs = ys[order], xs[order]
    channels = np.sort(over[ys, xs], axis=1)
    single = channels[:, 2] > SINGLE_COLOUR * np.maximum(channels[:, 1], 0)
    where = list(zip(ys.tolist(), xs.tolist(), strict=True))
    coloured = {place for place, alone in zip(where, single, strict=True) if alone}
    return Bright(where, coloured, moving)


def lasting_in(looks: Sequence[Bright]) -> tuple[bool, list[tuple[int, int]]]:
    """Whether the picture moves, and the places (y, x) that stand out in most of the frames looked at."""
    moving = sum(bright.moving for bright in looks) > len(looks) / 2
    if moving:
        times = Counter(place for bright in looks for place in bright.where)
    else:
        times = Counter(place for bright in looks for place in bright.coloured)
    least = (LASTING_MOVING if moving else LASTING) * len(looks)
    return moving, sorted(place for place, count in times.items() if count >= least)


def moves(here: Array, before: Array | None, sigma: Array) -> bool:
    """Whether blurred pictures (luma, H×W), in which noise is small, still differ."""
    if before is None:
        return False
    change = np.abs(cv2.blur(here - before, (9, 9)))
    return bool(np.percentile(change, 75) > MOVING_CV / CV_SCALE + np.median(sigma) / 9 * 1.8)


def conclude(seen: Sequence[tuple[int, Bright]], info: MediaInfo) -> Finding:
    if len(seen) < ENOUGH_LOOKS:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="too few frames to tell")
    moving, lasting = lasting_in([bright for _, bright in seen])
    first = seen[0][0]
    spots = [Spot(frame=first, x=max(x - 1, 0), y=max(y - 1, 0), width=3, height=3) for y, x in lasting]
    place = Place(**spots[0].model_dump(exclude={"frame"})) if spots else None
    detail = "at the same places in every frame" if spots else ""
    return DETECTOR.finding(
        float(len(spots)), first, confidence=1.0 if moving else 0.6, region=place, detail=detail, spots=spots
    )


DETECTOR = Detector("hot pixels", "pixels", 2.0, 41, observe, conclude, beside=3)
"""Tolerance: common practice, no source."""
