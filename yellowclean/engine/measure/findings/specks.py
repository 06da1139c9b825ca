"""Specks: dust, sparkle and passing satellites, seen in one frame only and explained by no motion.

After the rank-ordered differences of Nadenau and Mitra 1997: a speck lies beyond everything that stands
near its place in the frame before and in the frame after, looked for both where motion leads and where
the pixel itself is. Where much else is unexplained (water, occlusion), single pixels tell nothing.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

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

RECURRING = 48, 0.4
"""Sparkle of water comes again within so many pixels, in more than this share of the other frames."""

LARGEST = 220
"""Pixels; what is larger is an object."""

CALM = 0.008
"""Share of weakly unexplained pixels around, above which motion is not to be trusted."""

AROUND = 65


def observe(look: Look) -> list[Place]:
    """The specks of a frame that has neighbours on both sides."""
    if look.before is None or look.after is None or min(look.luma.shape) < 32:
        return []
    return _isolated(np.minimum(_beyond(look, look.before), _beyond(look, look.after)))


def _beyond(look: Look, other: Array) -> Array:
    """By how many sigma each pixel lies outside the range of a neighbouring frame around its place; 0
    where two movements meet, since one covers and uncovers the other there, and where the motion leads
    out of the frame."""
    plane = look.luma.astype(np.float32)
    vectors = flow(eight_bit(plane), eight_bit(other), plane.shape[1], quick=True).vectors
    calm = cv2.blur(vectors, (SMOOTH, SMOOTH))  # noise in flat areas makes vectors of its own
    torn = np.max([np.subtract(*_range(np.ascontiguousarray(calm[..., k]), TORN_WITHIN)) for k in (0, 1)], axis=0)
    vectors, torn = (cv2.resize(v, plane.shape[::-1], interpolation=cv2.INTER_LINEAR) for v in (vectors, torn))
    y, x = np.indices(plane.shape, np.float32)
    moved_x, moved_y = x + vectors[..., 0], y + vectors[..., 1]
    moved = cv2.remap(other, moved_x, moved_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
    most, least = _range(moved, REACH_MOVED)
    still_most, still_least = _range(other.astype(np.float32), REACH_STILL)
    above = plane - np.maximum(most, still_most)
    below = np.minimum(least, still_least) - plane
    doubt = np.maximum(TEXTURE_SHARE * (still_most - still_least), LEAST_CV / CV_SCALE) / SIGMAS
    beyond: Array = np.maximum(above, below) / np.maximum(look.sigma, doubt)
    outside = (moved_x < 0) | (moved_x > plane.shape[1] - 1) | (moved_y < 0) | (moved_y > plane.shape[0] - 1)
    return np.where((torn > TORN) | outside, 0, beyond)


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


def conclude(seen: Sequence[tuple[int, list[Place]]], info: MediaInfo) -> Finding:
    spots = _without_sparkle([[Spot(frame=n, **place.model_dump()) for place in places] for n, places in seen])
    looked = max(sum(1 for n, _ in seen if 0 < n < info.frames - 1), 1)
    if not spots:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.9 if looked > 1 else 0.4)
    worst, count = Counter(spot.frame for spot in spots).most_common(1)[0]
    first = next(spot for spot in spots if spot.frame == worst)
    detail = f"{len(spots)} in the {looked} frames looked at, {count} of them in frame {worst}"
    return DETECTOR.finding(
        len(spots) / looked, worst, confidence=0.9 if looked > 1 else 0.4,
        region=Place(**first.model_dump(exclude={"frame"})), detail=detail, spots=spots,
    )  # fmt: skip


def _without_sparkle(frames: Sequence[list[Spot]]) -> list[Spot]:
    """The spots of all frames but those whose like is found near by in many other frames."""
    if len(frames) < 3:
        return [spot for spots in frames for spot in spots]
    near, share = RECURRING

    def recurs(spot: Spot, k: int) -> bool:
        others = [spots for other, spots in enumerate(frames) if other != k]
        close = sum(any(abs(s.x - spot.x) < near and abs(s.y - spot.y) < near for s in spots) for spots in others)
        return close > share * len(others)

    return [spot for k, spots in enumerate(frames) for spot in spots if not recurs(spot, k)]


DETECTOR = Detector("specks", "a frame", 1.0, 40, observe, conclude)
"""Value: specks in a frame, on average. Tolerance: common practice, no source."""
