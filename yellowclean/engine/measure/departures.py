"""What of a frame departs from the frames beside it: how many deviations each pixel lies beyond everything that
stands near its place there, both along the motion and where the pixel itself is (after the rank-ordered differences
of Nadenau and Mitra 1997), or along the motion alone, and what hangs together of that.

How far beyond counts against the noise, and against how much the two neighbours themselves differ around there:
where they agree, little is needed; on water, leaves and behind people who walk they disagree, and what differs
there says nothing."""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array, Region
from .following import followed

Mask = npt.NDArray[np.bool_]

LEAST = 4 / CV_SCALE
"""Deviation below which noise is not taken to be."""

REACH_MOVED, REACH_STILL = 3, 7
"""Sides of the neighbourhoods searched along the motion and at the pixel's own place."""

DISAGREEMENT, AROUND = 1.3, 31
"""How much the neighbours' disagreement around (root of its mean square), over so many pixels, counts against a
deviation."""

TEXTURE, ALONG_TEXTURE = 0.08, 0.25
"""Part of the contrast around that counts against a deviation: texture that moves by fractions of a pixel
overshoots. More where only the motion is trusted."""

WEAK = 2.0
"""Deviations down to which what departs extends."""

AGREEING = 0.5
"""Part of their difference from a frame by which both neighbours may differ from each other to agree on it."""

LIKE_IT, OVER_NOISE, PLAIN_SIDE = 0.18, 4.0, 9
"""Part of its depth that a detail of the scene keeps where it fell onto whole pixels here and between them in the
frames beside (a quarter between four of them), and by how many deviations of the noise; and the side of what is
around, from which depth is reckoned."""

SHOWN = 0.7
"""Part of its own difference from a neighbour by which what departs may stand out of its surroundings there."""

BLOCK = 8
"""Pixels a side over which unrest is averaged before the median of 5×5 of them is taken."""


class Core(NamedTuple):
    """Where a plane lies far beyond its neighbours: the place, which pixels of it, by how many deviations at most,
    and by how many more than it had to."""

    place: Region
    mask: Mask
    peak: float
    over: float

    @property
    def pixels(self) -> int:
        return int(np.count_nonzero(self.mask))

    @property
    def middle(self) -> tuple[int, int]:
        """Its row and column."""
        return self.place.y + self.place.height // 2, self.place.x + self.place.width // 2


class Departures:
    """A luma plane (H×W) under noise of some deviation (H×W) beside two others, as they are and brought to it along
    the motion."""

    def __init__(self, here: Array, before: Array, after: Array, sigma: Array) -> None:
        self.neighbours = followed(here, before), followed(here, after)
        self._here, self._before, self._after, self._sigma = here, before, after, sigma
        self._noise = np.maximum(sigma, LEAST)
        self._moved = _range_of([there.moved for there in self.neighbours], REACH_MOVED)
        apart = np.abs(self.neighbours[0].moved - self.neighbours[1].moved)
        around = np.sqrt(np.maximum(cv2.blur(apart * apart, (AROUND, AROUND)), 0))
        self._doubt = np.maximum(self._noise, np.maximum(DISAGREEMENT * around, apart / 2))

    def beyond(self) -> Array:
        """By how many deviations each pixel lies outside the range of both neighbours."""
        least, most = _range_of([self._before, self._after], REACH_STILL)
        return self._outside(np.minimum(least, self._moved[0]), np.maximum(most, self._moved[1]), TEXTURE)

    def beyond_along(self) -> Array:
        """The same along the motion alone: what stands at its own place does not hide it, and contrast counts for
        more."""
        return self._outside(*self._moved, ALONG_TEXTURE)

    def along(self) -> Array:
        """By how many deviations of the noise each pixel differs from both neighbours along the motion; 0 where
        those do not agree on it."""
        apart = [self._here - there.moved for there in self.neighbours]
        nearer = np.minimum(*np.abs(apart))
        agreed = np.abs(apart[0] - apart[1]) < AGREEING * nearer
        differs: Array = np.where(agreed, np.copysign(nearer, apart[0]), 0) / self._noise
        return differs

    def unrest(self) -> Array:
        """How many times the neighbours differ around a pixel by what they do in the calm fifth of the frame; what
        is small, as a speck of theirs is, does not count."""
        there = followed(self._before, self._after)
        apart = np.where(there.outside, 0, np.abs(self._before - there.moved) / self._noise)
        height, width = apart.shape
        small = cv2.resize(apart, (width // BLOCK, height // BLOCK), interpolation=cv2.INTER_AREA)
        around = cv2.dilate(cv2.medianBlur(small.astype(np.float32), 5), np.ones((3, 3), np.uint8))
        unrest = around / max(float(np.percentile(around, 20)), 1e-6)
        return cv2.resize(unrest, (width, height), interpolation=cv2.INTER_LINEAR)

    def between(self, place: Region) -> bool:
        """Whether what stands out at a place stands out there in both neighbours too, if less."""
        spot, around = (self._clipped(place, by).slices for by in (1, PLAIN_SIDE // 2))
        plain = float(np.median(self._here[around]))
        side = 1 if float(self._here[place.slices].mean()) > plain else -1
        planes = (self._here, *(there.moved for there in self.neighbours))
        depth, *others = (float((side * (plane[spot] - plain)).max()) for plane in planes)
        return min(others) > max(LIKE_IT * depth, OVER_NOISE * float(self._sigma[place.slices].mean()))

    def softer(self, core: Core) -> bool:
        """Whether a core stands out of its surroundings in the neighbours too: their texture, softer or sharper by
        where it fell on the pixels."""
        spot = self._clipped(core.place, PLAIN_SIDE // 2)
        inside = core.place.within(spot).slices
        for there in self.neighbours:
            moved = there.moved[spot.slices]
            stands = (moved - cv2.blur(moved, (PLAIN_SIDE, PLAIN_SIDE)))[inside][core.mask].mean()
            apart = (self._here[core.place.slices] - moved[inside])[core.mask].mean()
            if abs(float(stands)) < SHOWN * abs(float(apart)):
                return False
        return True

    def _outside(self, least: Array, most: Array, texture: float) -> Array:
        unit = np.maximum(self._doubt, texture * (most - least))
        beyond = np.maximum(self._here - most, least - self._here) / unit
        before, after = self.neighbours
        return np.where(before.outside | after.outside, 0, beyond).astype(np.float32)

    def _clipped(self, place: Region, by: int) -> Region:
        return place.grown(by).clipped(self._here.shape[1], self._here.shape[0])


def cores(beyond: Array, strong: float, gap: int) -> list[Core]:
    """What lies so far beyond the neighbours, with gaps of so many pixels."""
    weak = beyond > WEAK
    joined = cv2.morphologyEx(weak.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((gap + 1, gap + 1), np.uint8))
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(joined, connectivity=8)
    peak = np.zeros(count)
    np.maximum.at(peak, labels[weak], beyond[weak])
    cores = []
    for label in np.nonzero(peak > strong)[0]:
        place = Region(*(int(v) for v in boxes[label][:4]))
        cores.append(Core(place, labels[place.slices] == label, float(peak[label]), float(peak[label]) - strong))
    return cores


def _range_of(planes: list[Array], side: int) -> tuple[Array, Array]:
    """The least and the most of some planes within so many pixels around each."""
    kernel = np.ones((side, side), np.uint8)
    least = np.minimum(*(cv2.erode(plane, kernel) for plane in planes))
    return least, np.maximum(*(cv2.dilate(plane, kernel) for plane in planes))
