"""Dither: what is added before values are rounded to fewer bits, so that a mean between two codes stays there.

Blue noise by void and cluster (Ulichney, "The void-and-cluster method for dither array generation", 1993), whose
pattern the eye sees least, shaped to a triangle of one code to each side, which leaves neither mean nor spread of
the rounding to depend on the value (Lipshitz, Wannamaker, Vanderkooy 1992).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numpy as np
import numpy.typing as npt

from ..frames import Array

SIDE, SEED, SPREAD = 64, 13, 1.5
"""Pixels of the pattern, where its first points come from, and the deviation in pixels that tells crowding."""

FIRST_SHARE = 0.1
"""Part of the pattern that is set before points are added one by one."""

STRIDES = 0.7548776662466927, 0.5698402909980532
"""By which the pattern moves from frame to frame: multiples of them fill a square evenly (Roberts 2018)."""

How = Literal["moving", "still", "none"]


@dataclass(frozen=True, slots=True)
class Dither:
    """For frame `n`: the same pattern in all frames, or one that `moving` shifts from each to the next. `where`
    (H×W) says which pixels it is for; None for all."""

    n: int
    moving: bool = True
    where: npt.NDArray[np.bool_] | None = None

    def turned(self, quarters: int) -> Dither:
        """For a picture that is stored turned counter-clockwise."""
        if self.where is None or not quarters:
            return self
        return Dither(self.n, self.moving, np.rot90(self.where, quarters))

    def on(self, codes: Array, most: float, plane: int = 0) -> Array:
        """A plane in codes from 0 to `most`, unrounded, with dither; `plane` 1 and 2 have a pattern of their own.
        No value is moved across an end of the range."""
        across, down = (int(SIDE * (share * (self.n * self.moving + 0.37 * plane) % 1)) for share in STRIDES)
        rows, columns = (np.arange(size) + start for size, start in zip(codes.shape, (down, across), strict=True))
        pattern = triangular()[np.ix_(rows % SIDE, columns % SIDE)]
        room = np.clip(np.minimum(codes, most - codes), 0, 1)
        added: Array = codes + pattern * room
        if self.where is None:
            return added
        ratio = [-(-full // part) for full, part in zip(self.where.shape, codes.shape, strict=True)]
        here = self.where[:: ratio[0], :: ratio[1]]
        return np.where(here, added, codes).astype(np.float32)


@lru_cache(1)
def triangular() -> Array:
    """SIDE×SIDE offsets between -1 and 1 code, of triangular distribution and mean 0."""
    even = (ranks() + 0.5) / SIDE**2
    shaped = np.where(even < 0.5, np.sqrt(2 * even) - 1, 1 - np.sqrt(2 * (1 - even)))
    return shaped.astype(np.float32)


@lru_cache(1)
def ranks() -> npt.NDArray[np.int64]:
    """SIDE×SIDE numbers from 0 on, each once: the order in which points fill the square most evenly."""
    bits = _settled()
    rank = np.zeros((SIDE, SIDE), np.int64)
    first = int(bits.sum())
    taken, crowd = bits.copy(), _crowding(bits)
    for k in reversed(range(first)):  # the first points, the most crowded last
        spot = _most(np.where(taken, crowd, -np.inf))
        rank[spot], taken[spot] = k, False
        crowd -= _lump(spot)
    crowd = _crowding(bits)
    for k in range(first, SIDE * SIDE):  # the others, each into the largest void
        spot = _most(np.where(bits, -np.inf, -crowd))
        rank[spot], bits[spot] = k, True
        crowd += _lump(spot)
    return rank


def _settled() -> npt.NDArray[np.bool_]:
    """The first points: by chance, then the most crowded moved into the largest void until that is where it was."""
    rng = np.random.default_rng(SEED)
    bits = np.zeros((SIDE, SIDE), bool)
    bits.flat[rng.choice(SIDE * SIDE, int(FIRST_SHARE * SIDE * SIDE), replace=False)] = True
    crowd = _crowding(bits)
    while True:
        cluster = _most(np.where(bits, crowd, -np.inf))
        bits[cluster] = False
        crowd -= _lump(cluster)
        void = _most(np.where(bits, -np.inf, -crowd))
        bits[void] = True
        crowd += _lump(void)
        if void == cluster:
            return bits


def _most(values: Array) -> tuple[int, int]:
    y, x = divmod(int(values.argmax()), SIDE)
    return y, x


@lru_cache(1)
def _bell() -> Array:
    """How much a point at (0, 0) crowds each place of the square, which repeats."""
    away = np.minimum(np.arange(SIDE), SIDE - np.arange(SIDE))
    bell: Array = np.exp(-(away[:, None] ** 2 + away**2) / (2 * SPREAD**2))
    return bell


def _lump(spot: tuple[int, int]) -> Array:
    return np.roll(_bell(), spot, (0, 1))


def _crowding(bits: npt.NDArray[np.bool_]) -> Array:
    crowd: Array = np.fft.ifft2(np.fft.fft2(bits) * np.fft.fft2(_bell())).real
    return crowd
