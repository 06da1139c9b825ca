"""Spatial noise reduction: sliding DCT with measured thresholds, over three octaves.

Chain: stabilise, opponent axes, at each octave a hard threshold and a Wiener pass guided by it
(Yu, Sapiro 2011) with the deviation of every coefficient taken from the noise profile; octaves are
joined from coarse to fine (Pierazzo, Morel, Facciolo 2017): low frequencies come from the coarser
result. Where an earlier step has already lowered the noise, thresholds are lowered with it.
"""

from __future__ import annotations

import numba as nb
import numpy as np

from ..frames import Array
from ..measure.profile import OCTAVES
from ..parallel import in_bands
from ._dct import columns_apart, columns_joined, pixel_weights, sliding_rows
from .base import Around, Need, Parameters, Picture, Treatment, Window, amount, quantity

BLOCKS_OVER_A_PIXEL = np.float32(16)
"""Blocks start at every second row and column: 16 estimates for every pixel."""

MARGINS = (16, 40, 80)
"""Pixels beyond which the surroundings no longer matter, for one, two and three octaves: 14 of each
octave's own pixels for the two passes, and the reach of the filters between octaves."""

GRID = 2 << (OCTAVES - 1)

NO_GUIDE = np.empty((2, 0, 0), np.float32)


class Spatial(Parameters):
    """Noise within one frame."""

    luma: float = amount(100, "Luma", "Noise taken from luma, as a share of the measured sigma.")
    chroma: float = amount(100, "Chroma", "Colour noise taken, as a share of the measured sigma.")
    octaves: int = quantity(
        3, "Coarsest size", "1 treats fine noise only, 3 also blotches of up to about 30 pixels.",
        unit="octaves", least=1, most=OCTAVES, step=1,
    )  # fmt: skip
    threshold: float = quantity(
        2.9, "Threshold", "How many sigma a detail must stand out to be kept in the first pass.",
        unit="σ", least=1.0, most=5.0, step=0.1,
    )  # fmt: skip


def need(p: Spatial) -> Need:
    return Need(margin=MARGINS[p.octaves - 1], grid=GRID)


def apply(p: Spatial, window: Window, around: Around) -> Picture:
    """Treat one frame's region; the margins of the result are not valid."""
    here = window.here
    before = around.stabiliser.opponent(here.rgb)
    spectrum = around.profile.spectrum_array()
    after, kept = np.empty_like(before), np.ones_like(here.noise)
    for axis, share in enumerate((p.luma, p.chroma, p.chroma)):
        noise = np.sqrt(here.noise[min(axis, 1)]) * np.float32(share / 100)
        if share == 0:
            after[axis] = before[axis]
            continue
        after[axis], kept[min(axis, 1)] = _octaves(before[axis], noise, spectrum[axis], p.threshold, p.octaves)
    left = here.noise * kept
    rgb = around.stabiliser.applied(here.rgb, before, after, here.noise - left)
    return Picture(rgb, left)


def _octaves(plane: Array, noise: Array, spectrum: Array, threshold: float, octaves: int) -> tuple[Array, Array]:
    """(denoised plane, share of variance kept) over `octaves` sizes, coarse replacing low frequencies."""
    done, kept = _one_size(plane, noise, spectrum[0], threshold)
    if octaves > 1:
        coarse, _ = _octaves(halved(plane), halved(noise), spectrum[1:], threshold, octaves - 1)
        done += doubled(coarse - halved(done))
    return done, kept


def _one_size(plane: Array, noise: Array, deviation: Array, threshold: float) -> tuple[Array, Array]:
    """Both passes at one octave; the sides of `plane` are even."""
    parts = columns_apart(plane)
    flat = np.ascontiguousarray(deviation.reshape(-1))
    local = np.ascontiguousarray(noise[::2, ::2])
    guide, _ = _pass(parts, NO_GUIDE, flat, local, threshold)
    done, weights = _pass(parts, guide, flat, local, threshold)
    kept = np.minimum(BLOCKS_OVER_A_PIXEL / (64 * weights), 1)
    return columns_joined(done), kept.repeat(2, axis=0).repeat(2, axis=1)


def _pass(parts: Array, guide: Array, deviation: Array, noise: Array, threshold: float) -> tuple[Array, Array]:
    """(result with its columns apart, weight of each 2×2 cell)."""
    height = parts.shape[1]
    total, blocks = np.zeros_like(parts), np.zeros_like(noise)
    in_bands(
        height // 2,
        lambda a, b: sliding_rows(
            parts, guide, deviation, noise, np.float32(threshold), total, blocks, 2 * a, 2 * b
        ),
    )
    weights = pixel_weights(blocks)
    total[:, :, : weights.shape[1]] /= weights.repeat(2, axis=0)
    return total, weights


@nb.njit(nogil=True, cache=True)
def halved(plane):  # type: ignore[no-untyped-def]
    """Half the size, each way low-passed with [1 3 3 1]/8; sides must be even."""
    height, width = plane.shape[0] // 2, plane.shape[1] // 2
    across = np.empty((plane.shape[0], width), np.float32)
    for y in range(plane.shape[0]):
        for x in range(width):
            a = plane[y, max(2 * x - 1, 0)] + plane[y, min(2 * x + 2, plane.shape[1] - 1)]
            across[y, x] = (a + 3 * (plane[y, 2 * x] + plane[y, 2 * x + 1])) * np.float32(0.125)
    out = np.empty((height, width), np.float32)
    for y in range(height):
        above, below = max(2 * y - 1, 0), min(2 * y + 2, plane.shape[0] - 1)
        for x in range(width):
            a = across[above, x] + across[below, x]
            out[y, x] = (a + 3 * (across[2 * y, x] + across[2 * y + 1, x])) * np.float32(0.125)
    return out


@nb.njit(nogil=True, cache=True)
def doubled(plane):  # type: ignore[no-untyped-def]
    """Twice the size, bilinear: the transpose of a two-tap version of `halved`."""
    height, width = plane.shape
    tall = np.empty((2 * height, width), np.float32)
    for y in range(height):
        above, below = max(y - 1, 0), min(y + 1, height - 1)
        for x in range(width):
            tall[2 * y, x] = np.float32(0.75) * plane[y, x] + np.float32(0.25) * plane[above, x]
            tall[2 * y + 1, x] = np.float32(0.75) * plane[y, x] + np.float32(0.25) * plane[below, x]
    out = np.empty((2 * height, 2 * width), np.float32)
    for y in range(2 * height):
        for x in range(width):
            left, right = max(x - 1, 0), min(x + 1, width - 1)
            out[y, 2 * x] = np.float32(0.75) * tall[y, x] + np.float32(0.25) * tall[y, left]
            out[y, 2 * x + 1] = np.float32(0.75) * tall[y, x] + np.float32(0.25) * tall[y, right]
    return out


TREATMENT = Treatment(
    kind="spatial", title="Spatial noise reduction", treats=("noise", "colour noise"), order=30,
    parameters=Spatial, need=need, apply=apply,
)  # fmt: skip
