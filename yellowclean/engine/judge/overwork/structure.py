"""Detail that went with the noise: structure in what was removed, texture by octave, and plastic flatness.

All three go by the estimate of `judge.risk`, taken band by band: what the result is off the truth, less the noise
that is left of it, is structure that was lost or drawn in its place.
"""

from __future__ import annotations

import numpy as np

from ...frames import Array
from ..risk import Nudge
from .base import Evidence, Measure, Reading, bands, local

AROUND = 16.0
"""Blur in pixels over which a map's estimates are averaged: enough for the chance in them to even out."""

SEEN_FROM = 1.0
"""A band's texture has to have this much of the noise's power: fainter detail could not be seen in the source, and
to lose some of it is what less noise costs."""

LEAST_TAKEN = 0.05
"""Part of the noise that has to go for what is taken out to be told apart."""

TEXTURED, FLAT_BELOW = 1.0, 0.2
"""Texture of this much of the noise's power is seen as such, and is gone when this part of it is left."""

BAND_NAMES = "fine", "medium", "coarse"


def _lost(nudge: Nudge) -> list[tuple[Array, Array, Array]]:
    """By band, H×W each: power of lost structure, of the source's structure, and of the noise; single pixels hold
    chance, means over many do not."""
    axis = 0  # the achromatic one
    source, result, field, follows = (
        bands(plane[axis]) for plane in (nudge.source, nudge.result, nudge.field, nudge.follows)
    )
    powers = [np.float32((part**2).mean()) for part in field]
    if nudge.held:
        difference, sure = nudge.held.by_pixel()
        lost = [
            _beside_held_out(before - after, np.where(sure, other, before - after), _of_noise(moved, answer, power))
            for before, after, other, moved, answer, power in zip(
                source, result, bands(difference[axis]), field, follows, powers, strict=True
            )
        ]
    else:
        lost = [
            (after - before) ** 2 - power + 2 * moved * answer - answer**2
            for before, after, moved, answer, power in zip(source, result, field, follows, powers, strict=True)
        ]
    return [
        (part, before**2 - power, np.full_like(before, power))
        for part, before, power in zip(lost, source, powers, strict=True)
    ]


def _beside_held_out(taken: Array, difference: Array, share: Array) -> Array:
    """Power of the structure in what was taken out, H×W, by frames held out: E[taken·difference] is how far it goes
    along with the noise, and `share` of that is the power of the noise in it."""
    lost: Array = taken**2 - share * taken * difference
    return lost


def _of_noise(field: Array, follows: Array, power: np.float32) -> Array:
    """The power of the noise in what is taken out, as a share of how far it goes along with the noise, H×W. With c
    the part of the noise that stays and l the power of what is left, which holds noise of the neighbours too, those
    are 1 - 2c + l and 1 - c of the noise's own power."""
    stays, left = (np.clip(local(part, AROUND) / power, 0, 1) for part in (field * follows, follows**2))
    share: Array = np.maximum(1 - 2 * stays + left, 0) / np.maximum(1 - stays, LEAST_TAKEN)
    return share


def _structure(evidence: Evidence) -> Reading:
    parts = _lost(evidence.nudge)
    noise = sum(float(n.mean()) for _, _, n in parts)
    lost = np.sum([part for part, _, _ in parts], axis=0)
    near: Array = np.maximum(local(lost, AROUND), 0) * np.float32(100 / noise / STRUCTURE.limit / 3)
    return Reading(100 * max(float(lost.mean()), 0.0) / noise, near)


def _texture(evidence: Evidence) -> Reading:
    worst, told = 0.0, []
    where: Array = np.zeros(evidence.shape, np.float32)
    for name, (lost, there, noise) in zip(BAND_NAMES, _lost(evidence.nudge), strict=True):
        power = float(there.mean())
        if power < SEEN_FROM * float(noise.mean()):
            continue
        share = 100 * max(float(lost.mean()), 0.0) / power
        told.append(f"{name} {share:.0f} %")
        near = np.maximum(local(there, AROUND), SEEN_FROM * noise)
        where = np.maximum(where, 100 * local(lost, AROUND) / near)
        worst = max(worst, share)
    return Reading(worst, where / TEXTURE.limit, ", ".join(told) or "no texture stands above the noise")


def _flatness(evidence: Evidence) -> Reading:
    nudge = evidence.nudge
    noise = np.float32(_fine_power(nudge.field[0]).mean())
    source = local(_fine_power(nudge.source[0]), AROUND / 2) - noise
    result = local(_fine_power(nudge.result[0]), AROUND / 2)
    textured = source > TEXTURED * noise
    flat = textured & (result < FLAT_BELOW * source)
    value = 100 * float(flat.sum()) / max(int(textured.sum()), 1)
    return Reading(value, flat.astype(np.float32), f"{100 * textured.mean():.0f} % of the picture is textured")


def _fine_power(plane: Array) -> Array:
    """Power of fine and medium detail at each pixel."""
    fine, medium, _ = bands(plane)
    power: Array = fine**2 + medium**2
    return power


STRUCTURE = Measure(
    "structure", "Structure removed", "% of the noise's power", 20.0,
    "Detail in what was taken out, beyond what the profile says noise looks like.", _structure,
)  # fmt: skip
TEXTURE = Measure(
    "texture", "Texture lost", "%", 10.0, "Of the detail that was there, in the octave that lost most.", _texture
)
FLATNESS = Measure(
    "flatness", "Plastic flatness", "% of the texture's area", 5.0,
    "Textured places that came out flat.", _flatness,
)  # fmt: skip
