"""The bases that noise is described in: 8×8 DCT blocks on the picture, on its half, and on its quarter."""

from __future__ import annotations

import numba as nb
import numpy as np

from .frames import Array

OCTAVES = 3
"""Fine, medium and coarse: the picture itself, halved, and halved again."""

BLOCK = 8
"""Side of the DCT blocks in which spectra are kept."""

_K = np.arange(BLOCK)
DCT = (np.cos(np.pi * (2 * _K[None, :] + 1) * _K[:, None] / 16) / 2).astype(np.float32)
DCT[0] /= np.sqrt(2, dtype=np.float32)
"""Orthonormal DCT-II of eight points: rows are frequencies."""

HALVING = (0.125, 0.375, 0.375, 0.125)
"""Low-pass, each way, before every second pixel is dropped."""


def basis_on_picture(octave: int) -> Array:
    """8×L: the DCT basis vectors of an octave as they lie on the full picture, in one dimension."""
    basis = DCT.astype(np.float64)
    for _ in range(octave):
        wide = np.zeros((BLOCK, 2 * basis.shape[1]))
        wide[:, ::2] = basis
        basis = np.array([np.convolve(line, HALVING) for line in wide])
    return basis


def white_deviations() -> Array:
    """OCTAVES×64: the deviation of every coefficient for white noise of deviation 1."""
    lengths = [np.sqrt((basis_on_picture(octave) ** 2).sum(axis=1)) for octave in range(OCTAVES)]
    return np.array([np.outer(length, length).ravel() for length in lengths])


@nb.njit(nogil=True, cache=True)
def halved(plane):  # type: ignore[no-untyped-def]
    """Half the size, each way low-passed with `HALVING`; sides must be even."""
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


def quartered(plane: Array) -> Array:
    """Mean of each 2×2 pixels."""
    quarter: Array = (plane[::2, ::2] + plane[1::2, ::2] + plane[::2, 1::2] + plane[1::2, 1::2]) / np.float32(4)
    return quarter
