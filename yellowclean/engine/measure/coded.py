"""How far a coded picture is off what was there before the noise and the codec, told block by block.

Frames that a codec predicts from one another share noise, and detail that it took is missing in all of them: no
comparison shows either. What can be seen tells of both all the same: how the power of a block, and of what it
differs by from a near and a far neighbour, falls with frequency, in luma and in colour. Small networks, whose mean
is taken, learned from drawn pictures, shot by the test camera and coded, how that goes with the deviation from the
truth (training/coded.py).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy

from ..colour.opponent import SIGNAL_MATRIX
from ..frames import CV_SCALE, Array, Frame
from ..learned import applied
from .blocks import SIDE, fractions

MOST = 600
"""Blocks of a frame that are looked at; of a larger frame every so many-th."""

HALF = SIDE // 2
"""A block's side in colour, which codecs mostly keep at half the size."""

BANDS = 1.5, 3.0, 6.0, 11.0
"""Where bands of frequency begin, in half periods to a block; what is lower may be the picture's shading."""

FLOOR_CV = 0.1
"""Deviation that is added to all, so that nothing is not infinitely less than little."""

SLOWEST_PX, DARKEST_CV, TYPICAL_CV = 0.1, 4.0, 100.0
"""Motion that is added to all, and the least level, for the same reason; and the level whose logarithm is none."""

FEATURES = 3 * (len(BANDS) + 2 * (len(BANDS) - 1)) + 2
"""Numbers that are seen of a block: bands of itself and of two differences, level and motion."""


class Traces(NamedTuple):
    """Blocks of a frame: where they lie (N×2, row and column), and what is seen of them, N×FEATURES: logarithms of
    deviations in CV, of the level, and of the motion in pixels a frame."""

    place: npt.NDArray[np.intp]
    seen: Array

    def without(self, left_out: npt.NDArray[np.bool_]) -> Traces:
        """Those of other blocks than some (rows×columns)."""
        kept = ~left_out[*self.place.T]
        return Traces(self.place[kept], self.seen[kept])


def traces(
    frame: Frame, compared: Sequence[tuple[Frame, Array]], usable: npt.NDArray[np.bool_], length: Array
) -> Traces:
    """What is seen of blocks of a frame. `compared` are a near and a far neighbour, each with the whole-pixel shift
    of every block (rows×columns×2); `usable` tells which blocks lie inside both, `length` their motion."""
    place = np.argwhere(usable)
    place = place[:: max(-(-len(place) // MOST), 1)]
    if not len(place):
        return Traces(place, np.empty((0, FEATURES), np.float32))
    here = _cut(frame, place, np.zeros((len(place), 2), int))
    deviations = [_by_band(here)]
    for other, shift in compared:
        moved = shift[*place.T].astype(int)
        there = _cut(other, place, moved)
        deviations.append(_by_band(_difference(here, there, fractions(frame, other, place, moved))))
    level = np.maximum(here[:, 0].mean(axis=(1, 2)) * CV_SCALE, DARKEST_CV) / TYPICAL_CV
    beside = np.log(np.stack([level, length[*place.T] + SLOWEST_PX], axis=1))
    return Traces(place, np.concatenate([*deviations, beside], axis=1).astype(np.float32))


def off_truth(seen: Array) -> Array:
    """The deviation of blocks from what was there before noise and codec, N×6 in frame units, by the median."""
    told = applied("coded", np.ascontiguousarray(seen.T[:, None]), reach=0)[:, 0].T
    sigma: Array = np.exp(told) / np.float32(CV_SCALE)
    return sigma


def _cut(frame: Frame, place: npt.NDArray[np.intp], shift: npt.NDArray[np.intp]) -> Array:
    """Luma and colour differences of blocks, N×3×SIDE×SIDE."""
    windows = np.lib.stride_tricks.sliding_window_view(frame, (SIDE, SIDE), axis=(0, 1))
    rgb = windows[place[:, 0] * SIDE + shift[:, 1], place[:, 1] * SIDE + shift[:, 0]]
    signals: Array = np.einsum("sc,ncyx->nsyx", SIGNAL_MATRIX[3:].astype(np.float32), rgb)
    return signals


def _difference(here: Array, there: Array, off: Array) -> Array:
    """What blocks differ by, over √2, without the part of a pixel (N×2: x, y) by which their shift is off."""
    down, across = (np.gradient((here + there) / 2, axis=axis) for axis in (2, 3))
    right, below = (part[:, None, None, None] for part in off.T)
    left: Array = (here - there - right * across - below * down) / np.float32(np.sqrt(2))
    return left


def _by_band(signals: Array) -> Array:
    """Logarithms of the deviation in CV by band of frequency, of luma and of both colours at half the size."""
    halved = signals[:, 1:].reshape(len(signals), 2, HALF, 2, HALF, 2).mean(axis=(3, 5))
    powers = [_powers(signals[:, 0], BANDS), *(_powers(halved[:, k], BANDS[:-1]) for k in range(2))]
    logarithms: Array = np.log(np.concatenate(powers, axis=1) * CV_SCALE**2 + FLOOR_CV**2) / 2
    return logarithms


def _powers(blocks: Array, bands: tuple[float, ...]) -> Array:
    """Mean power of the coefficients of each band, N×bands."""
    power = scipy.fft.dctn(blocks, axes=(1, 2), norm="ortho") ** 2
    at = np.hypot(*np.meshgrid(*2 * [np.arange(blocks.shape[1])]))
    edges = [*bands, np.inf]
    found: Array = np.stack(
        [power[:, (at > low) & (at <= high)].mean(axis=1) for low, high in itertools.pairwise(edges)],
        axis=1,
    )
    return found
