"""What a lens lets through, and whether it was out of focus.

An even disc, as a lens out of focus draws of a point, lets nothing through at the zeros of its transform, whose
places tell its radius (after Cannon 1976, "Blind deconvolution of spatially invariant image blurs with phase", IEEE
Transactions on Acoustics, Speech and Signal Processing 24, from memory). The spectrum of a picture falls by a power
of the frequency (Field 1987) and as a Gaussian blurs it, down to the noise; where a disc besides explains it
plainly better, and not across or down the picture alone, as what moved while it was exposed, it is one.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import scipy

from ..frames import Array
from .pieces import Mask, frequencies, ring_numbers, spectra

SIDE, APART, MOST_PIECES = 64, 32, 600
"""Pixels a side of the pieces whose spectrum is looked at, how far apart they are at least, and about how many they
are at most."""

RINGS = np.arange(3, SIDE // 2)
"""Rings of frequencies that are looked at, in cycles a piece: in coarser ones the piece itself shows."""

SMALLEST, LARGEST, STEP = 1.8, 8.0, 1.06
"""Radii in pixels between which a disc is looked for, and by what factor they follow one another: smaller ones let
through what is there to be told them by."""

PLAIN, EITHER = ((SMALLEST, 2.4), (0.42, 0.3)), -0.4
"""Logarithm of how many times better a disc has to explain the spectrum, by its radius, since small ones look much
like a Gaussian; and of how many times at least in either direction alone. One that is missed costs more than a
Gaussian that is taken for one: edges read it too large."""

TOLERANT = 0.1
"""Logarithm of power from which on what is not explained counts less and less: bars and weaves stand out."""

LEAST_THROUGH, LEAST_POWER = 1e-5, 1e-3
"""What of power a disc lets through, and what is there in parts of the noise's, at least: as good as nothing."""

FEWEST_PIECES = 8


class Spread(NamedTuple):
    """The power of a picture's pieces, summed: across and down by rings (2×RINGS), what noise adds to each of them,
    and how many pieces they are."""

    power: Array
    noise: float
    pieces: int


def transfer(frequency: Array, deviation: float, *, disc: bool = False) -> Array:
    """What a blur lets through at a frequency in cycles a pixel: a Gaussian of that deviation in pixels, or an even
    disc of the same (of twice its radius), as a lens out of focus has it."""
    if not disc:
        gaussian: Array = np.exp(-2 * (np.pi * deviation * frequency) ** 2)
        return gaussian
    at = 2 * np.pi * 2 * deviation * frequency
    even: Array = np.where(at < 1e-6, 1, 2 * scipy.special.j1(np.maximum(at, 1e-6)) / np.maximum(at, 1e-6))
    return even


def spread_of(light: Array, sigma: Array, clipped: Mask) -> Spread:
    """The spectrum of a plane of linear light, H×W, of noise `sigma` (same shape), where nothing is `clipped`."""
    power, noise, pieces = np.zeros((SIDE, SIDE // 2 + 1)), 0.0, 0
    apart = max(APART, math.ceil(math.sqrt(light.size / MOST_PIECES)))
    for top in range(0, light.shape[0] - SIDE + 1, apart):
        rows = slice(top, top + SIDE)
        found = spectra(light[rows], sigma[rows], clipped[rows], SIDE, apart)
        power, noise, pieces = power + found.power.sum(axis=0), noise + found.noise.sum(), pieces + len(found.noise)
    down, across = frequencies(SIDE)
    ring, level = ring_numbers(SIDE, SIDE), np.abs(across) >= np.abs(down)
    means = [[power[(ring == r) & part].mean() for r in RINGS] for part in (level, ~level)]
    return Spread(np.array(means), float(noise), pieces)


def disc_radius(pictures: Sequence[Spread]) -> float:
    """The radius in pixels of the disc that the lens drew in some pictures; NaN where none is told."""
    noise = sum(picture.noise for picture in pictures)
    if sum(picture.pieces for picture in pictures) < FEWEST_PIECES or noise <= 0:
        return float("nan")
    power = np.log(np.maximum(np.sum([picture.power for picture in pictures], axis=0) / noise, LEAST_POWER))
    if not np.isfinite(power).all() or power.max() < 0:  # nothing but noise
        return float("nan")
    without = _unexplained(power, 0.0)
    radii = SMALLEST * STEP ** np.arange(np.log(LARGEST / SMALLEST) / np.log(STEP))
    left = {float(radius): _unexplained(power, radius) for radius in radii}
    for finer in (STEP**0.5, STEP**0.25):
        best = min(left, key=lambda radius: left[radius].sum())
        left |= {radius: _unexplained(power, radius) for radius in (best / finer, best * finer)}
    best = min(left, key=lambda radius: left[radius].sum())
    better, either = np.log(without.sum() / left[best].sum()), np.log(without / left[best])
    return best if better > np.interp(best, *PLAIN) and either.min() > EITHER else float("nan")


def _unexplained(power: Array, radius: float) -> Array:
    """What a disc of that radius (0: none) leaves unexplained of the logarithm of power, in parts of the noise's,
    across and down (2×RINGS)."""
    frequency = RINGS / SIDE
    away, gaussian = np.log(frequency), (2 * np.pi * frequency) ** 2
    disc = np.log(np.maximum(transfer(frequency, radius / 2, disc=True) ** 2, LEAST_THROUGH))

    def signal(told: Array) -> Array:
        height, fall, blur, _ = told
        return height - fall * away - np.exp(min(blur, 3.0)) * gaussian + disc

    def left(told: Array, of: Array) -> Array:
        return np.logaddexp(signal(told), told[3]) - of

    def slopes(told: Array, _: Array) -> Array:
        of_signal = scipy.special.expit(signal(told) - told[3])
        blurred = np.exp(told[2]) * gaussian if told[2] < 3 else np.zeros_like(gaussian)
        return np.stack([of_signal, -of_signal * away, -of_signal * blurred, 1 - of_signal], axis=1)

    def cost(of: Array) -> float:
        start = [of[0] + 2 * away[0], 2.0, np.log(0.1), 0.0]
        fitted = scipy.optimize.least_squares(
            left, start, slopes, loss="soft_l1", f_scale=TOLERANT, ftol=1e-4, args=(of,)
        )
        return float(fitted.cost)

    return np.array([cost(of) for of in power])
