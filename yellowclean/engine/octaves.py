"""The bases that noise is described in: 8×8 DCT blocks on the picture, on its half, and on its quarter."""

from __future__ import annotations

import numba as nb
import numpy as np

from .frames import Array
from .parallel import in_bands
from .simd import unsigned as _u

OCTAVES = 3
"""Fine, medium and coarse: the picture itself, halved, and halved again."""

BLOCK = 8
"""Side of the DCT blocks in which spectra are kept."""


def dct(side: int) -> Array:
    """Orthonormal DCT-II of so many points: rows are frequencies."""
    k = np.arange(side)
    basis: Array = (np.cos(np.pi * (2 * k + 1) * k[:, None] / (2 * side)) * np.sqrt(2 / side)).astype(np.float32)
    basis[0] /= np.sqrt(2, dtype=np.float32)
    return basis


DCT = dct(BLOCK)

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


def halved(plane: Array) -> Array:
    """Half the size, each way low-passed with `HALVING`; sides must be even."""
    out = np.empty((plane.shape[0] // 2, plane.shape[1] // 2), np.float32)
    in_bands(len(out), lambda a, b: _halved_rows(plane, out, a, b))
    return out


def doubled(plane: Array) -> Array:
    """Twice the size, bilinear: the transpose of a two-tap version of `halved`."""
    out = np.empty((2 * plane.shape[0], 2 * plane.shape[1]), np.float32)
    in_bands(len(plane), lambda a, b: _doubled_rows(plane, out, a, b))
    return out


@nb.njit(nogil=True, cache=True)
def _halved_rows(plane, out, first, end):  # type: ignore[no-untyped-def]
    height, width = plane.shape
    tall = np.empty(width, np.float32)
    for y in range(first, end):
        here, above, below = _u(2 * y), _u(max(2 * y - 1, 0)), _u(min(2 * y + 2, height - 1))
        for x in range(_u(width)):
            middle = plane[here, x] + plane[here + _u(1), x]
            tall[x] = (plane[above, x] + plane[below, x] + 3 * middle) * np.float32(0.125)
        for x in range(width // 2):
            a = tall[max(2 * x - 1, 0)] + tall[min(2 * x + 2, width - 1)]
            out[y, x] = (a + 3 * (tall[2 * x] + tall[2 * x + 1])) * np.float32(0.125)


@nb.njit(nogil=True, cache=True)
def _doubled_rows(plane, out, first, end):  # type: ignore[no-untyped-def]
    """Rows 2·first to 2·end of the result."""
    height, width = plane.shape
    tall = np.empty(width, np.float32)
    near, far = np.float32(0.75), np.float32(0.25)
    for y in range(first, end):
        for k in range(2):
            beside = _u(max(y - 1, 0) if k == 0 else min(y + 1, height - 1))
            for x in range(_u(width)):
                tall[x] = near * plane[_u(y), x] + far * plane[beside, x]
            for x in range(width):
                out[2 * y + k, 2 * x] = near * tall[x] + far * tall[max(x - 1, 0)]
                out[2 * y + k, 2 * x + 1] = near * tall[x] + far * tall[min(x + 1, width - 1)]


def quartered(plane: Array) -> Array:
    """Mean of each 2×2 pixels."""
    quarter: Array = (plane[::2, ::2] + plane[1::2, ::2] + plane[::2, 1::2] + plane[1::2, 1::2]) / np.float32(4)
    return quarter
