"""Specks of one frame: what lies beyond everything that stands near its place in the frame before and in the frame
after, both along the motion and where the pixel itself is (after the rank-ordered differences of Nadenau and Mitra
1997).

How far beyond counts against the noise, and against how much the two neighbours themselves differ around there:
where they agree, little is needed; on water, leaves and behind people who walk they disagree, and what differs
there says nothing. What is long and thin is a trail, and is followed to its ends. Upright scratches last, and are
told apart from the scene in `scratches`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

import cv2
import numpy as np
import numpy.typing as npt
import scipy

from ..frames import CV_SCALE, Array, Region
from .following import Followed, followed
from .scratches import Line, lines_in, standing, through_texture

Kind = Literal["dust", "trail", "drop-out", "scratch"]
Mask = npt.NDArray[np.bool_]

STRONG, STRONG_ALONG, WEAK = 5.0, 4.0, 2.0
"""Deviations beyond the neighbours that a speck reaches, there and along the motion alone, and down to which it
extends."""

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

ALONG, OF_ITS_OWN, AGREEING, MOST_GROWN = 4.0, 0.15, 0.5, 8
"""A speck hides where something like it stands in its place a frame before or after. It extends to what hangs
together with it and differs in its sense from both neighbours along the motion: by so many deviations, and by this
share of what it does itself. There they may differ from each other by this part of that. It grows to so many times
its pixels."""

LARGEST = 2000
"""Pixels; what is larger and not long is an object."""

LONG, SLENDER = 14, 5.0
"""Pixels from which on a speck can be a trail, and how many times its width its length is."""

FAINT, STRIDE, BROKEN, HIDDEN = 1.0, 4, 4, 0.1
"""Mean deviation down to which a trail goes on, how many pixels at a time it is followed, how many such steps it
may miss, and the part of its length that bright scenery may hide at once."""

GROWN = 2
"""Pixels by which what is found is widened: its soft border belongs to it."""

TINY, LIKE_IT, OVER_NOISE, PLAIN_SIDE = 4, 0.18, 4.0, 9
"""Pixels up to which a speck may be a detail of the scene that fell onto whole pixels here and between them in the
frames beside; the part of its depth that it keeps there, which is a quarter where it fell between four of them, and
by how many deviations of the noise; and the side of what is around, from which depth is reckoned."""

TRUSTED, SHOWN = 2.2, 0.7
"""Unrest up to which motion alone is trusted, and the part of its own difference from a neighbour by which a speck
of it may stand out of its surroundings there."""

LEAST_SIDE = 32

NEAR, OFTEN, ENOUGH_FRAMES = 48, 0.4, 2
"""Sparkle comes again within so many pixels, or anywhere where the picture is restless, in more than this share of
other frames, of which there have to be so many."""

CHANCE = 0.01
"""Probability below which so many are not taken for specks that fell there as they fall anywhere."""

STANDS = 0.65
"""Share of the frames that can tell in which a scratch has to stand."""

AS_MUCH = 0.5
"""Part of a speck's strength, and of its pixels, that its like has to reach."""

RESTLESS = 1.2
"""A place is restless where the frames beside differ by so many times what they differ by in the calm fifth, in
parts of the noise (set on test-camera clips: still and panned scenes stay below in 98 % of places, the specks of
sparkling water lie above)."""

BLOCK = 8
"""Pixels a side over which that is averaged before the median of 5×5 of them is taken."""


@dataclass(frozen=True, slots=True)
class Speck:
    """A speck: its place (x, y, and the size of its mask), what it is, and how sure that is (0-1)."""

    x: int
    y: int
    mask: Mask
    kind: Kind
    sure: float
    strength: float = 0.0
    """Deviations by which it lies beyond its neighbours, at most."""
    restless: bool = False
    """Whether it lies where much else is unexplained."""

    def apart(self, other: Speck) -> float:
        """How far another one lies away, in pixels of the longer way."""
        (x, y), (other_x, other_y) = self.centre, other.centre
        return max(abs(x - other_x), abs(y - other_y))

    def like(self, other: Speck) -> bool:
        """Whether it is as strong and as large as another one."""
        pixels, wanted = np.count_nonzero(self.mask), np.count_nonzero(other.mask)
        return bool(pixels > AS_MUCH * wanted) and self.strength > AS_MUCH * other.strength

    @property
    def centre(self) -> tuple[float, float]:
        height, width = self.mask.shape
        return self.x + width / 2, self.y + height / 2


@dataclass(frozen=True, slots=True)
class Found:
    """The specks of a frame, its upright lines, how many pixels it has, and how many lie where it is calm."""

    specks: list[Speck]
    lines: list[Line]
    shape: tuple[int, int]
    calm: int

    @property
    def pixels(self) -> int:
        return self.shape[0] * self.shape[1]

    @property
    def nbytes(self) -> int:
        return 1024 + sum(256 + thing.mask.nbytes for things in (self.specks, self.lines) for thing in things)


def lasting(n: int, frames: Mapping[int, Found]) -> list[Speck]:
    """The specks and scratches of frame n of some, but its sparkle: what has likes, as strong and as large, near by
    in many of the other frames, and more of them than specks are that fall anywhere. Water, leaves and lamps do."""
    here, others = frames[n], [found for k, found in frames.items() if k != n]
    scratches = _scratches(n, frames)
    if len(others) < ENOUGH_FRAMES:
        return [*here.specks, *scratches]
    kept = (s for s in here.specks if not (_again(s, others, False) or (s.restless and _again(s, others, True))))
    return [*kept, *scratches]


def _scratches(n: int, frames: Mapping[int, Found]) -> list[Speck]:
    here, others = frames[n], [(k - n, found.lines) for k, found in frames.items() if k != n]
    height, width = here.shape
    whole: list[tuple[Line, float]] = []
    for line in here.lines:
        share = standing(line, others) if line.tall(height) and not line.meets([w for w, _ in whole]) else 0.0
        if share >= STANDS:
            whole.append((through_texture(line, [here.lines, *(lines for _, lines in others)], height), share))
    return [_scratch(line, width, share) for line, share in whole]


def _scratch(line: Line, width: int, share: float) -> Speck:
    wide = np.ones((1, 2 * GROWN + 1), np.uint8)
    mask = cv2.dilate(np.pad(line.mask.astype(np.uint8), ((0, 0), (GROWN, GROWN))), wide) > 0
    inside = slice(max(GROWN - line.x, 0), width - line.x + GROWN)
    return Speck(max(line.x - GROWN, 0), line.y, mask[:, inside], "scratch", 0.95 * share)


def _again(speck: Speck, others: Sequence[Found], restless: bool) -> bool:
    """Whether a speck's likes come again near it, against those farther away; or where the picture is `restless`,
    against those where it is calm."""
    alike = [[s for s in other.specks if s.like(speck)] for other in others]
    close = [sum(s.restless if restless else speck.apart(s) < NEAR for s in frame) for frame in alike]
    if sum(count > 0 for count in close) <= OFTEN * len(others):
        return False
    pixels = sum(other.pixels for other in others)
    room = pixels - sum(other.calm for other in others) if restless else len(others) * (2 * NEAR) ** 2
    elsewhere = sum(map(len, alike)) - sum(close)
    expected = elsewhere * room / max(pixels - room, 1)
    return bool(scipy.special.gammainc(sum(close), expected) < CHANCE)  # so many or more, of a Poisson distribution


def beside(n: int, frames: int, apart: int = 1) -> list[int]:
    """The frames of a shot so far `apart` from frame n: on both sides, and where one side ends, that of the other
    and the next one."""
    sides = [n - apart, n + apart]
    if sides[0] < 0:
        sides = [n + apart, n + apart + 1]
    elif sides[1] >= frames:
        sides = [n - apart, n - apart - 1]
    return [k for k in sides if 0 <= k < frames]


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


def specks_in(here: Array, before: Array, after: Array, sigma: Array, apart: int = 1) -> Found:
    """The specks of a luma plane (H×W), given those before and after it, or two others beside it, and the deviation
    of its noise; `apart` is how many frames the second lies ahead (below 0: back)."""
    if min(here.shape) < LEAST_SIDE:
        return Found([], [], here.shape, here.size)
    neighbours = [followed(here, other) for other in (before, after)]
    beyond, unrest = _beyond(here, before, after, sigma, neighbours)
    along = _along(here, neighbours) / np.maximum(sigma, LEAST)
    cores = _cores(beyond, STRONG, 2)
    cores = [c for c in cores if c.pixels > TINY or not _between(here, neighbours, c.place, sigma)]
    found = _whole(cores, beyond, along, unrest)
    passed, taken = _beyond_moved(here, sigma, neighbours), _covered(found, here.shape)
    cores = [c for c in _cores(passed, STRONG_ALONG, 0) if c.pixels > TINY and unrest[c.middle] < TRUSTED]
    cores = [c for c in cores if not (taken[c.place.slices][c.mask].any() or _softer(here, neighbours, c))]
    found += _whole(cores, passed, along, unrest)
    if apart != 1:  # what moves may hide in both others what this frame alone sees
        found = [speck for speck in found if not speck.restless]
    lines = lines_in(here, sigma, neighbours[1].vectors / np.float32(apart))
    return Found(_without_doubles(found), lines, here.shape, int(np.count_nonzero(unrest <= RESTLESS)))


def _beyond(
    here: Array, before: Array, after: Array, sigma: Array, neighbours: list[Followed]
) -> tuple[Array, Array]:
    """By how many deviations each pixel lies outside the range of both neighbours; and how much those differ around
    it, against the calm parts of the frame."""
    ranges = [_range(plane, REACH_STILL) for plane in (before, after)]
    ranges += [_range(there.moved, REACH_MOVED) for there in neighbours]
    most = np.maximum.reduce([high for high, _ in ranges])
    least = np.minimum.reduce([low for _, low in ranges])
    apart = np.abs(neighbours[0].moved - neighbours[1].moved)
    doubt = np.maximum(DISAGREEMENT * _around(apart), apart / 2)
    unit = np.maximum(np.maximum(sigma, LEAST), np.maximum(doubt, TEXTURE * (most - least)))
    beyond: Array = np.maximum(here - most, least - here) / unit
    there = followed(before, after)
    unrest = _unrest(np.where(there.outside, 0, np.abs(before - there.moved) / np.maximum(sigma, LEAST)))
    return np.where(neighbours[0].outside | neighbours[1].outside, 0, beyond).astype(np.float32), unrest


def _beyond_moved(here: Array, sigma: Array, neighbours: list[Followed]) -> Array:
    """By how many deviations each pixel lies outside the range of both neighbours along the motion alone, where
    those agree: what stands at its own place does not hide it, and contrast counts for more."""
    ranges = [_range(there.moved, REACH_MOVED) for there in neighbours]
    most, least = np.maximum(*(high for high, _ in ranges)), np.minimum(*(low for _, low in ranges))
    apart = np.abs(neighbours[0].moved - neighbours[1].moved)
    doubt = np.maximum(DISAGREEMENT * _around(apart), apart)
    unit = np.maximum(np.maximum(sigma, LEAST), np.maximum(doubt, ALONG_TEXTURE * (most - least)))
    beyond: Array = np.maximum(here - most, least - here) / unit
    return np.where(neighbours[0].outside | neighbours[1].outside, 0, beyond).astype(np.float32)


def _around(apart: Array) -> Array:
    """The root of the mean square around a pixel."""
    root: Array = np.sqrt(np.maximum(cv2.blur(apart * apart, (AROUND, AROUND)), 0))
    return root


def _cores(beyond: Array, strong: float, gap: int) -> list[Core]:
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


def _covered(specks: Sequence[Speck], shape: tuple[int, int]) -> Mask:
    covered = np.zeros(shape, bool)
    for speck in specks:
        height, width = speck.mask.shape
        covered[speck.y : speck.y + height, speck.x : speck.x + width] |= speck.mask
    return covered


def _whole(cores: Sequence[Core], beyond: Array, along: Array, unrest: Array) -> list[Speck]:
    """The specks that some cores belong to."""
    found = []
    height, width = beyond.shape
    for place, core, peak, over in cores:
        rows, columns = np.nonzero(core)
        shape = _shape(rows + place.y, columns + place.x, beyond)
        if shape:
            mask, kind = shape
            around = place.grown(max(place.width, place.height)).clipped(width, height)
            seen = np.zeros((around.height, around.width), bool)
            seen[place.within(around).slices] = core
            mask[around.slices] |= _extended(seen, along[around.slices])
            speck = _speck(mask, kind, over)
            at_x, at_y = (int(v) for v in speck.centre)
            found.append(replace(speck, strength=peak, restless=bool(unrest[at_y, at_x] > RESTLESS)))
    return found


def _along(here: Array, neighbours: list[Followed]) -> Array:
    """By how much a plane differs from both neighbours along the motion; 0 where those do not agree on it."""
    apart = [here - there.moved for there in neighbours]
    nearer = np.minimum(*np.abs(apart))
    agreed: Array = np.abs(apart[0] - apart[1]) < AGREEING * nearer
    return np.where(agreed, np.copysign(nearer, apart[0]), 0)


def _extended(core: Mask, along: Array) -> Mask:
    """What is found of a speck, and what hangs together with it by its difference `along` the motion."""
    own = float(np.median(along[core]))
    joined = core | (np.sign(own) * along > max(ALONG, OF_ITS_OWN * abs(own)))
    _, labels = cv2.connectedComponents(joined.astype(np.uint8), connectivity=8)
    whole: Mask = np.isin(labels, np.unique(labels[core]))
    return whole if np.count_nonzero(whole) <= MOST_GROWN * np.count_nonzero(core) else core


def _between(here: Array, neighbours: list[Followed], place: Region, sigma: Array) -> bool:
    """Whether what stands out at a place stands out there in both neighbours too, if less."""
    spot = place.grown(1).clipped(here.shape[1], here.shape[0]).slices
    around = place.grown(PLAIN_SIDE // 2).clipped(here.shape[1], here.shape[0]).slices
    plain = float(np.median(here[around]))
    side = 1 if float(here[place.slices].mean()) > plain else -1
    depth, *there = (
        float((side * (plane[spot] - plain)).max()) for plane in (here, *(n.moved for n in neighbours))
    )
    return min(there) > max(LIKE_IT * depth, OVER_NOISE * float(sigma[place.slices].mean()))


def _softer(here: Array, neighbours: list[Followed], core: Core) -> bool:
    """Whether what lies beyond both neighbours stands out of its surroundings there too: their texture, softer or
    sharper by where it fell on the pixels."""
    spot = core.place.grown(PLAIN_SIDE // 2).clipped(here.shape[1], here.shape[0])
    inside = core.place.within(spot).slices
    for there in neighbours:
        plain = there.moved[spot.slices] - cv2.blur(there.moved[spot.slices], (PLAIN_SIDE, PLAIN_SIDE))
        apart = float((here - there.moved)[core.place.slices][core.mask].mean())
        if abs(float(plain[inside][core.mask].mean())) < SHOWN * abs(apart):
            return False
    return True


def _unrest(apart: Array) -> Array:
    """By how many times two frames differ around a pixel (H×W: how far apart they are, in noise) beyond
    what they differ by in the calm fifth of the frame; what is small, as a speck of theirs is, does not count."""
    height, width = apart.shape
    small = cv2.resize(apart, (width // BLOCK, height // BLOCK), interpolation=cv2.INTER_AREA)
    around = cv2.dilate(cv2.medianBlur(small.astype(np.float32), 5), np.ones((3, 3), np.uint8))
    unrest = around / max(float(np.percentile(around, 20)), 1e-6)
    return cv2.resize(unrest, (width, height), interpolation=cv2.INTER_LINEAR)


def _range(plane: Array, side: int) -> tuple[Array, Array]:
    kernel = np.ones((side, side), np.uint8)
    return cv2.dilate(plane, kernel), cv2.erode(plane, kernel)


def _shape(
    rows: npt.NDArray[np.intp], columns: npt.NDArray[np.intp], beyond: Array
) -> tuple[npt.NDArray[np.uint8], Kind] | None:
    """Where the speck of some pixels lies, and what it is by its shape; none if it is too large."""
    points = np.stack([columns, rows], axis=1).astype(np.float32)
    centre, size, _ = cv2.minAreaRect(points)
    length, width = max(size) + 1, min(size) + 1
    if length >= LONG and length > SLENDER * width:
        along = cv2.fitLine(points, cv2.DIST_L2, 0, 0.01, 0.01).ravel()[:2]  # finer than the rectangle's angle
        ends = _followed_to_ends(beyond, np.array(centre), along, length / 2)
        mask = np.zeros(beyond.shape, np.uint8)
        (x0, y0), (x1, y1) = ((round(float(x)), round(float(y))) for x, y in ends)
        cv2.line(mask, (x0, y0), (x1, y1), 1, max(round(width), 1))
        mask[rows, columns] = 1
        level = abs(along[1]) < 0.05 and width <= 4 and length >= 2 * LONG
        return mask, "drop-out" if level else "trail"
    if len(rows) > LARGEST:
        return None
    mask = np.zeros(beyond.shape, np.uint8)
    mask[rows, columns] = 1
    return mask, "dust"


def _followed_to_ends(beyond: Array, centre: Array, along: Array, half: float) -> list[Array]:
    """The ends of a trail: on as long as the mean deviation across it stays above chance."""
    across = np.array([-along[1], along[0]])
    height, width = beyond.shape
    steps, sides = np.arange(STRIDE)[:, None], np.array([-1.0, 0.0, 1.0])[None, :]
    broken = max(BROKEN, round(HIDDEN * 2 * half / STRIDE))
    ends = []
    for sign in (1.0, -1.0):
        reached, missing, at = half, 0, half
        while missing <= broken:
            points = centre + sign * along * (at + steps)[..., None] + across * sides[..., None]
            x, y = np.rint(points[..., 0]).astype(int), np.rint(points[..., 1]).astype(int)
            if x.min() < 0 or y.min() < 0 or x.max() >= width or y.max() >= height:
                break
            at += STRIDE
            if float(beyond[y, x].max(axis=1).mean()) > FAINT:
                reached, missing = at, 0
            else:
                missing += 1
        ends.append(centre + sign * along * reached)
    return ends


def _speck(mask: npt.NDArray[np.uint8], kind: Kind, over: float) -> Speck:
    sure = float(np.clip(1 - np.exp(-(over + 1) / 3), 0, 0.99))
    grown = cv2.dilate(mask, np.ones((2 * GROWN + 1, 2 * GROWN + 1), np.uint8))
    x, y, width, height = cv2.boundingRect(grown)
    return Speck(x, y, grown[y : y + height, x : x + width] > 0, kind, sure)


def _without_doubles(found: list[Speck]) -> list[Speck]:
    """Pieces of a trail that a longer one covers are left out."""
    kept: list[Speck] = []
    for speck in sorted(found, key=lambda s: -s.mask.size):
        x, y = (int(v) for v in speck.centre)
        inside = any(
            t.kind != "dust" and 0 <= y - t.y < t.mask.shape[0] and 0 <= x - t.x < t.mask.shape[1]
            and t.mask[y - t.y, x - t.x]
            for t in kept
        )  # fmt: skip
        if not inside:
            kept.append(speck)
    return sorted(kept, key=lambda s: (s.y, s.x))
