"""The noise of a shot: sigma against level, spectrum, patches and a figure for every frame.

Blind measuring after the idea of frame differences along motion: a block and its motion-compensated
predecessor share their picture, so half the variance of their difference is noise, on brick as on
sky. Where a shot has one frame, or repeats frames, the variance about a plane of the flattest blocks
serves instead.

What motion leaves of the picture (fractions of a pixel, demosaicing that falls otherwise) only ever
adds variance, and adds it where there is fine detail. In each level bin a low quantile is therefore
read in groups of rising detail, and the line through them followed down to no detail at all.

A codec that predicts frames from frames carries noise along, so that neighbours share it and their
difference is too small. It shows where the picture is flattest: colour differs more over five frames
than over one. Then the longer distance is measured, at the median, since a codec deals out its own
error unevenly.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
import numpy.typing as npt

from ..colour.opponent import OPPONENT, SIGNALS
from ..errors import BadInput
from ..frames import CV_SCALE, Array, Frame, Progress, Region, StopCheck, luma, never, raise_if
from ..media import Source
from ..motion import flow, prepared
from ..treat.stabilise import Stabiliser
from .blocks import SIDE, Blocks, block_statistics
from .patch import LEAST_SIDE, Patch, PatchReading, measure_patch
from .profile import NoiseCurve, NoiseProfile, weighted_median, white_profile
from .spectrum import MARGIN, TILE, SpectrumGatherer, grain_size

SAMPLES = 6
"""Places in the clip at which a pair of frames is compared."""

FAR = 5
"""Frames over which noise that a codec carries along has mostly been renewed."""

BIN_CV = 16.0
LEAST_BLOCKS = 60
LEAST_GROUP = 30
DETAIL_GROUPS = 5
CURVE_POINTS = 33
QUANTILE, LOW_QUANTILE = 0.10, 0.02
Z_QUANTILE, Z_LOW = -1.2816, -2.0537
"""Normal quantiles of the two."""

SPREADS = 0.04, 0.08
"""Relative spread of the sigma of pure-noise blocks: white noise, and the coarsest that demosaicing makes."""

CARRIED = 1.12
"""Chroma differing this much more over `FAR` frames than over one is carried along by a codec (set on
test-camera clips: 1.3 to 2.0 after H.264, below 1.05 before)."""

FLATTEST = 0.25

MOST_CLIPPED = 0.01
"""Share of a block's pixels that may be cut off."""

ENOUGH_PIXELS = 1_000_000

LARGEST_OFFER, MOST_OFFERS, EVEN_SHARE = 128, 60, 0.1
"""Pixels a side, places tried, and the share of all places that is even enough, of a better patch."""

LUMA_ALONE = np.ones((1, 1), np.float32)

FLAT_QUANTILE = 0.10
Z_FLAT = -1.2816

FROZEN_CV = 0.02
"""A typical difference below this is no noise of any camera: the frame was repeated."""

TILES = 320


class Watcher(Protocol):
    """Whoever looks on while the frames pass in order."""

    def wants(self, n: int) -> bool:
        """Whether frame n is to be shown whole; else its luma is enough."""

    def show(self, n: int, plane: Array, frame: Frame | None, curve: NoiseCurve) -> None: ...


@dataclass(frozen=True, slots=True)
class NoiseReading:
    """A shot's noise: the profile, one luma figure a frame (CV), the patches, the worst frame."""

    profile: NoiseProfile
    by_frame_cv: list[float]
    patches: list[PatchReading]
    motion_px: float

    @property
    def noisiest(self) -> int:
        return int(np.argmax(self.by_frame_cv))


@dataclass(frozen=True, slots=True)
class _Pair:
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


def measure_noise(
    source: Source,
    patches: Sequence[Patch] = (),
    *,
    frames: range | None = None,
    progress: Progress | None = None,
    stopped: StopCheck = never,
    watcher: Watcher | None = None,
) -> NoiseReading:
    """Measure a shot blind, or with the word of user patches on top.

    `patches` that are flat pull the curve through their own sigmas. `frames` limits what is looked
    at. `watcher` is shown every frame in order, with the curve. Raises `BadInput` when a patch is
    unusable or nothing in the shot can be measured.
    """
    chosen = frames or range(source.info.frames)
    pairs: list[_Pair] = []
    for n in _sample_frames(chosen):
        raise_if(stopped)
        pairs.append(_pair(source, n))
    if progress:
        progress(0.2)
    curve, confidence = _curve(pairs)
    moved = any(pair.temporal is not None for pair in pairs)
    told = [_user_patch(source, patch, curve if moved else None) for patch in patches]
    if told:
        curve = _through_patches(curve, told)
    profile = _with_spectrum(curve, confidence, pairs, source)
    by_frame = _by_frame(source, chosen, pairs, curve, progress, stopped, watcher)
    worst = chosen[int(np.argmax(by_frame))]
    if not told:
        told = automatic_patches(source.read(worst), worst, curve, source.info.clip_levels)
    shifts = [np.hypot(p.shift[..., 0], p.shift[..., 1]) for p in pairs if p.shift is not None]
    motion_px = float(np.percentile(np.concatenate([s.ravel() for s in shifts]), 90)) if shifts else 0.0
    return NoiseReading(profile, by_frame, told, motion_px)


def _user_patch(source: Source, patch: Patch, curve: NoiseCurve | None) -> PatchReading:
    reading = measure_patch(source.read(patch.frame), patch, curve, limits=source.info.clip_levels)
    if not reading.flat:
        place = f"{patch.x},{patch.y},{patch.width},{patch.height}@{patch.frame}"
        raise BadInput(f"patch {place} is not usable ({reading.reason}). {reading.advice}")
    return reading


def _sample_frames(chosen: range) -> list[int]:
    """Second members of the pairs, spread over the clip."""
    if len(chosen) == 1:
        return [chosen[0]]
    count = min(SAMPLES, len(chosen) - 1)
    return sorted({chosen[1 + round((len(chosen) - 2) * (k + 0.5) / count)] for k in range(count)})


def _pair(source: Source, n: int) -> _Pair:
    if n == 0:
        frame = source.read(0)
        return _Pair(n, frame, None, None, block_statistics(frame, source.info.clip_levels), None)
    # in the order of the frames, so that a decoder seeks once
    distant = None if source.info.intra_only or n < FAR else source.read(n - FAR)
    other, frame = source.read(n - 1), source.read(n)
    shift = _block_shifts(frame, other)
    limits = source.info.clip_levels
    spatial, temporal = block_statistics(frame, limits), block_statistics(frame, limits, other, shift)
    finite = np.isfinite(temporal.variance[..., 3])
    typical = np.median(temporal.variance[finite][:, 3]) if finite.any() else 0.0
    repeated = typical < (FROZEN_CV / CV_SCALE) ** 2
    if repeated:
        return _Pair(n, frame, other, shift, spatial, None)
    if distant is None and not source.info.intra_only:
        distant = source.read(min(n + FAR, source.info.frames - 1))
    far = None
    if distant is not None:
        far = block_statistics(frame, limits, distant, _block_shifts(frame, distant)).variance
    return _Pair(n, frame, other, shift, spatial, temporal, far)


def _block_shifts(frame: Frame, other: Frame) -> Array:
    """Whole-pixel motion at each block's centre."""
    found = flow(prepared(frame), prepared(other), frame.shape[1])
    rows, columns = frame.shape[0] // SIDE, frame.shape[1] // SIDE
    centres_y = ((np.arange(rows) + 0.5) * SIDE / found.reduction).astype(int)
    centres_x = ((np.arange(columns) + 0.5) * SIDE / found.reduction).astype(int)
    height, width = found.vectors.shape[:2]
    rounded: Array = np.rint(found.vectors[np.minimum(centres_y, height - 1)][:, np.minimum(centres_x, width - 1)])
    return rounded


@dataclass(frozen=True, slots=True)
class _Sample:
    """The blocks of all pairs: K×6 each, `detail` K. `whole` tells for which signals a block can be used:
    blue may be cut off at black where green is not. `far` is None where nothing is carried along."""

    level: Array
    spatial: Array
    varied: Array
    whole: npt.NDArray[np.bool_]
    detail: Array
    far: Array | None
    moved: bool

    @staticmethod
    def of(pairs: Sequence[_Pair]) -> _Sample:
        varied = np.concatenate([p.variance().reshape(-1, 6) for p in pairs])
        whole = np.concatenate([p.spatial.clipped.reshape(-1, 6) for p in pairs]) <= MOST_CLIPPED
        whole &= np.isfinite(varied)
        if whole[:, 3].sum() < 4:
            raise BadInput("the noise cannot be measured: all of the picture is clipped, black or too small.")
        far = [p.far.reshape(-1, 6) for p in pairs if p.far is not None]
        sample = _Sample(
            level=np.concatenate([p.spatial.level.reshape(-1, 6) for p in pairs]),
            spatial=np.concatenate([p.spatial.variance.reshape(-1, 6) for p in pairs]),
            varied=varied,
            whole=whole,
            detail=np.concatenate([(p.temporal or p.spatial).detail.reshape(-1) for p in pairs]),
            far=np.concatenate(far) if len(far) == len(pairs) else None,
            moved=any(p.temporal is not None for p in pairs),
        )
        return sample if sample._carries_noise() else replace(sample, far=None)

    def _carries_noise(self) -> bool:
        """Whether the flattest blocks differ clearly more over `FAR` frames than over one, in chroma."""
        if self.far is None:
            return False
        flattest = [
            chosen[np.argsort(self.spatial[chosen, 3])][: max(8, int(FLATTEST * len(chosen)))]
            for chosen in self._bins(3)
        ]
        flat = np.concatenate(flattest)
        flat = flat[np.isfinite(self.far[flat]).all(axis=1)]
        if len(flat) < LEAST_BLOCKS:
            return False
        near, far = (np.median(v[flat][:, 4:], axis=0) for v in (self.varied, self.far))
        return bool(np.sqrt(np.mean(far / np.maximum(near, 1e-12))) > CARRIED)

    @property
    def luma_levels_cv(self) -> Array:
        """Levels of the blocks in which luma can be used."""
        levels: Array = self.level[self.whole[:, 3], 3] * CV_SCALE
        return levels

    def _bins(self, s: int) -> list[npt.NDArray[np.intp]]:
        """The usable blocks of signal `s` by level; those of luma where its own are too few."""
        usable = np.flatnonzero(self.whole[:, s])
        if len(usable) < LEAST_BLOCKS:
            usable = np.flatnonzero(self.whole[:, 3])
        return [usable[i] for i in _level_bins(self.level[usable, s if s < 3 else 3] * CV_SCALE)]

    def bins(self, s: int) -> tuple[Array, Array, Array]:
        """(level in CV, sigma, blocks) of signal `s` in level bins that hold enough blocks each."""
        levels_cv = self.level[:, s if s < 3 else 3] * CV_SCALE
        chosen = self._bins(s)
        if self.far is not None:
            sigma = [_carried_centre(np.maximum(self.far, self.varied)[i, s], self.detail[i]) for i in chosen]
        elif self.moved:
            groups = [_detail_groups(np.sqrt(self.varied[i, s]), self.detail[i]) for i in chosen]
            blocks = np.array([len(i) for i in chosen], float)
            pure = weighted_median(np.array([_spread(group[0][0]) for group in groups]), blocks)
            sigma = [_without_detail(group, float(np.clip(pure, *SPREADS))) for group in groups]
        else:
            sigma = [_flat_centre(np.sqrt(self.spatial[i, s])) for i in chosen]
        at = np.array([levels_cv[i].mean() for i in chosen])
        return at, np.array(sigma), np.array([len(i) for i in chosen], float)


def _curve(pairs: Sequence[_Pair]) -> tuple[NoiseCurve, float]:
    """Sigma against level for all signals, and the confidence in it."""
    sample = _Sample.of(pairs)
    axis = np.linspace(0, CV_SCALE, CURVE_POINTS)
    lists: dict[str, list[float]] = {}
    disagreement = 0.0
    for s, name in enumerate(SIGNALS):
        at, sigma, support = sample.bins(s)
        lists[f"{name}_cv"] = _smooth(axis, at, sigma * CV_SCALE, support).tolist()
        if name == "luma":
            smooth = np.interp(at, axis, lists["luma_cv"])
            off = np.abs(np.log(np.maximum(sigma * CV_SCALE, 1e-3) / np.maximum(smooth, 1e-3)))
            disagreement = float(np.average(off, weights=support))
    levels_cv = sample.luma_levels_cv
    count = len(levels_cv)
    share = np.histogram(levels_cv, bins=np.append(axis - axis[1] / 2, np.inf))[0] / count
    support_factor = 1 - np.exp(-count / 1500)
    confidence = float(np.clip(support_factor * np.exp(-2 * disagreement) * (1 if sample.moved else 0.7), 0, 1))
    return NoiseCurve(level_cv=axis.tolist(), share=share.tolist(), **lists), confidence


def _level_bins(level_cv: Array) -> list[npt.NDArray[np.intp]]:
    """Indices of the blocks of each level bin, dark to bright; bins widen until they hold enough."""
    order = np.argsort(level_cv)
    ordered = level_cv[order]
    bins, start = [], 0
    least = min(LEAST_BLOCKS, len(ordered))
    while start < len(ordered):
        end = int(np.searchsorted(ordered, ordered[start] + BIN_CV))
        end = min(max(end, start + least), len(ordered))
        if len(ordered) - end < least:
            end = len(ordered)
        bins.append(order[start:end])
        start = end
    return bins


def _detail_groups(deviation: Array, detail: Array) -> list[tuple[Array, float]]:
    """Deviations in groups of rising detail, each with its typical detail."""
    count = max(1, min(DETAIL_GROUPS, len(deviation) // LEAST_GROUP))
    order = np.argsort(detail)
    return [(deviation[i], float(np.median(detail[i]))) for i in np.array_split(order, count)]


def _spread(deviation: Array) -> float:
    """Relative spread of the lower half of deviations."""
    low, read = np.quantile(deviation, [LOW_QUANTILE, QUANTILE])
    spread = (read - low) / (Z_QUANTILE - Z_LOW)
    return float(spread / max(read - Z_QUANTILE * spread, 1e-9))


def _without_detail(groups: Sequence[tuple[Array, float]], spread: float) -> float:
    """Sigma where detail would be none: the line of variance over detail, at its foot."""
    variance = np.array([(np.quantile(d, QUANTILE) / (1 + Z_QUANTILE * spread)) ** 2 for d, _ in groups])
    detail = np.array([typical for _, typical in groups])
    weight = 1 / (variance + 1e-12) ** 2
    centre, level = np.average(detail, weights=weight), np.average(variance, weights=weight)
    slope = (weight * (detail - centre) * (variance - level)).sum() / max(
        (weight * (detail - centre) ** 2).sum(), 1e-30
    )
    foot = level - max(slope, 0.0) * centre
    return float(np.sqrt(np.clip(foot, 0, 1.1 * variance.min())))


def _carried_centre(variance: Array, detail: Array) -> float:
    """Median deviation of the half of the blocks that has less detail."""
    half = np.argsort(detail)[: max(len(detail) // 2, 1)]
    found = np.sqrt(variance[half])
    found = found[np.isfinite(found)]
    return float(np.median(found)) if found.size else float(np.sqrt(np.median(variance)))


def _flat_centre(deviation: Array) -> float:
    """Centre of spatial deviations, where most blocks may hold detail."""
    expected_spread = 1 / np.sqrt(2 * (SIDE * SIDE - 3) / 2)  # demosaiced noise has about half the freedom
    return float(np.quantile(deviation, FLAT_QUANTILE) / (1 + Z_FLAT * expected_spread))


def _smooth(axis: Array, at: Array, sigma: Array, support: Array) -> Array:
    """Local linear regression of log sigma over level; beyond the data the end values hold."""
    logs = np.log(np.maximum(sigma, 1e-4))
    result = np.empty(len(axis))
    for k, centre in enumerate(np.clip(axis, at.min(), at.max())):
        width = 24 + 0.10 * centre
        weight = support * np.exp(-0.5 * ((at - centre) / width) ** 2) + 1e-12
        design = np.stack([np.ones_like(at), at - centre], axis=1)
        gram = design.T @ (design * weight[:, None]) + np.diag([0, 1e-3 * weight.sum() * width**2])
        result[k] = np.linalg.solve(gram, design.T @ (weight * logs))[0]
    return np.exp(result)


def _through_patches(curve: NoiseCurve, readings: Sequence[PatchReading]) -> NoiseCurve:
    """Scale the curve so that it passes through what flat patches showed at their levels."""
    axis = np.array(curve.level_cv)
    changed: dict[str, list[float]] = {}
    order = sorted(readings, key=lambda r: r.level_cv)
    for name in SIGNALS:
        old = curve.signal(name)
        at = np.array([r.level_cv for r in order])
        ratio = np.array([getattr(r, f"{name}_cv") for r in order]) / np.maximum(np.interp(at, axis, old), 1e-3)
        changed[f"{name}_cv"] = (old * np.interp(axis, at, ratio)).tolist()
    return curve.model_copy(update=changed)


def _with_spectrum(curve: NoiseCurve, confidence: float, pairs: Sequence[_Pair], source: Source) -> NoiseProfile:
    """Gather the spectrum from tiles that hold noise alone, in the stabilised opponent axes."""
    flat = white_profile(1.0).model_copy(update={"curve": curve})
    stabiliser = Stabiliser.of(flat)
    gatherer = SpectrumGatherer()
    for pair in pairs:
        for tile in _noise_tiles(pair, curve, stabiliser, TILES // len(pairs)):
            gatherer.add(tile)
    base = flat.model_copy(
        update={"confidence": confidence, "origin": f"{source.info.path}, blind over {len(pairs)} places"}
    )
    if len(gatherer) < 8:
        return base.model_copy(update={"confidence": confidence * 0.5})
    spectrum = gatherer.spectrum()
    channels = OPPONENT.T @ gatherer.covariance() @ OPPONENT
    deviation = np.sqrt(np.diag(channels))
    return base.model_copy(
        update={
            "spectrum": spectrum.tolist(),
            "correlation": (channels / np.outer(deviation, deviation)).tolist(),
            "grain_px": grain_size(spectrum),
        }
    )


def _noise_tiles(pair: _Pair, curve: NoiseCurve, stabiliser: Stabiliser, most: int) -> list[Array]:
    """Tiles of pure noise: the compared difference (halved in variance), or flat tiles of the frame."""
    variance = pair.variance()
    if pair.temporal is not None and pair.other is not None:
        # A tile is compared by whole pixels: only where that suffices is its difference noise alone.
        plain = block_statistics(pair.frame, (-np.inf, np.inf), pair.other, pair.shift, refined=False)
        variance = np.maximum(variance, plain.variance)
    blocks = pair.spatial
    ratio = _ratios(variance[..., 3], blocks.level[..., 3], blocks.clipped[..., 3], curve)
    rows, columns = ratio.shape[0] // 2, ratio.shape[1] // 2
    worst = ratio[: rows * 2, : columns * 2].reshape(rows, 2, columns, 2).max(axis=(1, 3))
    order = np.argsort(np.abs(worst - 1.05), axis=None)
    height, width = pair.frame.shape[:2]
    tiles: list[Array] = []
    for row, column in zip(*np.unravel_index(order, worst.shape), strict=True):
        if len(tiles) >= most or not 0.6 < worst[row, column] < 1.3:
            break
        here = Region(int(column) * TILE, int(row) * TILE, TILE, TILE).grown(MARGIN)
        if here.clipped(width, height) != here:
            continue
        tile = stabiliser.opponent(np.ascontiguousarray(pair.frame[here.slices]))
        if pair.temporal is not None and pair.other is not None and pair.shift is not None:
            dx, dy = (int(v) for v in pair.shift[row * 2, column * 2])
            there = Region(here.x + dx, here.y + dy, here.width, here.height)
            if there.clipped(width, height) != there:
                continue
            tile = (tile - stabiliser.opponent(np.ascontiguousarray(pair.other[there.slices]))) / np.sqrt(2)
        tiles.append(tile - tile.mean(axis=(1, 2), keepdims=True))
    return tiles


def _ratios(variance: Array, level: Array, clipped: Array, curve: NoiseCurve) -> Array:
    """Luma deviation of each block over what the curve says for its level; clipped blocks are inf."""
    ratio: Array = np.sqrt(variance) / np.maximum(curve.sigma_at(level, "luma"), 1e-6)
    return np.where(clipped > MOST_CLIPPED, np.inf, ratio)


def _by_frame(
    source: Source,
    chosen: range,
    pairs: Sequence[_Pair],
    curve: NoiseCurve,
    progress: Progress | None,
    stopped: StopCheck,
    watcher: Watcher | None,
) -> list[float]:  # fmt: skip
    """Luma sigma of each frame: its flattest blocks against the same quantile at the sampled places."""
    typical = white_profile(1.0).model_copy(update={"curve": curve}).typical_cv("luma")
    limits = source.info.clip_levels
    usual = float(np.median([_flat_ratio(luma(p.frame), limits, curve) for p in pairs])) or 1.0
    figures = []
    for count, n in enumerate(chosen):
        raise_if(stopped)
        frame = source.read(n) if watcher and watcher.wants(n) else None
        plane = source.luma(n) if frame is None else luma(frame)
        if watcher:
            watcher.show(n, plane, frame, curve)
        ratio = _flat_ratio(plane, limits, curve)
        figures.append(typical * ratio / usual if np.isfinite(ratio) else 0.0)
        if progress:
            progress(0.2 + 0.8 * (count + 1) / len(chosen))
    return figures


def _flat_ratio(plane: Array, limits: tuple[float, float], curve: NoiseCurve) -> float:
    """Luma sigma of the flattest blocks of a frame, against what the curve says; of a large frame every
    second row of blocks is enough."""
    if plane.size > ENOUGH_PIXELS:
        bands = plane[: plane.shape[0] // SIDE * SIDE].reshape(-1, SIDE, plane.shape[1])
        plane = bands[::2].reshape(-1, plane.shape[1])
    blocks = block_statistics(plane[..., None], limits, signals=LUMA_ALONE)
    ratios = _ratios(blocks.variance[..., 0], blocks.level[..., 0], blocks.clipped[..., 0], curve)
    finite = ratios[np.isfinite(ratios)]
    return float(np.quantile(finite, 0.15)) if finite.size else 0.0


def automatic_patches(
    frame: Frame, n: int, curve: NoiseCurve, limits: tuple[float, float], most: int = 3
) -> list[PatchReading]:
    """Up to `most` flat patches of a frame at different levels, the largest even area first."""
    blocks = block_statistics(frame, limits)
    ratio = _ratios(blocks.variance[..., 3], blocks.level[..., 3], blocks.clipped[..., 3], curve)
    found: list[PatchReading] = []
    for side in (4, 3, 2):
        if len(found) >= most:
            break
        for reading in _even_windows(frame, n, ratio, side, curve, limits):
            apart = all(abs(reading.level_cv - other.level_cv) > 24 for other in found)
            if reading.flat and apart and len(found) < most:
                found.append(reading)
    return found


def better_patch(
    frame: Frame, refused: Patch, curve: NoiseCurve | None, limits: tuple[float, float]
) -> PatchReading | None:
    """The nearest flat place of the frame for a patch that is not: of its size, or smaller."""
    blocks = block_statistics(frame, limits)
    level, variance = blocks.level[..., 3], blocks.variance[..., 3]
    clipped = blocks.clipped[..., 3]
    ratio = np.where(clipped > MOST_CLIPPED, np.inf, variance)
    if curve is not None:
        ratio = _ratios(variance, level, clipped, curve)
    middle = (refused.y + refused.height / 2) / SIDE, (refused.x + refused.width / 2) / SIDE
    for size in (1.0, 0.7, 0.5):
        high, wide = (
            min(max(int(side * size), LEAST_SIDE), LARGEST_OFFER) // SIDE or 1
            for side in (refused.height, refused.width)
        )
        for row, column in _nearest_even(ratio, (high, wide), middle):
            patch = Patch(x=column * SIDE, y=row * SIDE, width=wide * SIDE, height=high * SIDE, frame=refused.frame)
            reading = measure_patch(frame, patch, curve, limits=limits)
            if reading.flat:
                return reading
    return None


def _nearest_even(ratio: Array, window: tuple[int, int], middle: tuple[float, float]) -> list[tuple[int, int]]:
    """Corners of the windows of blocks that hold little beyond noise, those nearest to a place first."""
    if ratio.shape[0] < window[0] or ratio.shape[1] < window[1]:
        return []
    worst = np.lib.stride_tricks.sliding_window_view(ratio, window).max(axis=(2, 3))
    finite = worst[np.isfinite(worst)]
    if not finite.size:
        return []
    even = worst <= np.quantile(finite, EVEN_SHARE)
    rows, columns = np.nonzero(even)
    distance = np.hypot(rows + window[0] / 2 - middle[0], columns + window[1] / 2 - middle[1])
    order = np.argsort(distance)[:MOST_OFFERS]
    return [(int(rows[k]), int(columns[k])) for k in order]


def _even_windows(
    frame: Frame, n: int, ratio: Array, side: int, curve: NoiseCurve, limits: tuple[float, float]
) -> list[PatchReading]:
    """Readings of the windows of side×side blocks that hold the least beyond noise."""
    if min(ratio.shape) < side or side * SIDE < LEAST_SIDE:
        return []
    windows = np.lib.stride_tricks.sliding_window_view(ratio, (side, side))
    worst = windows.max(axis=(2, 3))
    order = np.argsort(worst, axis=None)[:40]
    readings = []
    for row, column in zip(*np.unravel_index(order, worst.shape), strict=True):
        if not np.isfinite(worst[row, column]):
            break
        size = side * SIDE
        patch = Patch(x=int(column) * SIDE, y=int(row) * SIDE, width=size, height=size, frame=n)
        readings.append(measure_patch(frame, patch, curve, limits=limits))
    return readings
