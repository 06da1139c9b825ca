"""Pixels as boxes of light: a picture through larger ones, and what they show laid back over finer ones."""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

import numba as nb
import numpy as np
import numpy.typing as npt

from ..frames import Array
from ..parallel import in_bands

TABLES = 16
"""Tables that are kept: a render asks for the same few again, a region that is dragged for ever new ones."""


class Boxes(NamedTuple):
    """For each sample of a row or column: the first sample of the other size that it overlaps, and the share of
    each from there on (n×k, adding up to 1)."""

    first: npt.NDArray[np.int64]
    share: Array


@lru_cache(TABLES)
def larger_pixels(count: int, times: Fraction) -> Boxes:
    """Of `count` pixels, each `times` as wide as those that it covers."""
    edges = [n * times for n in range(count + 1)]
    return _overlaps(edges, [Fraction(k) for k in range(int(edges[-1]) + 1)])


@lru_cache(TABLES)
def finer_pixels(count: int, times: Fraction) -> Boxes:
    """Of `count` pixels, each the `times`-th part as wide as those that it lies in."""
    return _overlaps([n / times for n in range(count + 1)], [Fraction(k) for k in range(int(count / times) + 1)])


def _overlaps(edges: list[Fraction], others: list[Fraction]) -> Boxes:
    first = [int(a // 1) for a in edges[:-1]]
    most = max(int(-(-b // 1)) - f for f, b in zip(first, edges[1:], strict=True))
    first = [min(f, len(others) - 1 - most) for f in first]
    shares = np.zeros((len(first), most), np.float32)
    for n, (a, b) in enumerate(pairwise(edges)):
        for k in range(most):
            shares[n, k] = max(float(min(b, others[first[n] + k + 1]) - max(a, others[first[n] + k])), 0) / (b - a)
    return Boxes(np.array(first), shares)


def through(picture: Array, rows: Boxes, columns: Boxes) -> Array:
    """A picture, H×W×C, in pixels of another width and height: the mean of what each of them overlaps."""
    made = np.empty((len(rows.first), len(columns.first), picture.shape[2]), np.float32)
    source = np.ascontiguousarray(picture, np.float32)
    in_bands(len(made), lambda a, b: _weighed(source, *rows, *columns, made, a, b))
    return made


@nb.njit(nogil=True, cache=True)
def _weighed(source, top, down, left, across, made, first, end):  # type: ignore[no-untyped-def]
    channels = source.shape[2]
    line = np.empty((source.shape[1], channels), np.float32)
    for y in range(first, end):
        line[:] = 0
        for i in range(down.shape[1]):
            share = down[y, i]
            if share:
                for x in range(source.shape[1]):
                    for c in range(channels):
                        line[x, c] += share * source[top[y] + i, x, c]
        for x in range(made.shape[1]):
            for c in range(channels):
                total = np.float32(0)
                for j in range(across.shape[1]):
                    total += across[x, j] * line[left[x] + j, c]
                made[y, x, c] = total
