"""Colour at full size: what half as many samples hold, interpolated as sharply as they allow, and the detail that
they cannot hold, as luma foretells it.

Frames come with colour interpolated linearly between its samples. The samples are had back from that, and
interpolated by cubics. Luma brought to such samples and back lacks what colour lacks, and of luma it is known.
Around each pixel colour is fitted by a line to that softened luma (He, Sun, Tang 2013, guided filter); as far as
both go together there, what luma lacks is added to colour with the slope of the line. Luma stays as it is.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ..colour.opponent import KB, KG, KR
from ..frames import Array, luma
from ..media.planes import SITINGS, averaged
from ..parameters import Parameters, amount, choice
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal

AROUND = 1.5
"""Deviation in pixels of the surroundings in which colour is fitted to luma."""

SURELY = 4
"""Power of the squared correlation by which the fit is trusted: with less, colours that change beside luma's
texture are led astray (on sixteen pictures the mean gain is no larger, one loses half a decibel more)."""

NOTHING = 2e-6
"""Variance that is none: of about 1.5 CV."""

REACH = 2 * int(np.ceil(4 * AROUND)) + 20
"""Pixels that decide one: twice the surroundings, and the way to the samples and back."""

BETWEEN = 0.5
"""Phase of samples that lie between two rows."""

SHARPENED = np.array([np.sqrt(2) * (2 * np.sqrt(2) - 3) ** abs(k) for k in range(-6, 7)], np.float32)
"""What undoes [1 6 1]/8, which two pixels' mean is of the samples between which they were interpolated."""


class FullColour(Parameters):
    """Colour that was recorded at half the size of luma."""

    halved: str = choice(
        "both", "Halved", "Which way colour was recorded with half as many samples as luma.",
        names={"both": "across and down (4:2:0)", "across": "across (4:2:2)"},
    )  # fmt: skip
    siting: str = choice(
        "left", "Samples", "Where the first sample of colour lies among the first four pixels of luma.",
        names={
            "left": "left, between two lines", "center": "in the middle", "topleft": "on the first pixel",
            "top": "above, in the middle", "bottomleft": "below, left", "bottom": "below, in the middle",
        },
    )  # fmt: skip
    strength: float = amount(100, "Amount", "How much of what luma foretells is added.", most=100)


def need(p: FullColour) -> Need:
    return Need(margin=REACH, grid=2)


def apply(p: FullColour, window: Window, around: Around) -> Picture:
    """Add what luma foretells to the colours of the wanted part."""
    rgb, plane = window.here.rgb, luma(window.here.rgb)
    soft = _through(plane, p, averaged)
    sigma = around.profile.curve.sigma_at(plane, "luma")
    none = NOTHING + 2 * sigma**2 * window.here.noise[0]
    fit = _fit_to(soft, np.asarray(none, np.float32))
    share = np.float32(p.strength / 100)

    def changed(colour: Array) -> Array:
        sharp = _through(colour, p, _had_back)
        return np.asarray(share * (sharp + fit(sharp) * (plane - soft) - colour), np.float32)

    red, blue = (changed(rgb[..., k] - plane) for k in (0, 2))
    change = np.stack([red, -(np.float32(KR) * red + np.float32(KB) * blue) / np.float32(KG), blue], axis=-1)
    inside = window.inside.slices
    return Picture((rgb[inside] + change[inside]).astype(np.float32), window.here.part(window.inside).noise)


def _fit_to(soft: Array, none: Array) -> Callable[[Array], Array]:
    """What tells the slope of a colour over softened luma around each pixel, as far as it is to be trusted; `none`
    is the variance that is noise."""

    def spread(plane: Array) -> Array:
        return np.asarray(cv2.GaussianBlur(plane, (0, 0), AROUND), np.float32)

    mean = spread(soft)
    swing = np.maximum(spread(soft * soft) - mean * mean, 0) + none

    def slope(colour: Array) -> Array:
        level = spread(colour)
        play = np.maximum(spread(colour * colour) - level * level, 0) + none / 4
        both = spread(soft * colour) - mean * level
        trust = np.minimum(both * both / (swing * play), 1) ** SURELY
        return spread(trust * both / swing)

    return slope


def _through(plane: Array, p: FullColour, to_samples: Callable[[Array, float], Array]) -> Array:
    """A plane of even sides brought to samples of colour, and back to its size by cubics."""
    across, down = SITINGS[p.siting]
    made = _interpolated(to_samples(plane.T, across), across).T
    if p.halved == "both":
        made = _interpolated(to_samples(made, down), down)
    return np.ascontiguousarray(made)


def _had_back(rows: Array, phase: float) -> Array:
    """The samples between which rows were interpolated linearly; `phase` is told at `averaged`."""
    if phase == BETWEEN:
        return _filtered(averaged(rows, phase), SHARPENED)
    return rows[int(phase) :: 2]


def _interpolated(samples: Array, phase: float) -> Array:
    """Twice as many rows, by cubics after Catmull and Rom."""
    made = np.empty((2 * len(samples), samples.shape[1]), np.float32)
    for row, place in enumerate((-phase / 2, (1 - phase) / 2)):  # in samples, from the one of the same number
        made[row::2] = _cubic(samples, place)
    return made


def _cubic(rows: Array, place: float) -> Array:
    """What lies so many rows behind each (before it, where below 0; less than one)."""
    t = abs(place)
    weights = [0, -t + 2 * t**2 - t**3, 2 - 5 * t**2 + 3 * t**3, t + 4 * t**2 - 3 * t**3, t**3 - t**2]
    return _filtered(rows, np.array(weights if place >= 0 else weights[::-1], np.float32) / 2)


def _filtered(rows: Array, weights: Array) -> Array:
    """Each row with its neighbours by odd many weights, ends repeated."""
    found: Array = cv2.filter2D(rows, -1, weights[:, None], borderType=cv2.BORDER_REPLICATE)
    return found


def propose(case: Case) -> Proposal | None:
    """Only by hand: what a recording lacks by its format is no fault of the shot."""
    if not case.by_hand or case.media.chroma not in {"4:2:0", "4:2:2"}:
        return None
    halved = "both" if case.media.chroma == "4:2:0" else "across"
    return Proposal(
        {"halved": halved, "siting": case.media.siting},
        f"The file keeps colour as {case.media.chroma}: what lies between its samples is added where luma foretells"
        " it.",
    )  # fmt: skip


TREATMENT = Treatment(
    kind="full-colour", title="Colour at full size", treats=(), order=68, parameters=FullColour, need=need,
    apply=apply, propose=propose, restores=True,
    early="it would be led by noise and faults that later steps take",
)  # fmt: skip
