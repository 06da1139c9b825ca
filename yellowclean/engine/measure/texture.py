"""How much blur fine texture allows.

Where much of a picture is out of focus on purpose, its edges are soft ones, and what is sharp is often texture, in
which no edge is told. That sets a limit: a blur of variance v leaves exp(-4π²vf²) of the power at f cycles a pixel
(the transform of a Gaussian), and natural pictures fall more steeply than by 1/f before it (Field 1987, "Relations
between the statistics of natural images and the response properties of cortical cells": power by about 1/f²,
from memory).
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from typing import NamedTuple

import numpy as np

from ..frames import Array
from .pieces import Mask, frequencies, spectra

WINDOW = 32
"""Side in pixels of the pieces in which texture is looked at."""

FINE, MIDDLE = (0.25, 0.5), (0.125, 0.25)
"""The two finest octaves, in cycles a pixel."""

OVER_NOISE, NOISE_TAKEN = 4.0, 2.0
"""Power of an octave over that of noise from which it counts, and how many times that of noise is taken off: its
spectrum is not asked for here."""

FINEST, FEWEST_PIECES = 0.05, 8
"""Share of the texture of the middle octave, the finest first, below which the picture's own lies; and the pieces
without which none is told."""

DEVIATIONS = np.linspace(0, 1.5, 151)
"""Deviations of blur in pixels that are told of texture: of what is coarser about as much leaks into the finest
octave as a wider blur leaves there."""


class Texture(NamedTuple):
    """Of N pieces of a picture: power in the finest octave over that in the next, beyond noise, and the latter."""

    ratio: Array
    middle: Array


def texture_of(light: Array, sigma: Array, clipped: Mask) -> Texture:
    """The texture of a plane of linear light, H×W, of noise `sigma` (same shape), where nothing is `clipped`."""
    power, noise = spectra(light, sigma, clipped, WINDOW, WINDOW)
    fine, middle = (np.tensordot(power, octave, 2) for octave in _octaves())
    noise_fine, noise_middle = (noise * octave.sum() for octave in _octaves())
    seen = (fine > OVER_NOISE * noise_fine) & (middle > OVER_NOISE * noise_middle)
    ratio = np.where(seen, (fine - NOISE_TAKEN * noise_fine) / np.maximum(middle, 1e-20), 0)
    return Texture(ratio, np.maximum(middle - noise_middle, 0))


def texture_limit(textures: Sequence[Texture]) -> float:
    """Variance of blur, in square pixels, above which pictures could not hold these textures; infinite where they
    do not tell."""
    ratio, middle = (np.concatenate(parts) for parts in zip(*textures, strict=True))
    order = np.argsort(-ratio)
    weight = np.cumsum(middle[order], dtype=np.float64)
    if len(weight) < FEWEST_PIECES or weight[-1] <= 0:
        return float("inf")
    found, left = ratio[order][np.searchsorted(weight, FINEST * weight[-1])], _left()
    return float(np.interp(-found, -left, DEVIATIONS)) ** 2 if found > left[-1] else float("inf")


@cache
def _left() -> Array:
    """What each of the deviations leaves of the finest octave over what it leaves of the next, of power that falls
    by 1/f."""
    away = _frequencies()
    blurred = np.exp(-((2 * np.pi * DEVIATIONS[:, None, None] * away) ** 2)) / np.maximum(away, 1 / WINDOW)
    fine, middle = ((blurred * octave).sum(axis=(1, 2)) for octave in _octaves())
    left: Array = fine / middle
    return left


@cache
def _octaves() -> tuple[Array, Array]:
    """Which frequencies of a piece are of the two octaves: those of which only one half is kept count twice."""
    away, twice = _frequencies(), np.ones(WINDOW // 2 + 1)
    twice[1:-1] = 2
    fine, middle = (((low <= away) & (away < high)) * twice for low, high in (FINE, MIDDLE))
    return fine, middle


def _frequencies() -> Array:
    """Cycles a pixel of the transform of a piece, in whatever direction."""
    away: Array = np.hypot(*frequencies(WINDOW))
    return away
