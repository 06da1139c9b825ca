"""The noise of a shot: sigma against level, spectrum, patches and a figure for every frame.

Blind measuring after the idea of frame differences along motion: a block and its motion-compensated
predecessor share their picture, so half the variance of their difference is noise, on brick as on
sky. Where a shot has one frame, or repeats frames, the variance about a plane of the flattest blocks
serves instead. How the curve comes of the blocks is told in `curve.py`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from ..colour.opponent import SIGNALS
from ..errors import BadInput
from ..frames import Array, Frame, Progress, Region, StopCheck, luma, never, raise_if
from ..media import Source
from ..motion import Movement
from ..noise.profile import NoiseCurve, NoiseProfile, white_profile
from ..noise.stabilise import Stabiliser
from .blocks import SIDE, block_statistics
from .curve import blind_curve, noise_ratios
from .findings import Said, said_of
from .pairs import FAR, Pair, pairs_at
from .patch import Patch, PatchReading, measure_patch
from .places import automatic_patches
from .spectrum import MARGIN, TILE, SpectrumGatherer, channel_correlation, grain_size

SAMPLES = 6
"""Places in the clip at which a pair of frames is compared."""

ENOUGH_PIXELS = 1_000_000
"""Above it half of the blocks fix the figure of a frame."""

LUMA_ALONE = np.ones((1, 1), np.float32)
FEWEST_TILES = 8
TILES = 320
"""Tiles of pure noise, over all places, from which the spectrum is read."""


class Watcher(Protocol):
    """Whoever looks on while the frames pass in order."""

    def wants(self, n: int) -> bool:
        """Whether frame n is to be shown whole; else its luma is enough."""

    def show(self, n: int, plane: Array, frame: Frame | None, curve: NoiseCurve, said: Said) -> None:
        """Frame n: its luma, the whole of it where that was wanted, and what is wrong with it."""


@dataclass(frozen=True, slots=True)
class NoiseReading:
    """A shot's noise: the profile, one luma figure a frame (CV), the patches, the worst frame; and where a codec
    predicted frames, the curve with what it carried along and took."""

    profile: NoiseProfile
    by_frame_cv: list[float]
    patches: list[PatchReading]
    movement: Movement
    coded: NoiseCurve | None = None

    @property
    def noisiest(self) -> int:
        return int(np.argmax(self.by_frame_cv))


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
    limits = source.info.clip_levels
    pairs = pairs_at(source, _sample_frames(chosen), stopped)
    if progress:
        progress(0.2)
    curve, confidence, carried, coded = blind_curve(pairs, limits)
    moved = any(pair.temporal is not None for pair in pairs)
    told = [_user_patch(source, patch, curve if moved else None) for patch in patches]
    if told:
        curve = _through_patches(curve, told)
    spectrum = _Spectrum(source, [pair.longer() for pair in pairs] if carried else pairs, curve, carried)
    by_frame = _by_frame(source, chosen, spectrum, curve, progress, stopped, watcher)
    profile = spectrum.profile(confidence)
    worst = chosen[int(np.argmax(by_frame))]
    if not told:
        told = automatic_patches(source.read(worst), worst, curve, limits)
    lengths = [p.motion.length.ravel() for p in pairs if p.motion is not None]
    movement = Movement.of(np.concatenate(lengths)) if lengths else Movement(0.0)
    return NoiseReading(profile, by_frame, told, movement, coded)


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


class _Spectrum:
    """Gathers the spectrum, in the stabilised opponent axes, from tiles of pure noise of the compared pairs as
    their frames pass by, so that none is kept longer than its pair needs."""

    def __init__(self, source: Source, pairs: Sequence[Pair], curve: NoiseCurve, carried: bool) -> None:
        self._source, self._pairs, self._curve = source, {pair.n: pair for pair in pairs}, curve
        self._flat = white_profile(1.0).model_copy(update={"curve": curve, "carried": carried})
        self._stabiliser = Stabiliser.of(self._flat)
        self._gatherer = SpectrumGatherer()
        self._kept: dict[int, Frame] = {}
        self._partners = {pair.other for pair in pairs if pair.temporal is not None}

    def wants(self, n: int) -> bool:
        return n in self._pairs or n in self._partners

    def sampled(self, n: int) -> bool:
        """Whether a pair ends in frame n."""
        return n in self._pairs

    def see(self, n: int, frame: Frame) -> None:
        """Take the tiles of the pair that ends in frame n; keep a frame that a later pair is compared with."""
        pair = self._pairs.get(n)
        if pair is not None:
            other = None
            if pair.temporal is not None and pair.other is not None:
                known = self._kept.get(pair.other)
                other = self._source.read(pair.other) if known is None else known
            most = TILES // len(self._pairs)
            for tile in _noise_tiles(pair, frame, other, self._curve, self._stabiliser, most):
                self._gatherer.add(tile)
        self._kept = {k: f for k, f in self._kept.items() if k >= n - FAR}
        if n in self._partners:
            self._kept[n] = frame

    def profile(self, confidence: float) -> NoiseProfile:
        origin = f"{self._source.info.path}, blind over {len(self._pairs)} places"
        base = self._flat.model_copy(update={"confidence": confidence, "origin": origin})
        if len(self._gatherer) < FEWEST_TILES:
            return base.model_copy(update={"confidence": confidence * 0.5})
        spectrum = self._gatherer.spectrum(uneven=self._source.info.lossy)
        correlation = channel_correlation(self._stabiliser.axes, self._gatherer.covariance())
        update = {
            "spectrum": spectrum.tolist(),
            "correlation": correlation.tolist(),
            "coherence": self._gatherer.coherence().tolist(),
            "grain_px": grain_size(spectrum),
        }
        return base.model_copy(update=update)


def _noise_tiles(
    pair: Pair, frame: Frame, other: Frame | None, curve: NoiseCurve, stabiliser: Stabiliser, most: int
) -> list[Array]:
    """Tiles of pure noise: the compared difference (halved in variance), or flat tiles of the frame."""
    variance = pair.variance()
    if other is not None and pair.motion is not None:
        # A tile is compared by whole pixels: only where that suffices is its difference noise alone.
        plain = block_statistics(frame, (-np.inf, np.inf), other, pair.motion.shift, refined=False)
        variance = np.maximum(variance, plain.variance)
    blocks = pair.spatial
    ratio = noise_ratios(variance[..., 3], blocks.level[..., 3], blocks.cut(curve.broken), curve)
    rows, columns = ratio.shape[0] // 2, ratio.shape[1] // 2
    worst = ratio[: rows * 2, : columns * 2].reshape(rows, 2, columns, 2).max(axis=(1, 3))
    order = np.argsort(np.abs(worst - 1.05), axis=None)
    height, width = frame.shape[:2]
    tiles: list[Array] = []
    for row, column in zip(*np.unravel_index(order, worst.shape), strict=True):
        if len(tiles) >= most or not 0.6 < worst[row, column] < 1.3:
            break
        here = Region(int(column) * TILE, int(row) * TILE, TILE, TILE).grown(MARGIN)
        if here.clipped(width, height) != here:
            continue
        tile = stabiliser.opponent(np.ascontiguousarray(frame[here.slices]))
        if other is not None and pair.motion is not None:
            dx, dy = (int(v) for v in pair.motion.shift[row * 2, column * 2])
            there = Region(here.x + dx, here.y + dy, here.width, here.height)
            if there.clipped(width, height) != there:
                continue
            tile = (tile - stabiliser.opponent(np.ascontiguousarray(other[there.slices]))) / np.sqrt(2)
        tiles.append(tile - tile.mean(axis=(1, 2), keepdims=True))
    return tiles


def _by_frame(
    source: Source,
    chosen: range,
    spectrum: _Spectrum,
    curve: NoiseCurve,
    progress: Progress | None,
    stopped: StopCheck,
    watcher: Watcher | None,
) -> list[float]:  # fmt: skip
    """Luma sigma of each frame: its flattest blocks against the same quantile at the sampled places."""
    typical = white_profile(1.0).model_copy(update={"curve": curve}).typical_cv("luma")
    limits = source.info.clip_levels
    ratios, sampled = np.zeros(len(chosen)), []
    for count, n in enumerate(chosen):
        raise_if(stopped)
        whole = spectrum.wants(n) or (watcher is not None and watcher.wants(n))
        frame = source.read(n) if whole else None
        plane = source.luma(n) if frame is None else luma(frame)
        if watcher:
            wanted = watcher.wants(n)
            watcher.show(n, plane, frame if wanted else None, curve, said_of(source, n, wanted=wanted))
        if frame is not None:
            spectrum.see(n, frame)
        ratios[count] = _flat_ratio(plane, limits, curve)
        if spectrum.sampled(n):
            sampled.append(ratios[count])
        if progress:
            progress(1 - 0.8 * (1 - (count + 1) / len(chosen)))
    usual = float(np.median(sampled)) if sampled else 0.0
    return [float(figure) for figure in typical * ratios / (usual or 1.0)]


def _flat_ratio(plane: Array, limits: tuple[float, float], curve: NoiseCurve) -> float:
    """Luma sigma of the flattest blocks of a frame, against what the curve says; of a large frame every
    second row of blocks is enough."""
    if plane.size > ENOUGH_PIXELS:
        bands = plane[: plane.shape[0] // SIDE * SIDE].reshape(-1, SIDE, plane.shape[1])
        plane = bands[::2].reshape(-1, plane.shape[1])
    blocks = block_statistics(plane[..., None], limits, signals=LUMA_ALONE)
    ratios = noise_ratios(blocks.variance[..., 0], blocks.level[..., 0], blocks.clipped[..., 0], curve)
    finite = ratios[np.isfinite(ratios)]
    return float(np.quantile(finite, 0.15)) if finite.size else 0.0
