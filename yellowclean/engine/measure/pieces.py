"""Square pieces of a picture, and the spectrum of each."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import scipy

from ..frames import Array

Mask = npt.NDArray[np.bool_]


class Spectra(NamedTuple):
    """Of N pieces: the power of each of their frequencies (N×side×(side/2+1), see `frequencies`), and how much of
    it white noise adds (N)."""

    power: Array
    noise: Array


def spectra(light: Array, sigma: Array, clipped: Mask, side: int, step: int) -> Spectra:
    """The pieces, so many pixels a side and so many apart, of a plane of linear light, H×W, of noise `sigma` (same
    shape), in which nothing is `clipped`: what is cut off has edges of its own."""
    whole = ~_pieces(clipped, side, step).any(axis=(1, 2))
    pieces = _pieces(light, side, step)[whole]
    wave = np.sin(np.pi * (np.arange(side, dtype=np.float32) + 0.5) / side) ** 2
    bell = np.outer(wave, wave)
    spectrum = scipy.fft.rfft2((pieces - pieces.mean(axis=(1, 2), keepdims=True)) * bell)
    noise = (_pieces(sigma, side, step)[whole] ** 2).mean(axis=(1, 2)) * (bell**2).sum()
    return Spectra(spectrum.real**2 + spectrum.imag**2, noise)


def frequencies(side: int) -> tuple[Array, Array]:
    """Cycles a pixel, down and across, of the transform of a piece."""
    return np.fft.fftfreq(side)[:, None], np.fft.rfftfreq(side)[None]


def ring_numbers(side: int, rings: int) -> npt.NDArray[np.intp]:
    """Which ring each of them belongs to, of so many up to a cycle a pixel."""
    return np.rint(np.hypot(*frequencies(side)) * rings).astype(np.intp)


def _pieces(plane: npt.NDArray[Any], side: int, step: int) -> npt.NDArray[Any]:
    """The whole pieces of a plane: N×side×side."""
    if min(plane.shape) < side:
        return np.empty((0, side, side), plane.dtype)
    every = np.lib.stride_tricks.sliding_window_view(plane, (side, side))
    return every[::step, ::step].reshape(-1, side, side)
