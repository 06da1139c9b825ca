"""Sharpening: undoes the blur that was measured, with what the neighbours hold, up to where noise begins.

Neighbours along the motion are merged first (see temporal.py): a blur can be undone as far as the noise lets, and
they lower it. A filter made for the blur and for the picture's own spectrum is then applied in linear light, where
a lens blurs, and what it adds is kept only where it stands out of the noise that it brings up (see _deblur.py). It
is added to the frame's own values: noise and grain stay as they are. What moved while it was exposed is undone by
filters of its own, one for each way, where the motion is sure.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import cv2
import numpy as np

from ..colour.grey import grey_curve
from ..frames import CV_SCALE, Array, Frame, Region, luma
from ..measure.blur import blur_around, cut, edge_blur
from ..measure.findings.motion_blur import WHOLE_TURN
from ..measure.findings.softness import DISC, blur_of
from ..measure.following import stilled
from ..parameters import Parameters, amount, choice, quantity, switch
from . import temporal
from ._deblur import REACH, Blur, added, giving_back, rings, undoing, unsharp
from ._passed import passed
from ._unblurring import REACH as LEARNED_REACH
from ._unblurring import Undone, missing
from ._ways import Way, ways_of
from .base import Around, Need, OwnView, Picture, Treatment, Window, over_dimmed
from .case import Case, Proposal
from .merging import merge_settings
from .temporal import PATCH, Temporal

BY_SIZE = "Amount by size of detail"

LEAST_SIGMA = 0.3 / CV_SCALE
"""Noise is taken for no less: that of rounding to ten bits."""

MOST_RANGE = 4
"""Pixels to each side at most whose values limit the overshoot."""

FINE_FROM = 0.2
"""Share of the contrast around a pixel by which fine detail stands out of all that is wider, from which on nothing
there is a flat side."""

BESIDE_CUT = 2
"""Times the blur or the radius beside cut-off values within which nothing is undone: nobody knows how high they
were."""

LEAST_BLUR, LEAST_SURE, LEAST_SURE_OF_MOTION = 0.6, 0.1, 0.75
"""Blur in pixels from which on undoing it is proposed, since pictures that are sharp have up to that; and how sure
it has to be, as that of what moved: told wrongly it does harm."""

LEARNED_FROM = 1.0
"""Blur in pixels from which on learned edges are proposed: of smaller ones some photographs lose by them."""

GIVEN_BACK_PX = 1.0
"""Deviation of the detail that noise reduction takes."""

WIDE_PX = 3.0
"""Blur that is all yellow in the view."""

MOST_FRAMES = 3
"""Neighbours each side that are proposed: more bring little."""

ALONG = "motion"
"""What the shape of a blur is called that is of what moved while it was exposed."""


class Sharpen(Parameters):
    """Detail that a blur has taken."""

    method: str = choice(
        "measured", "Method",
        "Undo a blur of the measured size, raise contrast at edges by an unsharp mask, or raise each size of detail"
        " by what the steps before are measured to have taken of its contrast.",
        names={
            "measured": "undo the measured blur", "unsharp": "unsharp mask",
            "give-back": "give back lost detail",
        },
    )  # fmt: skip
    share: float = amount(
        100, "Undone", "How much of the blur is undone, or of what was taken given back, as far as noise allows.",
        most=100, only={"method": ["measured", "give-back"]},
    )  # fmt: skip
    strength: float = quantity(
        80, "Amount", "Of the unsharp mask.", unit="%", least=0, most=500, step=5, only={"method": ["unsharp"]}
    )
    blur: float = quantity(
        0.8, "Blur", "Its deviation: half the radius of one that is out of focus; rather too small than too large.",
        unit="px", least=0.3, most=4, step=0.05, only={"method": ["measured"], "shape": ["gaussian", "disc"]},
    )  # fmt: skip
    radius: float = quantity(
        1.0, "Radius", "Of the unsharp mask: the deviation of its blur.",
        unit="px", least=0.3, most=4, step=0.1, only={"method": ["unsharp"]},
    )  # fmt: skip
    shape: str = choice(
        "gaussian", "Shape of the blur",
        "That of a soft lens or filter, of one that is out of focus, or of what moved while it was exposed.",
        names={"gaussian": "soft", "disc": "out of focus", ALONG: "along its motion"},
        only={"method": ["measured"]},
    )  # fmt: skip
    shutter: float = quantity(
        180, "Shutter", "How long what moved was exposed: 360° is from frame to frame.",
        unit="°", least=18, most=WHOLE_TURN, step=6, only={"method": ["measured"], "shape": [ALONG]},
    )  # fmt: skip
    fine: float = amount(100, "1-2 px", "How much is added at details of a pixel or two.", curve=BY_SIZE)
    medium: float = amount(100, "2-4 px", "How much is added at details of two to four pixels.", curve=BY_SIZE)
    coarse: float = amount(100, "from 4 px", "How much is added at details from four pixels on.", curve=BY_SIZE)
    overshoot: float = quantity(
        50, "Most overshoot", "How far a value may go beyond its surroundings, as a share of their contrast.",
        unit="%", least=0, most=200, step=5,
    )  # fmt: skip
    halo: float = quantity(
        3, "Most halo", "How far a value may go beyond the flat side of an edge, as a share of their contrast.",
        unit="%", least=0, most=50, step=0.5, only={"method": ["measured", "give-back"]},
    )  # fmt: skip
    floor: float = quantity(
        2.7, "Noise floor", "How far a detail must stand out of the noise for anything to be added to it.",
        unit="σ", least=0, most=8, step=0.1,
    )  # fmt: skip
    frames: int = quantity(
        2, "Frames each side", "Neighbours whose detail is used: noise limits less, and edges stand still.",
        unit="frames", least=0, most=5, step=1,
    )  # fmt: skip
    search: int = quantity(
        48, "Search range", "Longest motion along which neighbours are followed.",
        unit="px", least=0, most=256, step=8,
    )  # fmt: skip
    colour: bool = switch(False, "Colour too", "Sharpens red, green and blue each by itself; else luma alone.")
    learned: bool = switch(
        False, "Learned edges",
        "Add what a network, taught on drawn pictures alone, finds to be missing still of edges and lines.",
        only={"method": ["measured"], "shape": ["gaussian", "disc"]},
    )  # fmt: skip
    threshold: float = quantity(
        0, "Threshold", "Of the unsharp mask: smaller differences are left alone.",
        unit="CV", least=0, most=100, step=0.5, only={"method": ["unsharp"]},
    )  # fmt: skip

    @property
    def by_size(self) -> tuple[float, ...]:
        return self.fine / 100, self.medium / 100, self.coarse / 100

    @property
    def whole(self) -> Sharpen:
        """The same, with all of the blur undone at all sizes of detail."""
        return self.model_copy(update={"share": 100, "fine": 100, "medium": 100, "coarse": 100})

    @property
    def with_learned(self) -> bool:
        return self.learned and self.method == "measured" and not self.along

    @property
    def extent(self) -> float:
        """Deviation in pixels of what is undone, or the radius of a disc."""
        blur = {"disc": 2 * self.blur, ALONG: MOST_RANGE}.get(self.shape, self.blur)
        return {"unsharp": self.radius, "give-back": GIVEN_BACK_PX}.get(self.method, blur)

    @property
    def merge(self) -> Temporal:
        return Temporal(frames=self.frames, search=self.search, luma=100, chroma=100)

    @property
    def beside_cut(self) -> int:
        """Pixels beside cut-off values within which nothing is undone; three times as many away, all is."""
        return math.ceil(BESIDE_CUT * self.extent)

    @property
    def along(self) -> bool:
        """Whether what is undone is motion."""
        return self.method == "measured" and self.shape == ALONG

    @property
    def around(self) -> int:
        """Pixels of the merged picture that decide a pixel."""
        beyond = LEARNED_REACH + 2 if self.with_learned else 0
        return max(REACH + MOST_RANGE + beyond, 3 * self.beside_cut)


def need(p: Sharpen) -> Need:
    merging = p.search + PATCH + 2 if p.frames else 0
    beside = max(p.frames, p.along)
    return Need(back=beside, ahead=beside, margin=p.around + merging + 2, grid=2)


def apply(p: Sharpen, window: Window, around: Around) -> Picture:
    """Sharpen the wanted part of a window."""
    core, merged = merged_around(p, window, around)
    inside = window.wanted.within(core)
    share = _beside_cut(p, merged.rgb, around.format.encoding.transfer)[inside.slices]
    ways = ways_of(p.shutter / WHOLE_TURN, window.n, around, core) if p.along else [Way(inside)]
    changes = [
        share * _change(p, name, np.ascontiguousarray(plane), merged.noise[0], around, inside, ways)
        for name, plane in _planes(p, merged.rgb).items()
    ]
    here = window.here.part(window.inside)
    return Picture((here.rgb + np.stack(changes, axis=-1)).astype(np.float32), here.noise)


def _planes(p: Sharpen, rgb: Frame) -> dict[str, Array]:
    """What is sharpened, by the names that noise curves have."""
    return dict(zip("rgb", np.moveaxis(rgb, 2, 0), strict=True)) if p.colour else {"luma": luma(rgb)}


def merged_around(p: Sharpen, window: Window, around: Around) -> tuple[Region, Picture]:
    """The place that decides what is wanted of a window, and the frame there with its neighbours merged into it."""
    core = window.wanted.grown(p.around).snapped(2)
    if not (p.frames and window.neighbours):
        return core, window.here.part(core.within(window.place))
    return core, temporal.apply(p.merge, replace(window, wanted=core), around)


def _sigma(name: str, plane: Array, around: Around) -> Array:
    """Deviation of the noise as the shot has it, at the level of each pixel."""
    sigma = around.profile.curve.sigma_at(plane, name)
    return np.maximum(sigma, np.float32(LEAST_SIGMA)).astype(np.float32)


def _change(
    p: Sharpen, name: str, plane: Array, left: Array, around: Around, inside: Region, ways: list[Way]
) -> Array:
    """What is added to the values of a plane, over the part of it that is wanted; `left` is told at `Picture`."""
    if p.method == "measured":
        change = undone(p, name, plane, left, around, inside, ways).change
        if p.with_learned:
            change = change + _found(p, name, plane, left, around, inside)
    else:
        change, _ = _added(p, name, plane, _left(name, plane, left, around), around, inside, ways)
        if p.method == "unsharp":
            limit = np.float32(p.threshold / CV_SCALE)
            change = np.sign(change) * np.maximum(np.abs(change) - limit, 0)
    return _limited(p, plane, change, inside)


def undone(
    p: Sharpen, name: str, plane: Array, left: Array, around: Around, part: Region, ways: list[Way] | None = None
) -> Undone:
    """A part of a plane, no nearer to its sides than `REACH` and the range of the limits, and what undoing the blur
    (everywhere alike, where no `ways` are told) changes there; what that withholds is told where learning is asked
    for. `left` is told at `Picture`."""
    curve, sigma = grey_curve(around.format.encoding.space), _left(name, plane, left, around)
    light, values = curve.light(plane), plane[part.slices]

    def limited(more: Array) -> Array:
        back = curve.value(light[part.slices] + more)
        return _limited(p, plane, np.where(more == 0, 0, back - values), part)  # to light and back rounds

    everywhere = [Way(part)] if ways is None else ways
    kept, brought_up = _added(p, name, light, sigma * curve.slope(plane), around, part, everywhere)
    change = limited(kept)
    withheld = limited(brought_up) - change if p.with_learned else np.zeros_like(change)
    return Undone(values, change, withheld, sigma[part.slices])


def _found(p: Sharpen, name: str, plane: Array, left: Array, around: Around, inside: Region) -> Array:
    """What learning finds to be missing where all of the blur was undone; as much of it as the least of the amounts
    asks for."""
    wide = inside.grown(LEARNED_REACH).snapped(2)
    found = missing(undone(p.whole, name, plane, left, around, wide))[inside.within(wide).slices]
    least: Array = found * np.float32(min(p.share / 100, *p.by_size, 1))
    return least


def _limited(p: Sharpen, plane: Array, change: Array, part: Region) -> Array:
    """A change of a part of a plane, no value brought farther beyond its surroundings than the limits let it."""
    values = plane[part.slices]
    low, high = (limit[part.slices] for limit in _limits(p, plane))
    limited: Array = np.clip(values + change, np.minimum(low, values), np.maximum(high, values))
    return limited - values


def _left(name: str, plane: Array, left: Array, around: Around) -> Array:
    """Deviation of the noise that merging left."""
    return _sigma(name, plane, around) * np.sqrt(left)


def _added(
    p: Sharpen, name: str, plane: Array, sigma: Array, around: Around, inside: Region, ways: list[Way]
) -> Array:
    """What the filters of all `ways` add to the part of a plane that is wanted, without the noise that they bring
    up, and with it: 2×H×W."""
    total, spectrum = np.zeros((2, inside.height, inside.width), np.float32), _spectrum(around)
    for way in ways:
        there = way.box.within(inside).clipped(inside.width, inside.height)
        if not there.shortest:
            continue
        part = replace(there, x=there.x + inside.x, y=there.y + inside.y)
        kernel = _filter(p, name, around, way.moved)
        piece = part.grown(p.around).snapped(2).clipped(plane.shape[1], plane.shape[0])
        change = added(plane[piece.slices], sigma[piece.slices], spectrum, kernel, p.floor, part.within(piece))
        total[:, *there.slices] += np.stack(change) * (1 if way.where is None else way.where[part.slices])
    return total


def _beside_cut(p: Sharpen, rgb: Frame, transfer: str) -> Array:
    """0 where values are cut off and around them, 1 farther away."""
    reach = p.beside_cut
    around = np.ones((4 * reach + 1, 4 * reach + 1), np.uint8)
    near = cv2.dilate(cut(rgb, transfer).astype(np.uint8), around).astype(np.float32)
    away: Array = 1 - cv2.blur(near, (2 * reach + 1, 2 * reach + 1))
    return away


def _limits(p: Sharpen, plane: Array) -> tuple[Array, Array]:
    """The lowest and the highest that each pixel may become: somewhat beyond its surroundings, as far as the blur
    or the mask reaches. What is extreme there over a whole square (an opening or a closing leaves it) is a flat
    side."""
    reach = int(min(np.ceil(p.extent) + 1, MOST_RANGE))
    square = np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)
    low, high = cv2.erode(plane, square), cv2.dilate(plane, square)
    flat_low = cv2.erode(cv2.morphologyEx(plane, cv2.MORPH_CLOSE, square), square)
    flat_high = cv2.dilate(cv2.morphologyEx(plane, cv2.MORPH_OPEN, square), square)
    contrast = np.maximum(high - low, np.float32(1e-6))
    return low - _room(p, flat_low - low, contrast), high + _room(p, high - flat_high, contrast)


def _room(p: Sharpen, thin: Array, contrast: Array) -> Array:
    """How far values may go beyond their surroundings, by what fine detail holds of these."""
    most = np.float32(p.overshoot / 100)
    least = most if p.method == "unsharp" else min(np.float32(p.halo / 100), most)
    share = np.clip(thin / (np.float32(FINE_FROM) * contrast), 0, 1)
    room: Array = (least + (most - least) * share) * contrast
    return room


def blur_shown(p: Sharpen, window: Window, around: Around) -> Frame:
    """The picture dimmed, and how blurred its edges are, in yellow."""
    core = window.wanted.grown(p.around).clipped(window.given.width, window.given.height)
    rgb = window.here.part(core.within(window.place)).rgb
    plane, curve = luma(rgb), grey_curve(around.format.encoding.space)
    still, sigma = stilled(plane, _sigma("luma", plane, around))
    edges = edge_blur(curve.light(still), sigma * curve.slope(still), cut(rgb, around.format.encoding.transfer))
    deviation, sure = blur_around(edges, plane.shape)
    inside = window.wanted.within(core).slices
    return over_dimmed(plane[inside], (sure * np.clip(deviation / WIDE_PX, 0, 1))[inside])


def _filter(p: Sharpen, name: str, around: Around, moved: tuple[float, float]) -> Array:
    """One filter for the whole shot and all that moved alike, so that no frame is sharpened otherwise than the
    next."""
    return around.kept(("sharpen", name, p, moved), lambda: _made(p, name, around, moved))


def _made(p: Sharpen, name: str, around: Around, moved: tuple[float, float]) -> Array:
    if p.method == "unsharp":
        return unsharp(p.radius, p.strength / 100, p.by_size)
    if p.method == "give-back":
        share = passed(around, lambda frame: np.ascontiguousarray(_planes(p, frame)[name]))
        return giving_back(share, p.share / 100, p.by_size)
    power, noise = around.kept(("sharpen", name, p.colour), lambda: _spread(p, name, around))
    blur = Blur(0.0, moved=moved) if p.along else Blur(p.blur, disc=p.shape == "disc")
    return undoing(power, noise / (1 + p.frames), blur, p.share / 100, p.by_size)


def _spread(p: Sharpen, name: str, around: Around) -> tuple[Array, float]:
    """The spectrum of the frame in the middle of the shot, and the variance of the noise in it."""
    plane = np.ascontiguousarray(_planes(p, around.whole(around.frames // 2))[name])
    curve = grey_curve(around.format.encoding.space)
    power = rings(curve.light(plane))
    told = float(((_sigma(name, plane, around) * curve.slope(plane)) ** 2).mean())
    finest = float(power[-len(power) // 4 :].min())  # earlier steps may have left less than the profile says
    return power, min(told, finest)


def _spectrum(around: Around) -> Array:
    """Luma noise over the coefficients of a DCT, 1 on the mean."""
    spectrum = around.profile.spectrum_array()[0, 0]
    return (spectrum / np.sqrt((spectrum**2).mean())).astype(np.float32)


def propose(case: Case) -> Proposal | None:
    """Undo the measured blur where it lies outside its tolerance, or where that is asked for; of what moved, only
    where it does, since some of it is how films look."""
    if case.outside("overshoot") and not case.by_hand:
        return None
    return _of_lens(case) or _of_motion(case)


def _of_lens(case: Case) -> Proposal | None:
    found = case.findings.get("softness")
    if found is None or not (case.sharpen or found.outside) or found.confidence < LEAST_SURE:
        return None
    blur = blur_of(found)
    if blur < LEAST_BLUR and not case.by_hand:
        return None
    shape, cause = "gaussian", f"blurred by {blur:.2f} px"
    if found.form == DISC:
        shape, cause = "disc", f"out of focus by a disc of {2 * blur:.1f} px radius"
    told = f"The sharpest detail is {found.value:.1f} px wide, {cause}: undone"
    settings = {"blur": round(min(max(blur, 0.3), 4.0), 2), "shape": shape}
    return _undone(case, told, settings | {"learned": shape == "disc" or blur >= LEARNED_FROM})


def _of_motion(case: Case) -> Proposal | None:
    found = case.findings.get("motion blur")
    if found is None or not found.outside or found.confidence < LEAST_SURE_OF_MOTION or case.outside("interlace"):
        return None
    told = f"What moves is smeared as by a shutter of {found.value:.0f}°: undone along its motion"
    return _undone(case, told, {"shape": ALONG, "shutter": round(found.value)})


def _undone(case: Case, told: str, settings: dict[str, Any]) -> Proposal:
    merged = bool(case.luma.percent and case.worth_merging)
    used = merge_settings(case.movement, luma=True, chroma=True)
    frames = 0 if merged or case.frames == 1 else int(min(used["frames"], MOST_FRAMES))
    neighbours = "the step before has merged neighbours" if merged else f"with {frames} neighbours each side"
    told = f"{told} as far as noise lets, in luma alone, {neighbours}."
    return Proposal(settings | {"frames": frames, "search": used["search"]}, told)


TREATMENT = Treatment(
    kind="sharpen", title="Sharpen", treats=("softness", "motion blur"), order=70, parameters=Sharpen, need=need,
    apply=apply, propose=propose, restores=True,
    views=(
        OwnView(
            "blur", "Blur",
            f"How blurred the edges of each place are, over the dimmed picture: all yellow from {WIDE_PX:g} px on."
            " What is sharp, and what has no edges, stays grey.", blur_shown,
        ),
    ),
    early="it brings up noise and faults that would then be measured larger, and harder to take",
    worsens={"overshoot": "The footage was sharpened already: this raises the halos beside its edges."},
)  # fmt: skip
