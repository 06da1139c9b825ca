"""Resampling by a kernel each way: every pixel of the result is a weighed mean of those around its place.

Kernels after Keys 1981 (Catmull-Rom), Mitchell and Netravali 1988, Duchon 1979 (Lanczos); where a picture becomes
smaller, they are as much wider.
"""

from __future__ import annotations

from collections.abc import Callable

import numba as nb
import numpy as np
import numpy.typing as npt

from ..frames import Array, Region
from ..parallel import in_bands
from ..simd import COUNT, load, spread, store
from ..simd import unsigned as _u

Taps = tuple[npt.NDArray[np.int64], Array]
"""Of every pixel along one side: the pixels that it is made of, and their weights, N×taps."""


def _cubic(b: float, c: float) -> Callable[[Array], Array]:
    """The family of Mitchell and Netravali."""

    def weights(t: Array) -> Array:
        near = (12 - 9 * b - 6 * c) * t**3 + (-18 + 12 * b + 6 * c) * t**2 + 6 - 2 * b
        far = (-b - 6 * c) * t**3 + (6 * b + 30 * c) * t**2 + (-12 * b - 48 * c) * t + 8 * b + 24 * c
        return np.where(t < 1, near, np.where(t < 2, far, 0)) / 6

    return weights


KERNELS: dict[str, tuple[float, Callable[[Array], Array]]] = {
    "lanczos3": (3, lambda t: np.where(t < 3, np.sinc(t) * np.sinc(t / 3), 0)),
    "catmull-rom": (2, _cubic(0, 0.5)),
    "mitchell": (2, _cubic(1 / 3, 1 / 3)),
    "triangle": (1, lambda t: np.maximum(1 - t, 0)),
}
"""How far each reaches, in pixels of the smaller picture, and its weights over the distance."""


def resampled(
    picture: Array, place: Region, given: tuple[int, int], wanted: Region, handed: tuple[int, int], kernel: str
) -> Array:
    """The part `wanted` of a frame resampled from the size `given` to `handed` (width, height): H×W×C float32.
    `picture` (H×W×C) is what lies over `place` of the frame; beyond it, its rim goes on. Weights go by the place in
    the whole frame, so that a region comes out as in the whole, bit for bit."""
    picture = np.ascontiguousarray(picture, np.float32)
    short = -(-COUNT // picture.shape[2]) - picture.shape[1]
    if short > 0:  # lines are worked on sixteen numbers at a time
        picture = np.pad(picture, ((0, 0), (0, short), (0, 0)), "edge")
    columns = _taps(kernel, (given[0], place.x, place.width), (handed[0], wanted.x, wanted.width))
    rows = _taps(kernel, (given[1], place.y, place.height), (handed[1], wanted.y, wanted.height))
    out = np.empty((wanted.height, wanted.width, picture.shape[2]), np.float32)
    in_bands(wanted.height, lambda a, b: _resampled_rows(picture, *rows, *columns, out, a, b), least=8)
    return out


def _taps(kernel: str, given: tuple[int, int, int], handed: tuple[int, int, int]) -> Taps:
    """Along one side, of which each is told as the frame's length, where the part begins, and its length."""
    radius, weigh = KERNELS[kernel]
    ratio = handed[0] / given[0]
    narrow = min(ratio, 1.0)
    middle = (np.arange(handed[2]) + (handed[1] + 0.5)) / ratio - 0.5
    first = np.ceil(middle - radius / narrow).astype(np.int64)
    at = first[:, None] + np.arange(int(2 * radius / narrow) + 1)
    weights = weigh(np.abs(at - middle[:, None]) * narrow)
    weights /= weights.sum(axis=1, keepdims=True)
    return np.clip(at - given[1], 0, given[2] - 1), weights.astype(np.float32)


@nb.njit(nogil=True, cache=True)
def _resampled_rows(picture, rows, down, columns, across, out, first, end):  # type: ignore[no-untyped-def]
    channels = picture.shape[2]
    long = picture.shape[1] * channels
    line = np.empty(long, np.float32)
    for y in range(first, end):
        for k in range(0, long, COUNT):
            x = _u(min(k, long - COUNT))  # the last sixteen overlap
            total = spread(np.float32(0))
            for j in range(down.shape[1]):
                total = down[y, j] * load(picture, _u(rows[y, j] * long) + x) + total
            store(line, x, total)
        for x in range(_u(across.shape[0])):
            for c in range(_u(channels)):
                value = np.float32(0)
                for i in range(_u(across.shape[1])):
                    value += across[x, i] * line[_u(columns[x, i]) * _u(channels) + c]
                out[y, x, c] = value
