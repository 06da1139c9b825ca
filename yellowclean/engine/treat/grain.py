"""Grain over the finished picture: matched to the shot's own, or by size and strength.

White Gaussian numbers are drawn for every pixel from a counter (seed, frame, position, axis), so that a
render can be repeated and no two frames are alike. They are filtered, tile by tile on a fixed grid, to
the spectrum asked for. Matched grain is laid in the stabilised domain, where it takes the shot's own curve
of sigma against level; its spectrum is the one whose 8×8 DCT deviations are those of the noise profile.
"""

from __future__ import annotations

from functools import lru_cache

import numba as nb
import numpy as np
from scipy import fft
from scipy.optimize import brentq

from ..frames import CV_SCALE, Array, Frame, Region, luma
from ..measure.profile import NoiseProfile
from ..octaves import OCTAVES, basis_on_picture
from ..parallel import in_bands
from ..parameters import Parameters, amount, quantity
from .base import Around, Need, Picture, Treatment, Window

TILE, REACH = 256, 64
"""Side of a tile, and how far the filters look around it, in pixels."""

FINE_GRID = 2 * REACH
"""Frequencies each way at which a spectrum is held."""

ROUNDS = 60
"""Steps of the search for a spectrum; the deviations asked for are met within about 2 %."""


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
    shadows: float = amount(100, "In shadows", "Share of the grain at black.")
    middle: float = amount(100, "In middle tones", "Share of the grain half way up.")
    highlights: float = amount(100, "In highlights", "Share of the grain at white.")
    seed: int = quantity(
        1, "Seed", "Another number lays other grain of the same kind.", unit="no.", least=0, most=9999, step=1
    )  # fmt: skip


def need(p: Grain) -> Need:
    return Need()


def apply(p: Grain, window: Window, around: Around) -> Picture:
    """Add grain; the noise of the picture grows by it."""
    here = window.here.part(window.wanted)
    place = Region(
        window.x + window.wanted.x, window.y + window.wanted.y, window.wanted.width, window.wanted.height
    )
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


def grain_field(profile: NoiseProfile, seed: int, n: int, place: Region) -> Array:
    """Noise like the profile's on the stabilised opponent axes, 3×H×W, over a region of frame n."""
    filters = [matching_filter(tuple(axis.ravel().tolist())) for axis in profile.spectrum_array()]
    return np.stack([_field(one, seed, n, axis, place) for axis, one in enumerate(filters)])


def _own(p: Grain, n: int, place: Region) -> Frame:
    """H×W×3 of deviation 1 in every channel: one field for all of them, and one for each, by `colour`."""
    gaussian = gaussian_filter(p.size)
    apart = np.float32(p.colour / 100)
    grain = np.zeros((place.height, place.width, 3), np.float32)
    if apart < 1:
        grain += np.sqrt(1 - apart * apart) * _field(gaussian, p.seed, n, 3, place)[..., None]
    if apart > 0:
        grain += apart * np.stack([_field(gaussian, p.seed, n, 4 + c, place) for c in range(3)], axis=-1)
    return grain


@lru_cache(maxsize=16)
def matching_filter(deviations: tuple[float, ...]) -> Array:
    """Filter to the power spectrum of which the 8×8 DCT coefficients, over all octaves, have these deviations.

    Found by multiplicative updates from white (Richardson 1972, Lucy 1974), which keep it positive and as
    smooth as the measured coefficients allow.
    """
    wanted = np.array(deviations, np.float64).reshape(OCTAVES, 8, 8) ** 2
    analysis = _analysis()
    reach = np.einsum("oky,olx->yx", analysis, analysis)
    power = np.ones((FINE_GRID, FINE_GRID))
    for _ in range(ROUNDS):
        ratio = wanted / np.maximum(analysis @ power @ analysis.transpose(0, 2, 1), 1e-12)
        power *= np.einsum("okl,oky,olx->yx", ratio, analysis, analysis, optimize=True) / reach
    return _filter(power)


@lru_cache(maxsize=16)
def gaussian_filter(size: float) -> Array:
    """Filter to noise of variance 1 that hangs together over `size`×`size` pixels: 1 / the mean of the power
    spectrum, relative to its middle, as `grain_px` of a profile."""
    frequency = 2 * np.pi * np.fft.fftfreq(FINE_GRID)

    def along(sigma: float) -> Array:
        return np.exp(-((frequency * sigma) ** 2))

    sigma = brentq(lambda s: along(s).mean() - 1 / size, 0, 2 * size) if size > 1 else 0.0
    power = np.outer(along(sigma), along(sigma))
    return _filter(power / power.mean())


@lru_cache(maxsize=1)
def _analysis() -> Array:
    """OCTAVES×8×FINE_GRID: power response of each DCT basis vector at each octave, seen in the full picture;
    the variance of coefficient (k, l) is response k · spectrum · response l."""
    responses = [np.fft.fft(basis_on_picture(octave), FINE_GRID, axis=1) for octave in range(OCTAVES)]
    return np.abs(np.array(responses)) ** 2 / FINE_GRID


def _filter(power: Array) -> Array:
    """Response, for tiles with their surroundings, of the filter that gives white noise this spectrum. Its
    kernel ends at REACH, so that tiles meet without a seam."""
    kernel = np.fft.fftshift(np.fft.ifft2(np.sqrt(power)).real)
    fade = np.hanning(FINE_GRID + 1)[:-1] ** 0.25
    kernel *= np.outer(fade, fade)
    kernel *= np.sqrt(power.mean() / (kernel**2).sum())
    whole = np.zeros((TILE + 2 * REACH,) * 2)
    whole[:FINE_GRID, :FINE_GRID] = kernel
    response: Array = np.fft.rfft2(np.roll(whole, (-REACH, -REACH), axis=(0, 1))).astype(np.complex64)
    return response


def _field(response: Array, seed: int, n: int, axis: int, place: Region) -> Array:
    """Grain over a region, H×W float32, cut from the tiles that it touches."""
    grid = place.snapped(TILE)
    corners = [(x, y) for y in range(grid.y, grid.bottom, TILE) for x in range(grid.x, grid.right, TILE)]
    out = np.empty((place.height, place.width), np.float32)

    def fill(first: int, end: int) -> None:
        for x, y in corners[first:end]:
            _paste(_tile(response, seed, n, axis, x, y), Region(x, y, TILE, TILE), out, place)

    in_bands(len(corners), fill, least=1)
    return out


def _tile(response: Array, seed: int, n: int, axis: int, x: int, y: int) -> Array:
    white = np.empty((TILE + 2 * REACH,) * 2, np.float32)
    _white(white, np.uint64(seed), np.uint64(n * 8 + axis), x - REACH, y - REACH)
    filtered: Array = fft.irfft2(fft.rfft2(white) * response, s=white.shape)
    return filtered[REACH:-REACH, REACH:-REACH]


def _paste(piece: Array, inside: Region, out: Array, place: Region) -> None:
    x, y = max(inside.x, place.x), max(inside.y, place.y)
    part = Region(x, y, min(inside.right, place.right) - x, min(inside.bottom, place.bottom) - y)
    out[part.within(place).slices] = piece[part.within(inside).slices]


@nb.njit(nogil=True, cache=True, inline="always")
def _scrambled(z):  # type: ignore[no-untyped-def]
    """The finaliser of SplitMix64 (Steele, Lea, Flood 2014)."""
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@nb.njit(nogil=True, cache=True)
def _white(out, seed, layer, left, top):  # type: ignore[no-untyped-def]
    """Unit normal numbers, two from each count (Box, Muller 1958); they depend on the position alone."""
    base = _scrambled(_scrambled(seed + np.uint64(0x9E3779B97F4A7C15)) + layer)
    for y in range(out.shape[0]):
        line = _scrambled(base + np.uint64(np.int64(y + top) + (np.int64(1) << 32)))
        for x in range(0, out.shape[1], 2):
            bits = _scrambled(line + np.uint64(np.int64(x + left) + (np.int64(1) << 32)))
            first = (np.float64(bits >> np.uint64(32)) + 0.5) / 4294967296.0
            second = np.float64(bits & np.uint64(0xFFFFFFFF)) / 4294967296.0
            radius = np.sqrt(-2 * np.log(first))
            out[y, x] = radius * np.cos(2 * np.pi * second)
            out[y, x + 1] = radius * np.sin(2 * np.pi * second)


TREATMENT = Treatment(
    kind="grain", title="Grain", treats=(), order=90, parameters=Grain, need=need, apply=apply,
)  # fmt: skip
