"""The bases that noise is described in: 8×8 DCT blocks on the picture, on its half, and on its quarter."""

from __future__ import annotations

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
