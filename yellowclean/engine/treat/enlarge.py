"""Enlarging by what several frames hold: each shows a moving picture through another grid of pixels.

Iterative back-projection (Irani and Peleg 1991): what the enlarged picture would look like through the camera's
pixels, in this frame and, along the motion, in its neighbours, is held against what they show, and the differences
are laid back. A pixel is a box of light. A neighbour counts as far as it is found again there and back, and as its
picture agrees. What is begun with is the mean of them, each made larger by itself, by a network or by bicubic
interpolation: one frame alone where no other tells (a cut, a motion that is missed).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from fractions import Fraction

import cv2
import numpy as np

from ..format import Format
from ..frames import CV_SCALE, Array, Region, luma
from ..motion import Track
from ..parameters import quantity, switch
from ._boxes import through_finer, through_larger
from ._doubling import REACH as DOUBLED_BY
from ._doubling import doubled
from ._sizes import MOST_ENLARGED, Sized, larger, settings_for, sized
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal
from .fetching import fetched
from .merging import merge_settings
from .resize import MARGIN, OF_NOISE, resized

ROUNDS, STEP, MOMENTUM = 3, 1.2, 0.4
"""How often differences are laid back, how much of them, and how much of the round before is gone on with (Nesterov
1983): more of either, and they would grow."""

PARTS = 1, 2, 3, 4
"""Numbers of finer pixels whose multiples may be a whole number of the frame's own."""

WHOLLY = 0.999
"""Share of a pixel's light from which on all of it was found."""

REACH = 24
"""Pixels of the given frame around what is wanted that decide it, besides the motion and what is begun with: four
in every round, and those over which a neighbour is judged."""

AGREES, DIFFERS = 0.15, 0.2
"""Shares of the local detail by which a neighbour may differ freely, since it sees other pixels, and over which
trust falls to 1/e."""

DETAIL_PX, JUDGED_PX = 1.5, 3.0
"""What counts as detail, and over how much of the enlarged picture a neighbour is judged: deviations in pixels."""

LEAST_SIGMA = 0.001
"""Noise is taken for no less, in frame units: that of rounding to eight or nine bits."""

SMOOTH_FROM, SMOOTH = 0.002, 0.35
"""Luma noise (in frame units) from which on differences are laid back smoothly, and the deviation, in pixels of the
given frame: the box's own transpose brings noise up."""


class Enlarge(Sized):
    """More pixels, from what the neighbours hold: by a factor, or, where width or height is not 0, to a size."""

    factor: float = quantity(
        2, "Factor", "Of the width and height, where neither is given below.",
        unit="×", least=1, most=MOST_ENLARGED, step=0.05,
    )  # fmt: skip
    frames: int = quantity(
        2, "Frames each side", "Neighbours whose detail is used; one frame alone holds no more than itself.",
        unit="frames", least=0, most=4, step=1,
    )  # fmt: skip
    search: int = quantity(
        48, "Search range", "Longest motion along which neighbours are followed.",
        unit="px", least=0, most=256, step=8,
    )  # fmt: skip
    learned: bool = switch(
        True, "Learned edges",
        "Begins with what a network, which learned from drawn pictures alone, makes of one frame's edges; else with"
        " bicubic interpolation.",
    )  # fmt: skip


def need(p: Enlarge) -> Need:
    margin = REACH + (DOUBLED_BY + DOUBLED_BY // 2 if p.learned else 0) + (p.search if p.frames else 0)
    return Need(back=p.frames, ahead=p.frames, margin=margin, grid=math.lcm(*PARTS), beyond=MARGIN)


def times_of(given: Format, handed: Format) -> Fraction:
    """By what a frame is enlarged on the way: the least fraction of small numbers that is enough, and makes whole
    pixels of the frame."""
    wanted = max(handed.per_pixel_of(given))
    whole = [q for q in PARTS if given.width % q == 0 and given.height % q == 0]
    enough = [Fraction(max(math.ceil(wanted * q - 1e-9), q), q) for q in whole]
    return min(*enough, Fraction(int(MOST_ENLARGED)))


def apply(p: Enlarge, window: Window, around: Around) -> Picture:
    """Enlarge by a fraction, then bring to the asked size."""
    times = times_of(window.given, window.handed)
    noise = np.moveaxis(resized(np.moveaxis(window.here.noise, 0, 2), window, OF_NOISE), 2, 0)
    large = _restored(p, times, window, around) if times > 1 else window.here.rgb
    at = window.place
    place = Region(*(int(times * side) for side in (at.x, at.y, at.width, at.height)))
    width, height = int(times * window.given.width), int(times * window.given.height)
    given = replace(window.given, width=width, height=height)
    if (given.width, given.height) == (window.handed.width, window.handed.height):
        rgb = large[window.wanted.within(place).slices]
    else:
        rgb = resized(large, replace(window, given=given, place=place), "lanczos3")
    return Picture(np.ascontiguousarray(rgb, np.float32), np.ascontiguousarray(noise))


@dataclass(frozen=True, slots=True)
class _Seen:
    """A frame (3×H×W), the way there and back (none for the frame itself), how far it is trusted (enlarged), and
    which of its pixels show what is found here as a whole (H×W)."""

    planes: Array
    there: Track | None
    back: Track | None
    trust: Array
    whole: Array


def _restored(p: Enlarge, times: Fraction, window: Window, around: Around) -> Array:
    """The window's frame, `times` as large, over all of its place."""
    here, many = _planes(window.here.rgb), float(times)
    plain = _planes(_wide(window.here.rgb, times))
    large = _begun(p, plain, window.n, window.here, window, around, times)
    place = np.array([many * window.place.x, many * window.place.y, 0, 0, many * p.search], np.float32)
    sigma = float(max(around.profile.typical_cv("luma") / CV_SCALE, LEAST_SIGMA))
    seen = [_Seen(here, None, None, np.ones(large.shape[1:], np.float32), np.ones(here.shape[1:], np.float32))]
    for n in window.neighbours:
        there = around.motion(n, window.n).scaled(many, many)
        back = around.motion(window.n, n).scaled(many, many)
        other = window.pull(n)
        wide = _planes(_wide(other.rgb, times))
        trust = _trust(plain, wide, many, back, place, sigma)
        begun = _begun(p, wide, n, other, window, around, times)
        for plane, sum_of in zip(_moved(begun, back, place), large, strict=True):
            cv2.accumulateProduct(plane, trust, sum_of)
        found = fetched(large[:0], there, place, (0, *trust.shape))[1] > 0  # no plane: where, not what
        whole = through_larger(found.astype(np.float32)[None], times)[0] > WHOLLY
        seen.append(_Seen(_planes(other.rgb), there, back, trust, whole.astype(np.float32)))
    total = np.sum([frame.trust for frame in seen], axis=0)
    large /= total
    share = np.float32(STEP) / total
    spread = SMOOTH * many if sigma > SMOOTH_FROM else 0.0
    before = large.copy()
    for _ in range(ROUNDS):
        np.subtract(large, before, out=before)
        before *= np.float32(MOMENTUM)
        before += large
        large, before = before, large
        laid = np.zeros_like(large)
        for frame in seen:
            apart = through_larger(_moved(large, frame.there, place), times)
            np.subtract(frame.planes, apart, out=apart)
            apart *= frame.whole
            apart = through_finer(apart, times)
            if spread:
                for plane in apart:
                    cv2.GaussianBlur(plane, (0, 0), spread, dst=plane)
            for plane, sum_of in zip(_moved(apart, frame.back, place), laid, strict=True):
                cv2.accumulateProduct(plane, frame.trust, sum_of)
        laid *= share
        large += laid
    return np.moveaxis(large, 0, 2)


def _planes(rgb: Array) -> Array:
    return np.ascontiguousarray(np.moveaxis(rgb, 2, 0), np.float32)


def _wide(rgb: Array, times: Fraction) -> Array:
    size = int(rgb.shape[1] * times), int(rgb.shape[0] * times)
    return np.asarray(cv2.resize(rgb, size, interpolation=cv2.INTER_CUBIC), np.float32)


def _begun(
    p: Enlarge, plain: Array, n: int, picture: Picture, window: Window, around: Around, times: Fraction
) -> Array:
    """Frame n made larger by itself: `plain`, planes made by interpolation, with luma as a network makes it."""

    def added() -> Array:
        grey, many = luma(picture.rgb), 1
        sigma = around.profile.curve.sigma_at(grey, "luma") * np.sqrt(picture.noise[0])
        while many < times:
            grey = doubled(grey, np.maximum(sigma, np.float32(LEAST_SIGMA)))
            sigma, many = np.zeros_like(grey), 2 * many
        return through_larger(grey[None], many / times)[0] - luma(np.moveaxis(plain, 0, 2))

    if not p.learned:
        return plain.copy()
    if not window.neighbours:
        return plain + added()
    # the next frames will ask for it again
    return plain + around.kept(("learned", n, window.place, times), added, lambda plane: plane.nbytes)


def _moved(planes: Array, track: Track | None, place: Array) -> Array:
    """Planes as they lie along a motion."""
    return planes if track is None else fetched(planes, track, place, planes.shape)[0]


def _trust(large: Array, other: Array, many: float, back: Track, place: Array, sigma: float) -> Array:
    """How far a neighbour (enlarged) can be trusted at each place of the enlarged frame, 0-1; both as planes."""
    moved, gain, doubt = fetched(other, back, place, other.shape)
    plane = luma(np.moveaxis(large, 0, 2))
    spread = JUDGED_PX * many / 2
    apart = cv2.GaussianBlur((luma(np.moveaxis(moved, 0, 2)) - plane) ** 2, (0, 0), spread)
    fine = plane - cv2.GaussianBlur(plane, (0, 0), DETAIL_PX * many / 2)
    detail = cv2.GaussianBlur(fine * fine, (0, 0), spread)
    strange = np.maximum(apart - 2 * sigma**2 - AGREES * detail, 0) / (8 * sigma**2 + DIFFERS * detail)
    trust: Array = np.exp(-strange - (2 * doubt) ** 2) * (gain > 0)
    return trust.astype(np.float32)


def propose(case: Case) -> Proposal | None:
    """The larger size that was asked for, if any."""
    if case.scale is None or not larger(case.scale, case.format):
        return None
    settings = settings_for(case.scale)
    used = merge_settings(case.movement, luma=True, chroma=True)
    frames = 0 if case.frames == 1 else 2
    size = sized(Enlarge.model_validate(settings), case.format)
    told = (
        f"{size.width}×{size.height} pixels, as asked, from {2 * frames + 1} frames"
        if frames
        else (f"{size.width}×{size.height} pixels, as asked")
    )
    return Proposal(settings | {"frames": frames, "search": used["search"]}, f"{told}.")


TREATMENT = Treatment(
    kind="enlarge", title="Enlarge", treats=(), order=78, parameters=Enlarge, need=need, apply=apply,
    hands_on=sized, propose=propose,
    early="enlarged noise and faults no longer have the size that was measured",
)  # fmt: skip
