"""Specks: dust, sparkle and passing satellites, seen in one frame only and explained by no motion.

After the rank-ordered differences of Nadenau and Mitra 1997: a speck lies beyond everything that stands
near its place in the frame before and in the frame after, looked for both where motion leads and where
the pixel itself is. Where much else is unexplained (water, occlusion), single pixels tell nothing: a
place where the motion leaves more than noise in most frames is restless, and what comes again and again
there is its sparkle.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from ...frames import CV_SCALE, Array
from ...media import MediaInfo
from ...motion import eight_bit, flow
from .base import Detector, Finding, Look, Place, Spot

SIGMAS, WEAK_SIGMAS = 4.5, 2.5
LEAST_CV = 12.0
TEXTURE_SHARE = 0.5
"""Of the contrast around it in the other frame, a speck stands out by this much at least: texture that
moves by fractions of a pixel overshoots by less."""

REACH_MOVED, REACH_STILL = 3, 7
"""Sides of the neighbourhoods searched along the motion and at the pixel's own place."""

TORN, TORN_WITHIN, SMOOTH = 9.0, 31, 15
"""Pixels by which the motion differs within so many pixels, where two movements meet."""

RECURRING = 0.4
"""Share of the other frames in which sparkle comes again near by."""

NEAR, NEAR_RESTLESS = 48, 160
"""Pixels that are near by, and those where the picture is restless."""

RESTLESS, UNEXPLAINED = 1.45, 2.0
"""A place is restless if so many times more of it than of the calm parts differs from the frame before, along
the motion, by so many sigma of the softened difference (set on test-camera clips: water from 1.5,
dust on cloth and on stars to 1.45)."""

CELL = 16
"""Pixels between the points at which unrest is kept."""

LARGEST = 220
"""Pixels; what is larger is an object."""

CALM = 0.008
"""Share of weakly unexplained pixels around, above which motion is not to be trusted."""

AROUND = 65


@dataclass(frozen=True, slots=True)
class Seen:
    """What may be specks in a frame, and how restless the picture is at every `CELL` pixels (1: calm)."""

    places: list[Place]
    unrest: Array


def observe(look: Look) -> Seen | None:
    """The specks of a frame that has neighbours on both sides; None where they cannot be told."""
    if look.before is None or look.after is None or min(look.luma.shape) < 32:
        return None
    before, after = _Followed.of(look, look.before), _Followed.of(look, look.after)
    return Seen(_isolated(np.minimum(before.beyond(look), after.beyond(look))), before.unrest(look))


@dataclass(frozen=True, slots=True)
class _Followed:
    """A neighbouring frame, brought along the motion to the frame looked at. `lost` says where that cannot be:
    where two movements meet, since one covers and uncovers the other there, and where the motion leads out
    of the frame."""

    still: Array
    moved: Array
    lost: npt.NDArray[np.bool_]

    @staticmethod
    def of(look: Look, other: Array) -> _Followed:
        height, width = look.luma.shape
        vectors = flow(eight_bit(look.luma), eight_bit(other), width, quick=True).vectors
        calm = cv2.blur(vectors, (SMOOTH, SMOOTH))  # noise in flat areas makes vectors of its own
        torn = np.max(
            [np.subtract(*_range(np.ascontiguousarray(calm[..., k]), TORN_WITHIN)) for k in (0, 1)], axis=0
        )
        vectors, torn = (cv2.resize(v, (width, height), interpolation=cv2.INTER_LINEAR) for v in (vectors, torn))
        y, x = np.indices((height, width), np.float32)
        moved_x, moved_y = x + vectors[..., 0], y + vectors[..., 1]
        still = other.astype(np.float32)
        moved = cv2.remap(still, moved_x, moved_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
        outside = (moved_x < 0) | (moved_x > width - 1) | (moved_y < 0) | (moved_y > height - 1)
        return _Followed(still, moved, (torn > TORN) | outside)

    def beyond(self, look: Look) -> Array:
        """By how many sigma each pixel lies outside the range of the neighbour around its place."""
        most, least = _range(self.moved, REACH_MOVED)
        still_most, still_least = _range(self.still, REACH_STILL)
        above = look.luma - np.maximum(most, still_most)
        below = np.minimum(least, still_least) - look.luma
        doubt = np.maximum(TEXTURE_SHARE * (still_most - still_least), LEAST_CV / CV_SCALE) / SIGMAS
        beyond: Array = np.maximum(above, below) / np.maximum(look.sigma, doubt)
        return np.where(self.lost, 0, beyond)

    def unrest(self, look: Look) -> Array:
        """How much of the surroundings of each cell's centre differs, against the calm parts of the frame."""
        softened = cv2.GaussianBlur((look.luma - self.moved) / look.sigma, (0, 0), 1.0)
        typical = np.median(np.abs(softened))
        differs = (np.abs(softened) > UNEXPLAINED * typical).astype(np.float32)
        share = cv2.boxFilter(differs, -1, (AROUND, AROUND))[CELL // 2 :: CELL, CELL // 2 :: CELL]
        unrest: Array = share / max(np.percentile(share, 20), 1e-3)
        return unrest.astype(np.float32)


def _range(plane: Array, side: int) -> tuple[Array, Array]:
    kernel = np.ones((side, side), np.uint8)
    return cv2.dilate(plane, kernel), cv2.erode(plane, kernel)


def _isolated(beyond: Array) -> list[Place]:
    """Places of small groups of strongly unexplained pixels in calm surroundings."""
    weak = beyond > WEAK_SIGMAS
    grown = cv2.morphologyEx(weak.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8))
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(grown, connectivity=8)
    if count < 2:
        return []
    peak = np.zeros(count)
    np.maximum.at(peak, labels[weak], beyond[weak])
    busy = cv2.boxFilter(weak.astype(np.float32), -1, (AROUND, AROUND), normalize=False)
    return [
        Place(x=int(x), y=int(y), width=int(w), height=int(h))
        for label, (x, y, w, h, area) in enumerate(boxes)
        if label and peak[label] > SIGMAS and area <= LARGEST
        and busy[y + h // 2, x + w // 2] - _inside(weak, x, y, w, h) < CALM * AROUND**2
    ]  # fmt: skip


def _inside(weak: npt.NDArray[np.bool_] | np.bool_, x: int, y: int, w: int, h: int) -> int:
    return int(np.asarray(weak)[y : y + h, x : x + w].sum())


def conclude(seen: Sequence[tuple[int, Seen | None]], info: MediaInfo) -> Finding:
    looks = [(n, s) for n, s in seen if s is not None]
    spots = _without_sparkle(
        [[Spot(frame=n, **place.model_dump()) for place in s.places] for n, s in looks],
        np.median([s.unrest for _, s in looks], axis=0) if looks else np.ones((1, 1)),
    )
    looked = max(len(looks), 1)
    if not spots:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.9 if looked > 1 else 0.4)
    worst, count = Counter(spot.frame for spot in spots).most_common(1)[0]
    first = next(spot for spot in spots if spot.frame == worst)
    detail = f"{len(spots)} in the {looked} frames looked at, {count} of them in frame {worst}"
    return DETECTOR.finding(
        len(spots) / looked, worst, confidence=0.9 if looked > 1 else 0.4,
        region=Place(**first.model_dump(exclude={"frame"})), detail=detail, spots=spots,
    )  # fmt: skip


def _without_sparkle(frames: Sequence[list[Spot]], unrest: Array) -> list[Spot]:
    """The spots of all frames but those whose like is found near by in many other frames."""
    if len(frames) < 3:
        return [spot for spots in frames for spot in spots]

    def restless(spot: Spot) -> bool:
        row, column = (spot.y + spot.height // 2) // CELL, (spot.x + spot.width // 2) // CELL
        return bool(unrest[min(row, unrest.shape[0] - 1), min(column, unrest.shape[1] - 1)] > RESTLESS)

    def recurs(spot: Spot, candidates: Sequence[list[Spot]], own: int, near: int) -> bool:
        others = [spots for k, spots in enumerate(candidates) if k != own]
        close = sum(any(abs(s.x - spot.x) < near and abs(s.y - spot.y) < near for s in spots) for spots in others)
        return close > RECURRING * len(others)

    moved = [[spot for spot in spots if restless(spot)] for spots in frames]
    return [
        spot
        for k, spots in enumerate(frames)
        for spot in spots
        if not recurs(spot, frames, k, NEAR) and not (spot in moved[k] and recurs(spot, moved, k, NEAR_RESTLESS))
    ]


DETECTOR = Detector("specks", "a frame", 1.0, 40, observe, conclude)
"""Value: specks in a frame, on average. Tolerance: common practice, no source."""
