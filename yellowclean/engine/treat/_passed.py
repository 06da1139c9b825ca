"""How much contrast the steps before let through at each size of detail, told without knowing the truth.

A frame too far away to have had a part in a result holds the same detail under other noise. Held against it, the
result's detail as a share of the source's is what was let through: noise is in one of each pair alone and counts in
neither, and what bringing that frame along the motion softens falls out (the transfer of a system from
cross-spectra with a third signal, after Bendat and Piersol, *Random Data*; from memory)."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
import numpy.typing as npt
import scipy

from ..frames import Array, Frame
from ..measure.pieces import ring_numbers
from .base import Around
from .fetching import surely_fetched

Mask = npt.NDArray[np.bool_]
Spectra = npt.NDArray[np.complex64]

SIDE = 64
RINGS = SIDE // 2 + 1
"""Pixels a side of the tiles that are compared, and frequencies from 0 to half a cycle a pixel."""

SURE, MOST_TILES = 0.95, 600
"""Share of a tile's pixels whose motion is to be believed, and how many tiles at most are compared."""

SMOOTH = 1.5
"""Rings over which spectra are averaged."""

AGREES = 0.1
"""Part of the source's own power that the other frame has to explain for a ring to be told by it."""

COARSE = 2
"""Ring of waves of 32 pixels, which no noise reduction takes: what that lacks, a change of contrast took."""

LEAST = 0.5
"""What is let through is taken for no less: what is gone altogether no filter gives back."""


def passed(around: Around, plane_of: Callable[[Frame], Array]) -> Array:
    """Shares from 0 to 0.5 cycles a pixel (RINGS of them), only falling, of one plane of the frame in the middle;
    all 1 where nothing was taken, or no frame is far enough away to tell."""
    n = around.frames // 2
    others = around.without_part_in(n)[:2]
    nothing: Array = np.ones(RINGS, np.float32)
    if not others:
        return nothing
    result, source = plane_of(around.whole(n)), plane_of(around.unreduced(n))
    through, all_of_it, own = np.zeros((3, RINGS))
    place = np.array([0, 0, 0, 0, source.shape[1]], np.float32)
    for k in others:
        there = plane_of(around.unreduced(k))[None]
        moved, sure = surely_fetched(there, around.motion(n, k), place, (1, *source.shape))
        spectra = _spectra([result, source, moved[0]], sure)
        through += _rings(spectra, 0, 2)
        all_of_it += _rings(spectra, 1, 2)
        own += _rings(spectra, 1, 1)
    known = all_of_it > AGREES * own
    if not known[COARSE]:
        return nothing
    share = through / np.maximum(all_of_it, 1e-12)
    share = np.clip(share / max(share[COARSE], LEAST), LEAST, 1)
    told = np.flatnonzero(known)
    falling: Array = np.minimum.accumulate(np.interp(np.arange(RINGS), told, share[told])).astype(np.float32)
    return falling


def _spectra(planes: list[Array], sure: Mask) -> Spectra:
    """planes×tiles×SIDE×(SIDE/2+1), of tiles all over the frame that can be believed."""
    height, width = sure.shape
    places = [
        (slice(y, y + SIDE), slice(x, x + SIDE))
        for y in range(0, height - SIDE + 1, SIDE // 2)
        for x in range(0, width - SIDE + 1, SIDE // 2)
    ]
    chosen = [place for place in places if sure[place].mean() >= SURE]
    chosen = chosen[:: -(-len(chosen) // MOST_TILES) or 1]
    window = np.outer(np.hanning(SIDE), np.hanning(SIDE)).astype(np.float32)
    tiles = np.array([[plane[place] - plane[place].mean() for place in chosen] for plane in planes])
    spectra: Spectra = scipy.fft.rfft2(tiles.reshape(len(planes), len(chosen), SIDE, SIDE) * window)
    return spectra


def _rings(spectra: Spectra, one: int, other: int) -> Array:
    """What two planes share at each frequency, smoothed."""
    shared = (spectra[one] * spectra[other].conj()).real.sum(axis=0)
    summed = np.bincount(ring_numbers(SIDE, SIDE).ravel(), shared.ravel())[:RINGS]
    smooth: Array = cv2.GaussianBlur(summed[None], (0, 0), SMOOTH)[0]
    return smooth
