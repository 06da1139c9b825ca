"""Frames of a shot compared with their predecessors, block by block along the motion."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..frames import CV_SCALE, Array, Frame
from ..media import Source
from ..motion import flow, prepared
from .blocks import SIDE, Blocks, block_statistics

FAR = 5
"""Frames over which noise that a codec carries along has mostly been renewed."""

FROZEN_CV = 0.02
"""A typical difference below this is no noise of any camera: the frame was repeated."""


@dataclass(frozen=True, slots=True)
class Pair:
    """A frame, its predecessor, and where each block of it is found there."""

    n: int
    frame: Frame
    other: Frame | None
    shift: Array | None
    spatial: Blocks
    temporal: Blocks | None
    far: Array | None = None
    """Variance against a frame further away."""

    def variance(self) -> Array:
        """rows×columns×6: temporal where it can be had, else spatial."""
        if self.temporal is None:
            return self.spatial.variance
        return np.minimum(self.temporal.variance, self.spatial.variance * 4)


def pair_at(source: Source, n: int) -> Pair:
    if n == 0:
        frame = source.read(0)
        return Pair(n, frame, None, None, block_statistics(frame, source.info.clip_levels), None)
    # in the order of the frames, so that a decoder seeks once
    distant = None if source.info.intra_only or n < FAR else source.read(n - FAR)
    other, frame = source.read(n - 1), source.read(n)
    shift = block_shifts(frame, other)
    limits = source.info.clip_levels
    spatial, temporal = block_statistics(frame, limits), block_statistics(frame, limits, other, shift)
    finite = np.isfinite(temporal.variance[..., 3])
    typical = np.median(temporal.variance[finite][:, 3]) if finite.any() else 0.0
    repeated = typical < (FROZEN_CV / CV_SCALE) ** 2
    if repeated:
        return Pair(n, frame, other, shift, spatial, None)
    if distant is None and not source.info.intra_only:
        distant = source.read(min(n + FAR, source.info.frames - 1))
    far = None
    if distant is not None:
        far = block_statistics(frame, limits, distant, block_shifts(frame, distant)).variance
    return Pair(n, frame, other, shift, spatial, temporal, far)


def block_shifts(frame: Frame, other: Frame) -> Array:
    """Whole-pixel motion at each block's centre."""
    found = flow(prepared(frame), prepared(other), frame.shape[1])
    rows, columns = frame.shape[0] // SIDE, frame.shape[1] // SIDE
    centres_y = ((np.arange(rows) + 0.5) * SIDE / found.reduction).astype(int)
    centres_x = ((np.arange(columns) + 0.5) * SIDE / found.reduction).astype(int)
    height, width = found.vectors.shape[:2]
    rounded: Array = np.rint(found.vectors[np.minimum(centres_y, height - 1)][:, np.minimum(centres_x, width - 1)])
    return rounded
