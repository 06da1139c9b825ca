"""Grain over the finished picture: matched to the shot's own, or by size and strength.

How grain of a spectrum is made is told in `noise.field`. Matched grain is laid in the stabilised domain, where it
takes the shot's own curve of sigma against level.
"""

from __future__ import annotations

import numpy as np

from ..frames import CV_SCALE, Array, Frame, Region, luma
from ..noise.field import field, gaussian_filter, grain_field
from ..parameters import Parameters, amount, quantity
from .base import Around, Need, Picture, Treatment, Window

BY_TONE = "Grain by tone"


class Grain(Parameters):
    """Grain laid over the picture."""

    matched: float = amount(
        50, "Matched to the shot", "Grain like the shot's own, as a share of the measured sigma."
    )
    strength: float = quantity(
        0, "Own grain", "Deviation of grain by size and colour, on top of the matched.",
        unit="CV", least=0, most=60, step=0.5,
    )  # fmt: skip
    size: float = quantity(
        1.5, "Size of own grain", "1 is finest: every pixel by itself.", unit="px", least=1, most=12, step=0.25
    )  # fmt: skip
    colour: float = amount(0, "Colour of own grain", "0 % is monochrome, 100 % differs in every channel.", most=100)
    shadows: float = amount(100, "shadows", "Share of the grain at black.", curve=BY_TONE)
    middle: float = amount(100, "middle tones", "Share of the grain half way up.", curve=BY_TONE)
    highlights: float = amount(100, "highlights", "Share of the grain at white.", curve=BY_TONE)
    seed: int = quantity(
        1, "Seed", "Another number lays other grain of the same kind.", unit="no.", least=0, most=9999, step=1
    )  # fmt: skip


def need(p: Grain) -> Need:
    return Need()


def apply(p: Grain, window: Window, around: Around) -> Picture:
    """Add grain; the noise of the picture grows by it."""
    here, place = window.here.part(window.inside), window.wanted
    tone = np.interp(luma(here.rgb), (0, 0.5, 1), (p.shadows / 100, p.middle / 100, p.highlights / 100))
    tone = tone.astype(np.float32)
    rgb: Array = here.rgb
    noise: Array = here.noise
    if p.matched:
        share = np.float32(p.matched / 100) * tone
        field = grain_field(around.profile, p.seed, window.n, place)
        before = around.stabiliser.opponent(rgb)
        added = np.broadcast_to(share * share, noise.shape).astype(np.float32)
        rgb, noise = around.stabiliser.applied(rgb, before, before + share * field, -added), noise + added
    if p.strength:
        rgb = rgb + np.float32(p.strength / CV_SCALE) * tone[..., None] * _own(p, window.n, place)
        of_luma = p.strength / max(around.profile.typical_cv("luma"), 0.1)
        of_chroma = p.colour / 100 * p.strength / max(around.profile.chroma_cv, 0.1)
        noise = noise + np.stack([of_luma * tone, of_chroma * tone]).astype(np.float32) ** 2
    return Picture(rgb, noise)


def _own(p: Grain, n: int, place: Region) -> Frame:
    """H×W×3 of deviation 1 in every channel: one field for all of them, and one for each, by `colour`."""
    gaussian = gaussian_filter(p.size)
    apart = np.float32(p.colour / 100)
    grain = np.zeros((place.height, place.width, 3), np.float32)
    if apart < 1:
        grain += np.sqrt(1 - apart * apart) * field(((gaussian, 3),), p.seed, n, place)[..., None]
    if apart > 0:
        grain += apart * np.stack([field(((gaussian, 4 + c),), p.seed, n, place) for c in range(3)], axis=-1)
    return grain


TREATMENT = Treatment(
    kind="grain", title="Grain", treats=(), order=90, parameters=Grain, need=need, apply=apply,
    early="what comes behind takes it out again, or changes its size",
)  # fmt: skip
