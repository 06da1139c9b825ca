"""Specks taken out: dust, dirt, trails and drop-outs of one frame, and hot pixels that shine in all.

What they are is found as the survey finds them (`measure.outliers`, `measure.findings.hotpixels`); each hole is
filled from the frames beside it (`_patching`). All else is left as it is, to the last bit."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array, Frame, Region, luma
from ..measure.findings.hotpixels import Bright, Lasting, bright_in, lasting_in, moves
from ..measure.outliers import Found, Speck, beside, lasting, specks_in
from ..measure.scratches import BREADTH, WOBBLE
from ..noise.field import grain_field
from ..parameters import Parameters, Places, places, quantity, switch
from ._patching import Filling, Neighbour, fillings
from ._predicting import predicted, ringed
from .base import MARKED, Around, Mark, Need, OwnView, Picture, Treatment, Window
from .case import Case, Proposal

Mask = npt.NDArray[np.bool_]

BESIDE = 3
"""Frames to each side in which sparkle is looked for."""

RINGS = 1, 3
"""How many frames apart those are that holes are filled from, the farther where the nearer do not do."""

LOOKS, ENOUGH_LOOKS = 8, 4
"""Frames all over the shot in which hot pixels are looked for, and how many there have to be."""

FEWEST = 3
"""Frames of a shot in which a speck can be told."""

KINDS: dict[str, str] = {"dust": "dust", "trail": "trails", "drop-out": "lines", "scratch": "scratches"}
"""Kinds of specks that are told frame by frame, and the settings that take them."""

HOT, HOT_SIDE, DRAWN_SIDE = "hot pixel", 3, 13
"""What hot pixels are called; pixels a side of what is filled at one, and where something was drawn by hand."""

GRAIN_SEED = 17
DIMMED = np.float32(0.5)


class Specks(Parameters):
    """What is seen in single frames, or in one pixel in all, and belongs to no scene."""

    dust: bool = switch(True, "Dust and dirt", "Small spots that one frame alone has.")
    trails: bool = switch(True, "Trails", "Long thin traces in one frame, as satellites and aircraft leave them.")
    lines: bool = switch(True, "Drop-outs", "Level lines that one frame alone has.")
    scratches: bool = switch(
        True, "Scratches", "Upright lines that stand still while the picture moves behind them."
    )
    hot: bool = switch(True, "Hot pixels", "Pixels that shine at one place in every frame.")
    sure: float = quantity(
        30, "Least sureness", "What is less sure to be a speck is left.", unit="%", least=0, most=95, step=5
    )
    left: Places = places("Left", "What was found and is to stay.")
    drawn: Places = places("Drawn", "What was missed and is to go.")


def need(p: Specks) -> Need:
    return Need(back=BESIDE + max(RINGS) + 1, ahead=BESIDE + max(RINGS) + 1)


@dataclass(frozen=True, slots=True)
class Patched:
    """The tiles of a frame that were filled, with their grain: where each lies, which of it is filled (H×W×1 or by
    colour, H×W×3), and with what."""

    tiles: tuple[tuple[Region, Mask, Frame], ...]

    @property
    def nbytes(self) -> int:
        return sum(mask.nbytes + rgb.nbytes for _, mask, rgb in self.tiles) + 1024


def apply(p: Specks, window: Window, around: Around) -> Picture:
    """Put the filled tiles that lie here into the picture."""
    here = window.here.part(window.inside)
    rgb: Frame | None = None
    for region, mask, filled in _patched(p, window.n, around).tiles:
        part = _shared(region, window.wanted)
        if part is None:
            continue
        rgb = here.rgb.copy() if rgb is None else rgb
        there = part.within(window.wanted).slices
        own = part.within(region).slices
        rgb[there] = np.where(mask[own], filled[own], rgb[there])
    return here if rgb is None else Picture(rgb, here.noise)


def _shared(region: Region, wanted: Region) -> Region | None:
    x, y = max(region.x, wanted.x), max(region.y, wanted.y)
    right, bottom = min(region.right, wanted.right), min(region.bottom, wanted.bottom)
    return Region(x, y, right - x, bottom - y) if right > x and bottom > y else None


def _patched(p: Specks, n: int, around: Around) -> Patched:
    def found() -> Patched:
        frame, taken = around.whole(n), [mark for mark in marks(p, n, around) if mark.taken]
        tiles = _hot_tiles(n, [m for m in taken if m.kind == HOT], around)
        holes = _holes_of([m for m in taken if m.kind != HOT], n, around)
        if holes.any():
            sigma = float(np.median(around.profile.curve.sigma_at(luma(frame), "luma")))
            rings = [functools.cache(functools.partial(_ring, p, n, apart, around)) for apart in RINGS]
            filled = fillings(frame, holes, rings, max(sigma, 1 / CV_SCALE))
            tiles += [_grained(filling, n, around) for filling in filled]
        return Patched(tuple(tiles))

    return around.kept(("patched", n, repr(p)), found, lambda patched: patched.nbytes)


def _hot_tiles(n: int, hot: list[Mark], around: Around) -> list[tuple[Region, Mask, Frame]]:
    """Hot pixels filled with what around them, and motion, predict; in the frames beside they shine too."""
    if not hot:
        return []
    wanted = {(mark.y + HOT_SIDE // 2, mark.x + HOT_SIDE // 2) for mark in hot}
    _, places, shine = _hot(around)
    taken = np.array([tuple(place) in wanted for place in places.tolist()])
    places, shine = places[taken], shine[taken]
    beside = [k for k in (n - 1, n + 1) if 0 <= k < around.frames]
    neighbours = [(ringed(around.whole(k), places, shine), around.motion(n, k)) for k in beside]
    filled = predicted(ringed(around.whole(n), places, shine), places, shine, neighbours)
    tiles = []
    for (y, x), pixels, shining in zip(places.tolist(), filled, shine, strict=True):
        whole = Region(x - 1, y - 1, HOT_SIDE, HOT_SIDE)
        region = whole.clipped(around.format.width, around.format.height)
        part = region.within(whole).slices
        tiles.append((region, shining[part], pixels[part]))
    return tiles


def _grained(filling: Filling, n: int, around: Around) -> tuple[Region, Mask, Frame]:
    """A filled tile with the grain that it lacks."""
    missing = np.float32(np.sqrt(max(1 - filling.noise, 0.0)))
    rgb = np.ascontiguousarray(filling.rgb)
    before = around.stabiliser.opponent(rgb)
    grain = missing * grain_field(around.profile, GRAIN_SEED, n, filling.region)
    nothing = np.zeros((2, *rgb.shape[:2]), np.float32)
    return filling.region, filling.mask[..., None], around.stabiliser.applied(rgb, before, before + grain, nothing)


def _ring(p: Specks, n: int, apart: int, around: Around) -> list[Neighbour]:
    return [_neighbour(p, n, k, around) for k in beside(n, around.frames, apart)]


def _neighbour(p: Specks, n: int, k: int, around: Around) -> Neighbour:
    track = around.motion(n, k)
    across, down = track.reduction

    def leads(region: Region) -> tuple[float, float]:
        top, left = int(region.y / down), int(region.x / across)
        rows = slice(top, max(int(region.bottom / down), top + 1))
        columns = slice(left, max(int(region.right / across), left + 1))
        piece = track.field[rows, columns].reshape(-1, track.field.shape[2])
        return (float(np.median(piece[:, 0])), float(np.median(piece[:, 1]))) if len(piece) else (0.0, 0.0)

    return Neighbour(around.whole(k), _holes(p, k, around) | _missed(p, n, k, around), leads)


def _missed(p: Specks, n: int, k: int, around: Around) -> Mask:
    """Where scratches of frame n may lie in frame k, where they were not found: they last, and sway."""
    here, there = ([m for m in marks(p, frame, around) if m.taken and m.kind == "scratch"] for frame in (n, k))
    alone = [m for m in here if all(abs(m.place[1] - other.place[1]) > BREADTH for other in there)]
    wide = np.ones((1, 2 * WOBBLE + 1), np.uint8)
    return cv2.dilate(_holes_of(alone, n, around).astype(np.uint8), wide) > 0


def _holes(p: Specks, n: int, around: Around) -> Mask:
    """Where frame n is to be filled, H×W."""
    return _holes_of([mark for mark in marks(p, n, around) if mark.taken], n, around)


def _holes_of(taken: list[Mark], n: int, around: Around) -> Mask:
    holes = np.zeros((around.format.height, around.format.width), bool)
    masks = {(s.x, s.y): s.mask for s in _lasting(n, around)}
    for mark in taken:
        place = Region(mark.x, mark.y, mark.width, mark.height)
        inside = place.clipped(around.format.width, around.format.height)
        mask = masks.get((mark.x, mark.y)) if mark.kind in KINDS else None
        holes[inside.slices] |= True if mask is None else mask
    return holes


def marks(p: Specks, n: int, around: Around) -> list[Mark]:
    """All that is found in frame n, whether taken or not, and what was drawn there."""
    wanted = {kind: getattr(p, name) for kind, name in KINDS.items()}
    found = [
        Mark(
            frame=n, x=s.x, y=s.y, width=s.mask.shape[1], height=s.mask.shape[0], kind=s.kind, sure=s.sure,
            taken=wanted[s.kind] and 100 * s.sure >= p.sure,
        )
        for s in _lasting(n, around)
    ]  # fmt: skip
    hot = [(-1, x, y, HOT_SIDE, HOT, p.hot) for y, x in _hot(around).places.tolist()]
    drawn = [(frame, x, y, DRAWN_SIDE, "drawn", True) for frame, x, y in p.drawn if frame == n]
    found += [
        Mark(
            frame=frame, x=x - side // 2, y=y - side // 2, width=side, height=side, kind=kind, sure=1.0, taken=taken
        )
        for frame, x, y, side, kind, taken in hot + drawn
    ]
    return [mark.model_copy(update={"taken": False}) if mark.place in p.left else mark for mark in found]


def _lasting(n: int, around: Around) -> list[Speck]:
    """The specks of frame n but sparkle."""
    if around.frames < FEWEST:
        return []
    near = range(max(n - BESIDE, 0), min(n + BESIDE + 1, around.frames))
    return around.kept(
        ("lasting specks", n),
        lambda: lasting(n, {k: _found(k, around) for k in near}),
        lambda specks: 1024 + sum(256 + speck.mask.nbytes for speck in specks),
    )


def _found(n: int, around: Around) -> Found:
    def found() -> Found:
        others = beside(n, around.frames)
        here, before, after = (around.whole(k) for k in (n, *others))
        sigma = around.profile.curve.sigma_at(luma(here), "luma")
        error = around.coding_error(n)
        return specks_in(
            here, luma(before), luma(after), sigma,
            coding_error=0.0 if error is None else float(error.mean()), apart=others[1] - n,
        )  # fmt: skip

    return around.kept(("specks", n), found, lambda found: found.nbytes)


def _hot(around: Around) -> Lasting:
    """The shot's hot pixels."""

    def found() -> Lasting:
        numbers = sorted({round(n) for n in np.linspace(0, around.frames - 1, min(LOOKS, around.frames))})
        if len(numbers) < ENOUGH_LOOKS:
            return Lasting(False, np.empty((0, 2), np.int64), np.empty((0, 3, 3, 3), bool))
        looks: list[Bright] = []
        before: Array | None = None
        for n in numbers:
            frame = around.whole(n)
            plane = luma(frame)
            sigma = around.profile.curve.sigma_at(plane, "luma")
            looks.append(bright_in(frame, sigma, moves(plane, before, sigma)))
            before = plane
        return lasting_in(looks)

    return around.kept(("hot pixels",), found)


def marks_shown(p: Specks, window: Window, around: Around) -> Frame:
    """The picture dimmed, with a frame around each speck that is taken."""
    shown = np.clip(window.here.part(window.inside).rgb, 0, 1) * DIMMED
    outlined = np.zeros((around.format.height, around.format.width), np.uint8)
    grown = cv2.dilate(_holes(p, window.n, around).astype(np.uint8), np.ones((9, 9), np.uint8))
    contours, _ = cv2.findContours(grown, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
    cv2.drawContours(outlined, contours, -1, 1, 1)
    shown[outlined[window.wanted.slices] > 0] = MARKED
    return np.ascontiguousarray(shown, np.float32)


def propose(case: Case) -> Proposal | None:
    """Take what lies outside its tolerance."""
    outside = [f for kind in ("specks", "hot pixels") if (f := case.findings.get(kind)) and f.outside]
    if not outside:
        return None
    kinds = {finding.kind for finding in outside}
    told = "; ".join(f"{f.value:.3g} {f.kind if f.kind != 'specks' else 'specks a frame'}" for f in outside)
    settings = {"hot": "hot pixels" in kinds, **dict.fromkeys(KINDS.values(), "specks" in kinds)}
    return Proposal(
        settings, f"{told}: specks are filled from the frames beside, hot pixels from around; all else stays."
    )


TREATMENT = Treatment(
    kind="specks", title="Specks", treats=("specks", "hot pixels"), order=8, parameters=Specks, need=need,
    apply=apply, propose=propose, marks=marks, mends=True,
    views=(
        OwnView(
            "marks", "Marks", "What is taken for a speck here, outlined over the dimmed picture.", marks_shown
        ),
    ),
    early="frames that jump in level or hold two fields do not match, and what differs is taken for specks",
)  # fmt: skip
