"""Frames of a shot compared with earlier ones, block by block along the motion.

Of the frames just before, the one is taken whose motion comes nearest to moving the picture by whole
periods of a colour filter: false detail of demosaicing then moves along and falls out of the difference.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array, Frame, StopCheck, luma, never, raise_if
from ..media import Source
from ..motion import flow, prepared
from .blocks import MOST_CLIPPED, SIDE, Blocks, block_statistics
from .coded import Traces, traces
from .false_colour import false_colour

FAR = 5
"""Frames over which noise that a codec carries along has mostly been renewed."""

FROZEN_CV = 0.02
"""A typical difference below this is no noise of any camera: the frame was repeated."""


PLATEAUS = 0.75
"""Share of equal neighbours from which a block is made of plateaus: noise of a quarter of a code leaves fewer."""

CANDIDATES = 3
"""Frames before a frame of which one is compared with it."""

PHASE = 2
"""Pixels after which a colour filter repeats: moved by so many, a picture demosaics as it did before."""


@dataclass(frozen=True, slots=True)
class Motion:
    """Whole-pixel motion at each block's centre, its real length in pixels a frame, and how far (pixels) it
    is from keeping the colour filter's phase."""

    shift: Array
    length: Array
    off_phase: Array


@dataclass(frozen=True, slots=True)
class Far:
    """A frame that is so far away that noise has mostly been renewed: its number, where each block is found
    there, the comparison with it, and what this and a near one tell of the codec."""

    other: int
    motion: Motion
    blocks: Blocks
    traces: Traces


@dataclass(frozen=True, slots=True)
class Pair:
    """A frame, one before it (`other`, by its number), and where each block of it is found there. The frames
    themselves are not kept."""

    n: int
    other: int | None
    motion: Motion | None
    spatial: Blocks
    temporal: Blocks | None
    far: Far | None = None
    """The same frame compared with one further away, where a codec may have carried noise along."""

    def longer(self) -> Pair:
        """The same frame compared over the longer distance."""
        if self.far is None:
            return self
        return Pair(self.n, self.far.other, self.far.motion, self.spatial, self.far.blocks)

    def variance(self) -> Array:
        """rows×columns×6: temporal where it can be had, else spatial."""
        if self.temporal is None:
            return self.spatial.variance
        return np.minimum(self.temporal.variance, self.spatial.variance * 4)

    def exposure(self) -> Array:
        """rows×columns: how much of a block's variance may be the picture's: its fine detail, in so far as
        motion moves that over the pixels and the colour filter."""
        if self.temporal is None or self.motion is None:
            return self.spatial.detail
        return self.temporal.detail * np.maximum(self.motion.off_phase, LEAST_EXPOSED)


LEAST_EXPOSED = 0.05
"""Of a pixel: motion is not known better."""

LEFT_OVER, OF_ALL = 50, 0.1
"""Blocks without false colour, in all frames, from which the others are left out; of small pictures that part of
all."""


def pairs_at(source: Source, frames: Sequence[int], stopped: StopCheck = never) -> list[Pair]:
    """These frames and what they are compared with. Where false colour boils on fine threads, no noise is told from
    it, nor beside it, unless there is nearly nothing else."""
    pairs, boiling = list[Pair](), list[npt.NDArray[np.uint8]]()
    for n in frames:
        raise_if(stopped)
        pair, frame = _compared(source, n)
        rows, columns = pair.spatial.level.shape[:2]
        pairs.append(pair)
        boiling.append(false_colour(frame).inside[:rows, :columns].astype(np.uint8))
    least = min(LEFT_OVER, OF_ALL * sum(boils.size for boils in boiling))
    for beside in (3, 1):
        around = np.ones((beside, beside), np.uint8)
        left_out = [cv2.dilate(boils, around) > 0 if boils.size else boils > 0 for boils in boiling]
        if sum(int((~blocks).sum()) for blocks in left_out) >= least:
            return [_without(pair, blocks) for pair, blocks in zip(pairs, left_out, strict=True)]
    return pairs


def _without(pair: Pair, left_out: npt.NDArray[np.bool_]) -> Pair:
    if not left_out.any():
        return pair

    def but(blocks: Blocks) -> Blocks:
        return replace(blocks, variance=np.where(left_out[..., None], np.float32(np.inf), blocks.variance))

    return replace(
        pair, spatial=but(pair.spatial), temporal=pair.temporal and but(pair.temporal),
        far=pair.far and replace(pair.far, blocks=but(pair.far.blocks), traces=pair.far.traces.without(left_out)),
    )  # fmt: skip


def _compared(source: Source, n: int) -> tuple[Pair, Frame]:
    if n == 0:
        frame = source.read(0)
        blocks = block_statistics(frame, source.info.clip_levels)
        return Pair(n, None, None, _without_bands(blocks, frame), None), frame
    predicted, lossy = not source.info.intra_only, source.info.lossy
    # in the order of the frames, so that a decoder seeks once
    away = n - FAR if n >= FAR else min(n + FAR, source.info.frames - 1)
    distant = source.read(away) if lossy and away < n else None
    before = {k: source.read(k) for k in range(n - 1 if predicted else max(n - CANDIDATES, 0), n)}
    frame = source.read(n)
    motions = {k: block_motion(frame, other, n - k) for k, other in before.items()}
    steadiest = min(reversed(motions), key=lambda k: float(np.median(motions[k].off_phase)))
    motion = motions[steadiest]
    limits = source.info.clip_levels
    spatial, temporal = (
        block_statistics(frame, limits),
        block_statistics(frame, limits, before[steadiest], motion.shift),
    )
    finite = np.isfinite(temporal.variance[..., 3])
    typical = np.median(temporal.variance[finite][:, 3]) if finite.any() else 0.0
    repeated = typical < (FROZEN_CV / CV_SCALE) ** 2
    if repeated:
        return Pair(n, steadiest, motion, _without_bands(spatial, frame), None), frame
    far = None
    if lossy and abs(away - n) > 1:
        distant = source.read(away) if distant is None else distant
        there = block_motion(frame, distant, abs(away - n))
        blocks = block_statistics(frame, limits, distant, there.shift)
        usable = np.isfinite(temporal.variance + blocks.variance).all(axis=2) & (spatial.cut() <= MOST_CLIPPED)
        compared = (before[steadiest], motion.shift), (distant, there.shift)
        far = Far(away, there, blocks, traces(frame, compared, usable, motion.length))
    return Pair(n, steadiest, motion, spatial, temporal, far), frame


def _without_bands(blocks: Blocks, frame: Frame) -> Blocks:
    """Spatial statistics in which blocks made of plateaus hold no noise: where most neighbours are equal, what
    varies is the steps of a coarse quantiser."""
    plane = luma(frame)
    rows, columns = blocks.level.shape[:2]
    equal = np.zeros((rows, columns))
    for axis in (0, 1):
        same = np.abs(np.diff(plane, axis=axis, append=np.float32(np.inf))) < FROZEN_CV / CV_SCALE
        cut = same[: rows * SIDE, : columns * SIDE].reshape(rows, SIDE, columns, SIDE)
        equal += cut.mean(axis=(1, 3)) / 2
    return replace(blocks, variance=np.where((equal > PLATEAUS)[..., None], np.float32(0), blocks.variance))


def block_motion(frame: Frame, other: Frame, apart: int) -> Motion:
    """Motion at each block's centre to a frame that is `apart` frames away."""
    found = flow(prepared(frame), prepared(other), frame.shape[1])
    rows, columns = frame.shape[0] // SIDE, frame.shape[1] // SIDE
    centres_y = ((np.arange(rows) + 0.5) * SIDE / found.reduction).astype(int)
    centres_x = ((np.arange(columns) + 0.5) * SIDE / found.reduction).astype(int)
    height, width = found.vectors.shape[:2]
    vectors = found.vectors[np.minimum(centres_y, height - 1)][:, np.minimum(centres_x, width - 1)]
    off_phase = np.abs(vectors - PHASE * np.rint(vectors / PHASE)).max(axis=-1)
    return Motion(np.rint(vectors), np.hypot(vectors[..., 0], vectors[..., 1]) / apart, off_phase)
