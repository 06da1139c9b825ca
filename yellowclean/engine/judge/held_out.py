"""What frames that a plan did not look at say of its error.

A neighbour that took no part in a result is a second look at the same picture with other noise (after the idea
of Lehtinen et al. 2018, "Noise2Noise"). With y the source, r what was taken out, n the noise in y, and y' the
neighbour brought along the motion, E[r·(y - y')] = E[r·n], so that
E|n - r|² = E|n|² - 2 E[r·(y - y')] + E|r|². Nothing is said of how n is distributed: after a codec it is nought in
most coefficients and large in a few, and there Stein's estimate, which is right for normal noise, falls where the
error rises.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from ..footage import Footage
from ..frames import Array, Region
from ..motion import STANDS, Track
from ..pipeline import Pipeline
from ..treat.fetching import surely_fetched

AWAY, AWAY_STANDING = (6, 7), (12,)
"""Frames between a frame and those that it is held against: more than a plan looks at, and several, since a codec
deals differently with frames by their turn. Where the picture stands no motion can be missed, and of what is
carried along less is left after longer."""

PLACE = 7
"""Pixels a side of a place."""

FEWEST_COMPARED = 0.05
"""Share of the pixels below which a neighbour says nothing."""


@dataclass(frozen=True, slots=True)
class HeldOut:
    """The source less each held-out neighbour (axes×H×W, stabilised), and where that can be believed."""

    differences: tuple[tuple[Array, npt.NDArray[np.bool_]], ...]

    def explained(self, taken: Array) -> Array:
        """E[r·n] of each axis for what was taken out (axes×H×W)."""
        found = [(taken * difference)[:, sure].mean(axis=1) for difference, sure in self.differences]
        explained: Array = np.mean(found, axis=0)
        return explained

    def typical(self) -> float:
        """Mean square by which the first axis differs in a typical place of PLACE×PLACE pixels."""
        squares = [cv2.blur(difference[0] ** 2, (PLACE, PLACE))[sure] for difference, sure in self.differences]
        return float(np.mean([np.median(square) for square in squares]))

    def by_pixel(self) -> tuple[Array, npt.NDArray[np.bool_]]:
        """One difference for each pixel, the mean of those that can be believed there, and where any can."""
        count = np.sum([sure for _, sure in self.differences], axis=0)
        total = np.sum([difference * sure for difference, sure in self.differences], axis=0)
        return (total / np.maximum(count, 1)).astype(np.float32), count > 0


def held_out(source: Pipeline, n: int, region: Region) -> HeldOut | None:
    """What frame n of a source (as steps hand it on that only reshape) is held against, over a region; None where
    the shot is too short or moves too fast."""
    footage, around = source.footage, source.around
    lags = AWAY_STANDING if _stands(footage, n) else AWAY
    here = around.stabiliser.opponent(np.ascontiguousarray(source.frame(n, region)))
    piece = source.covered(region)
    place = np.array([piece.x, piece.y, piece.x, piece.y, source.format.width], np.float32)
    differences = []
    for other in sorted(n + turn * lag for lag in lags for turn in (-1, 1)):
        if not 0 <= other < footage.info.frames:
            continue
        there = around.stabiliser.opponent(source.frame(other))
        track = around.motion(n, other)
        moved, sure = surely_fetched(there, track, place, here.shape)
        if sure.mean() >= FEWEST_COMPARED:
            differences.append((here - moved, sure))
    return HeldOut(tuple(differences)) if differences else None


def _stands(footage: Footage, n: int) -> bool:
    """Whether the picture stands still over the longer distance, so far as the shot reaches."""
    others = [k for k in (n - AWAY_STANDING[-1], n + AWAY_STANDING[-1]) if 0 <= k < footage.info.frames]
    return bool(others) and all(_still(footage.motion(n, k)) >= STANDS for k in others)


def _still(track: Track) -> float:
    return float((track.field[..., :2] == 0).all(axis=-1).mean())
