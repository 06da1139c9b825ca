"""Noise made after a description: white numbers filtered to a spectrum, the same wherever they are asked for.

White Gaussian numbers are drawn for every pixel from a counter (seed, frame, position, layer), so that they
can be had again and no two frames are alike. They are filtered, tile by tile on a fixed grid, to the spectrum
asked for: that whose 8×8 DCT deviations are those of a noise profile, or one by size alone.
"""

from __future__ import annotations

from functools import lru_cache

import numba as nb
import numpy as np
import scipy

from ..frames import Array, Region
from ..octaves import OCTAVES, basis_on_picture
from ..parallel import in_bands
from .profile import NoiseProfile

TILE, REACH = 256, 64
"""Side of a tile, and how far the filters look around it, in pixels."""

FINE_GRID = 2 * REACH
"""Frequencies each way at which a spectrum is held."""

PAIRS = (0, 1), (0, 2), (1, 2)
"""The pairs of axes, in the order of a profile's coherence."""

ROUNDS = 60
"""Steps of the search for a spectrum; the deviations asked for are met within about 2 %."""


Mix = tuple[tuple[Array, int], ...]
"""Filters, each with the number of the layer of white noise that it is laid on; what comes is their sum."""


def grain_field(profile: NoiseProfile, seed: int, n: int, place: Region) -> Array:
    """Noise like the profile's on the stabilised opponent axes, 3×H×W, over a region of frame n."""
    coherence = tuple(np.array(profile.coherence, np.float32).ravel().tolist())
    mixes = _mixes(tuple(profile.spectrum_array().ravel().tolist()), coherence)
    return np.stack([field(mix, seed, n, place) for mix in mixes])


@lru_cache(maxsize=8)
def _mixes(deviations: tuple[float, ...], coherence: tuple[float, ...]) -> tuple[Mix, ...]:
    """What each axis is made of. Where the axes hang together, the power that two have in common follows from that
    of their sum; the triangular root of the matrix at each frequency (Cholesky) says how to mix white noise."""
    wanted = np.array(deviations).reshape(3, -1)
    powers = [matching_power(tuple(axis.tolist())) for axis in wanted]
    if not coherence:
        return tuple(((_filter(np.sqrt(power)), axis),) for axis, power in enumerate(powers))
    matrix = np.zeros((FINE_GRID, FINE_GRID, 3, 3))
    for axis, power in enumerate(powers):
        matrix[..., axis, axis] = power
    for (i, j), shared in zip(PAIRS, np.array(coherence).reshape(3, -1), strict=True):
        of_sum = (wanted[i] ** 2 + wanted[j] ** 2 + 2 * shared * wanted[i] * wanted[j]) / 2
        common = matching_power(tuple(np.sqrt(np.maximum(of_sum, 1e-12)).tolist())) - (powers[i] + powers[j]) / 2
        matrix[..., i, j] = matrix[..., j, i] = common
    root = np.linalg.cholesky(_possible(matrix))
    return tuple(tuple((_filter(root[..., i, j]), j) for j in range(i + 1)) for i in range(3))


def _possible(matrix: Array) -> Array:
    """Covariances (…×3×3) with as much of what is beside the diagonal as there can be; the diagonal stays."""
    deviation = np.sqrt(np.maximum(np.diagonal(matrix, axis1=-2, axis2=-1), 1e-12))
    scale = deviation[..., :, None] * deviation[..., None, :]
    beside = matrix / scale * (1 - np.eye(3))
    least = np.linalg.eigvalsh(beside)[..., 0]  # of the correlation less one
    kept = np.minimum(1, (1 - 1e-6) / np.maximum(-least, 1e-6))
    return (np.eye(3) + beside * kept[..., None, None]) * scale


@lru_cache(maxsize=32)
def matching_power(deviations: tuple[float, ...]) -> Array:
    """FINE_GRID×FINE_GRID power spectrum of which the 8×8 DCT coefficients, over all octaves, have these
    deviations.

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
    return power


@lru_cache(maxsize=16)
def gaussian_filter(size: float) -> Array:
    """Filter to noise of variance 1 that hangs together over `size`×`size` pixels: 1 / the mean of the power
    spectrum, relative to its middle, as `grain_px` of a profile."""
    frequency = 2 * np.pi * np.fft.fftfreq(FINE_GRID)

    def along(sigma: float) -> Array:
        return np.exp(-((frequency * sigma) ** 2))

    sigma = scipy.optimize.brentq(lambda s: along(s).mean() - 1 / size, 0, 2 * size) if size > 1 else 0.0
    power = np.outer(along(sigma), along(sigma))
    return _filter(np.sqrt(power / power.mean()))


@lru_cache(maxsize=1)
def _analysis() -> Array:
    """OCTAVES×8×FINE_GRID: power response of each DCT basis vector at each octave, seen in the full picture;
    the variance of coefficient (k, l) is response k · spectrum · response l."""
    responses = [np.fft.fft(basis_on_picture(octave), FINE_GRID, axis=1) for octave in range(OCTAVES)]
    return np.abs(np.array(responses)) ** 2 / FINE_GRID


def _filter(amplitude: Array) -> Array:
    """Response, for tiles with their surroundings, of the filter that gives white noise this amplitude at each
    frequency. Its kernel ends at REACH, so that tiles meet without a seam."""
    kernel = np.fft.fftshift(np.fft.ifft2(amplitude).real)
    fade = np.hanning(FINE_GRID + 1)[:-1] ** 0.25
    kernel *= np.outer(fade, fade)
    kernel *= np.sqrt((amplitude**2).mean() / max((kernel**2).sum(), 1e-30))
    whole = np.zeros((TILE + 2 * REACH,) * 2)
    whole[:FINE_GRID, :FINE_GRID] = kernel
    response: Array = np.fft.rfft2(np.roll(whole, (-REACH, -REACH), axis=(0, 1))).astype(np.complex64)
    return response


def field(mix: Mix, seed: int, n: int, place: Region) -> Array:
    """Grain over a region, H×W float32, cut from the tiles that it touches."""
    grid = place.snapped(TILE)
    corners = [(x, y) for y in range(grid.y, grid.bottom, TILE) for x in range(grid.x, grid.right, TILE)]
    out = np.empty((place.height, place.width), np.float32)

    def fill(first: int, end: int) -> None:
        for x, y in corners[first:end]:
            _paste(_tile(mix, seed, n, x, y), Region(x, y, TILE, TILE), out, place)

    in_bands(len(corners), fill, least=1)
    return out


def _tile(mix: Mix, seed: int, n: int, x: int, y: int) -> Array:
    white, total = np.empty((TILE + 2 * REACH,) * 2, np.float32), None
    for response, layer in mix:
        _white(white, np.uint64(seed), np.uint64(n * 8 + layer), x - REACH, y - REACH)
        part = scipy.fft.rfft2(white) * response
        total = part if total is None else total + part
    filtered: Array = scipy.fft.irfft2(total, s=white.shape)
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
    part, turn = np.float32(1 / 4294967296.0), np.float32(2 * np.pi)
    base = _scrambled(_scrambled(seed + np.uint64(0x9E3779B97F4A7C15)) + layer)
    for y in range(out.shape[0]):
        line = _scrambled(base + np.uint64(np.int64(y + top) + (np.int64(1) << 32)))
        for x in range(0, out.shape[1], 2):
            bits = _scrambled(line + np.uint64(np.int64(x + left) + (np.int64(1) << 32)))
            first = (np.float32(bits >> np.uint64(32)) + np.float32(0.5)) * part
            angle = np.float32(bits & np.uint64(0xFFFFFFFF)) * (turn * part)
            radius = np.sqrt(np.float32(-2) * np.log(min(first, np.float32(1))))
            out[y, x] = radius * np.cos(angle)
            out[y, x + 1] = radius * np.sin(angle)
