"""Specks of one frame: what departs from the frames before and after it (`departures`). What is long and thin is a
trail, and is followed to its ends. Upright scratches last, and are told apart from the scene in `scratches`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

import cv2
import numpy as np
import numpy.typing as npt
import scipy

from ..frames import LUMA_WEIGHTS, Array, Frame, Region, luma
from .departures import Core, Departures, cores
from .scratches import Line, lines_in, standing, through_texture

Kind = Literal["dust", "trail", "drop-out", "scratch"]
Mask = npt.NDArray[np.bool_]

STRONG, STRONG_ALONG = 5.0, 4.0
"""Deviations beyond the neighbours that a speck reaches, and along the motion alone."""

TINY = 4
"""Pixels up to which a speck may be a detail of the scene that fell between the pixels of the frames beside."""

TRUSTED = 2.2
"""Unrest up to which motion alone is trusted."""

ALONG, OF_ITS_OWN, MOST_GROWN = 4.0, 0.15, 8
"""A speck hides where something like it stands in its place a frame before or after. It extends to what hangs
together with it and differs in its sense from both neighbours along the motion: by so many deviations, and by this
share of what it does itself. It grows to so many times its pixels."""

LARGEST = 2000
"""Pixels; what is larger and not long is an object."""

LONG, SLENDER = 14, 5.0
"""Pixels from which on a speck can be a trail, and how many times its width its length is."""

FAINT, STRIDE, BROKEN, HIDDEN = 1.0, 4, 4, 0.1
"""Mean deviation down to which a trail goes on, how many pixels at a time it is followed, how many such steps it
may miss, and the part of its length that bright scenery may hide at once."""

GROWN = 2
"""Pixels by which what is found is widened: its soft border belongs to it."""

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

GREY, AS_COLOURED = 0.25, 2.0
"""Colour up to which specks are grey, and how many times as coloured as another its like may be: dust is grey, and
no glint of a coloured lamp is its like."""

SURROUNDED, PEAKED, CUT_OFF = 6, 4, 0.98
"""Pixels around a speck that it stands out of, the power with which what stands out most tells its colour, and the
level from which on no colour is told."""

RESTLESS = 1.2
"""A place is restless where the frames beside differ by so many times what they differ by in the calm fifth, in
parts of the noise (set on test-camera clips: still and panned scenes stay below in 98 % of places, the specks of
sparkling water lie above)."""


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
    colour: float = np.inf
    """How far its channels lie apart, in parts of what it stands out by; infinite where nobody looked."""
    restless: bool = False
    """Whether it lies where much else is unexplained."""

    def apart(self, other: Speck) -> float:
        """How far another one lies away, in pixels of the longer way."""
        (x, y), (other_x, other_y) = self.centre, other.centre
        return max(abs(x - other_x), abs(y - other_y))

    def like(self, other: Speck) -> bool:
        """Whether it is as strong and as large as another one, and as coloured."""
        pixels, wanted = np.count_nonzero(self.mask), np.count_nonzero(other.mask)
        less, more = sorted((self.colour, other.colour))
        as_large = bool(pixels > AS_MUCH * wanted) and self.strength > AS_MUCH * other.strength
        return as_large and more <= max(AS_COLOURED * less, GREY)

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


def specks_in(
    frame: Frame, before: Array, after: Array, sigma: Array, *, coding_error: float = 0.0, apart: int = 1
) -> Found:
    """The specks of a frame (H×W×3), given the luma (H×W) of those before and after it, or of two others beside it,
    the deviation of its own luma's noise, and its codec's error (frame units), which comes and goes as noise does;
    `apart` is how many frames the second lies ahead (below 0: back)."""
    here = luma(frame)
    if min(here.shape) < LEAST_SIDE:
        return Found([], [], here.shape, here.size)
    departs = Departures(here, before, after, np.hypot(sigma, np.float32(coding_error)))
    along, unrest = departs.along(), departs.unrest()
    beyond = departs.beyond()
    plain = [c for c in cores(beyond, STRONG, 2) if c.pixels > TINY or not departs.between(c.place)]
    found = _whole(plain, beyond, along, unrest)
    beyond, taken = departs.beyond_along(), _covered(found, here.shape)
    hidden = [c for c in cores(beyond, STRONG_ALONG, 0) if c.pixels > TINY and unrest[c.middle] < TRUSTED]
    hidden = [c for c in hidden if not (taken[c.place.slices][c.mask].any() or departs.softer(c))]
    found += _whole(hidden, beyond, along, unrest)
    if apart != 1:  # what moves may hide in both others what this frame alone sees
        found = [speck for speck in found if not speck.restless]
    found = [replace(speck, colour=_colour(speck, frame)) if speck.kind == "dust" else speck for speck in found]
    lines = lines_in(here, sigma, departs.neighbours[1].vectors / np.float32(apart))
    return Found(_without_doubles(found), lines, here.shape, int(np.count_nonzero(unrest <= RESTLESS)))


def _colour(speck: Speck, frame: Frame) -> float:
    """How far the channels of what stands out of a speck's surroundings lie apart there, in parts of that."""
    height, width = speck.mask.shape
    own = Region(speck.x, speck.y, width, height)
    around = own.grown(SURROUNDED).clipped(frame.shape[1], frame.shape[0])
    plain = np.median(frame[around.slices].reshape(-1, 3), axis=0)
    pixels = frame[own.slices][speck.mask]
    out = np.abs((pixels - plain) @ LUMA_WEIGHTS)
    weight = np.where(pixels.max(axis=1) < CUT_OFF, out, 0) ** PEAKED
    if not weight.any():
        return np.inf
    shade = weight @ pixels / weight.sum()
    return float(np.ptp(shade) * weight.sum() / (weight @ out))


def _covered(specks: Sequence[Speck], shape: tuple[int, int]) -> Mask:
    covered = np.zeros(shape, bool)
    for speck in specks:
        height, width = speck.mask.shape
        covered[speck.y : speck.y + height, speck.x : speck.x + width] |= speck.mask
    return covered


def _whole(parts: Sequence[Core], beyond: Array, along: Array, unrest: Array) -> list[Speck]:
    """The specks that some cores belong to."""
    found = (_speck(core, beyond, along, unrest) for core in parts)
    return [speck for speck in found if speck]


def _speck(core: Core, beyond: Array, along: Array, unrest: Array) -> Speck | None:
    """The speck that a core belongs to; none if it is too large."""
    height, width = beyond.shape
    trail = _trail(core, beyond)
    if not trail and core.pixels > LARGEST:
        return None
    around = core.place.grown(max(core.mask.shape)).clipped(width, height)
    room = around.grown(GROWN).clipped(width, height) if not trail else Region(0, 0, width, height)
    mask = np.zeros((room.height, room.width), np.uint8)
    if trail:
        cv2.line(mask, *trail.ends, (1,), trail.width)
    seen = np.zeros((around.height, around.width), bool)
    seen[core.place.within(around).slices] = core.mask
    mask[around.within(room).slices] |= _extended(seen, along[around.slices])
    grown = cv2.dilate(mask, np.ones((2 * GROWN + 1, 2 * GROWN + 1), np.uint8))
    place = Region(*cv2.boundingRect(grown))
    sure = float(np.clip(1 - np.exp(-(core.over + 1) / 3), 0, 0.99))
    kind: Kind = trail.kind if trail else "dust"
    speck = Speck(room.x + place.x, room.y + place.y, grown[place.slices] > 0, kind, sure, core.peak)
    x, y = (int(v) for v in speck.centre)
    return replace(speck, restless=bool(unrest[y, x] > RESTLESS))


def _extended(core: Mask, along: Array) -> Mask:
    """What is found of a speck, and what hangs together with it by its difference `along` the motion."""
    own = float(np.median(along[core]))
    joined = core | (np.sign(own) * along > max(ALONG, OF_ITS_OWN * abs(own)))
    _, labels = cv2.connectedComponents(joined.astype(np.uint8), connectivity=8)
    whole: Mask = np.isin(labels, np.unique(labels[core]))
    return whole if np.count_nonzero(whole) <= MOST_GROWN * np.count_nonzero(core) else core


class Trail(NamedTuple):
    """A long thin speck: its ends (x, y), its width in pixels, and whether it is one of the sky or of a line."""

    ends: tuple[tuple[int, int], tuple[int, int]]
    width: int
    kind: Kind


def _trail(core: Core, beyond: Array) -> Trail | None:
    """The trail that a core is a part of, if it is long and thin."""
    rows, columns = np.nonzero(core.mask)
    points = np.stack([columns + core.place.x, rows + core.place.y], axis=1).astype(np.float32)
    centre, size, _ = cv2.minAreaRect(points)
    length, width = max(size) + 1, min(size) + 1
    if length < LONG or length <= SLENDER * width:
        return None
    along = cv2.fitLine(points, cv2.DIST_L2, 0, 0.01, 0.01).ravel()[:2]  # finer than the rectangle's angle
    (x0, y0), (x1, y1) = _followed_to_ends(beyond, np.array(centre), along, length / 2)
    ends = (round(float(x0)), round(float(y0))), (round(float(x1)), round(float(y1)))
    level = abs(along[1]) < 0.05 and width <= 4 and length >= 2 * LONG
    return Trail(ends, max(round(width), 1), "drop-out" if level else "trail")


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
