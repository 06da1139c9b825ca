"""The spectrum of noise: the deviation of every 8×8 DCT coefficient, for each axis and octave."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..frames import Array
from ..noise.field import PAIRS
from ..octaves import BLOCK, DCT, OCTAVES, halved

TILE = 32
"""Pixels of the fine picture that make one block at the coarsest octave."""

MARGIN = 8
"""Extra pixels around a tile so that the filters between octaves see real neighbours."""

GAUSS_MAD = 0.6744898
"""Median of |x| of a unit normal distribution."""


GAUSS_MEAN = 0.7978846
"""Mean of |x| of the same."""

STRAY = 4.0


@dataclass
class SpectrumGatherer:
    """Collects coefficients of noise tiles; each tile is 3×(TILE+2·MARGIN)² of stabilised opponent noise."""

    coefficients: list[list[Array]] = field(default_factory=lambda: [[] for _ in range(OCTAVES)])
    products: list[Array] = field(default_factory=list)

    def add(self, tile: Array) -> None:
        inner = tile[:, MARGIN:-MARGIN, MARGIN:-MARGIN].reshape(3, -1)
        self.products.append(inner @ inner.T / inner.shape[1])
        planes, margin = [np.ascontiguousarray(axis, np.float32) for axis in tile], MARGIN
        for octave in range(OCTAVES):
            cut = np.stack([p[margin : p.shape[0] - margin, margin : p.shape[1] - margin] for p in planes])
            self.coefficients[octave].append(block_dct(cut))
            planes, margin = [halved(p) for p in planes], margin // 2

    def __len__(self) -> int:
        return len(self.products)

    def spectrum(self, *, uneven: bool = False) -> Array:
        """3×OCTAVES×64 deviations, by the median of magnitudes so that stray detail does not count. `uneven` is for
        what a codec left: nought in many blocks and more in others, of which the median tells too little. Its
        power is taken whole, each coefficient up to `STRAY` times its deviation."""
        found = np.ones((3, OCTAVES, BLOCK * BLOCK), np.float32)
        for octave, parts in enumerate(self.coefficients):
            blocks = np.concatenate(parts, axis=1)
            found[:, octave] = _uneven(blocks) if uneven else np.median(np.abs(blocks), axis=1) / GAUSS_MAD
        # a block's mean also holds what is left of the picture's own level: take its neighbours' word
        found[:, :, 0] = np.minimum(found[:, :, 0], (found[:, :, 1] + found[:, :, BLOCK]) * 0.6)
        return found

    def coherence(self) -> Array:
        """3×OCTAVES×64 correlations of the axes (0 and 1, 0 and 2, 1 and 2) in each coefficient."""
        found = np.zeros((3, OCTAVES, BLOCK * BLOCK), np.float32)
        for octave, parts in enumerate(self.coefficients):
            blocks = np.concatenate(parts, axis=1)
            most = _most(np.abs(blocks))
            held = np.clip(blocks, -most, most)
            power = (held**2).mean(axis=1)
            for pair, (i, j) in enumerate(PAIRS):
                both = np.sqrt(np.maximum(power[i] * power[j], 1e-20))
                found[pair, octave] = (held[i] * held[j]).mean(axis=0) / both
        return np.clip(found, -1, 1)

    def covariance(self) -> Array:
        """3×3 covariance of the opponent axes."""
        matrix: Array = np.median(np.array(self.products), axis=0)
        return matrix


def _uneven(blocks: Array) -> Array:
    """Axes×64 deviations of axes × blocks × 64 coefficients."""
    magnitude = np.abs(blocks)
    deviation: Array = np.sqrt((np.minimum(magnitude, _most(magnitude)) ** 2).mean(axis=1))
    return deviation


def _most(magnitude: Array) -> Array:
    """Beyond which a coefficient is taken for stray detail."""
    most: Array = STRAY * magnitude.mean(axis=1, keepdims=True) / GAUSS_MEAN
    return most


def block_dct(planes: Array) -> Array:
    """8×8 DCT of the whole blocks of K planes: K × blocks × 64."""
    count, height, width = planes.shape
    rows, columns = height // BLOCK, width // BLOCK
    cut = planes[:, : rows * BLOCK, : columns * BLOCK]
    blocks = cut.reshape(count, rows, BLOCK, columns, BLOCK).transpose(0, 1, 3, 2, 4)
    coefficients: Array = DCT @ blocks @ DCT.T
    return coefficients.reshape(count, rows * columns, BLOCK * BLOCK)


def grain_size(spectrum: Array) -> float:
    """Side in pixels of the square over which noise hangs together; 1 for white noise.

    The square root of (power at low frequencies / mean power), from luma's finest octave.
    """
    power = np.asarray(spectrum, np.float64)[0, 0] ** 2
    low = power[[1, 8, 9]].mean()
    return float(np.sqrt(low / max(power[1:].mean(), 1e-12)))


def channel_correlation(axes: Array, covariance: Array) -> Array:
    """3×3 correlation of the channels, for a covariance of their opponent `axes`."""
    channels = axes.T @ covariance @ axes
    deviation = np.sqrt(np.maximum(np.diag(channels), 0))
    scale = np.outer(deviation, deviation)
    correlation = np.divide(channels, scale, out=np.eye(3, dtype=channels.dtype), where=scale > 0)
    clipped: Array = np.clip(correlation, -1, 1)
    return clipped
