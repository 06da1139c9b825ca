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

from ..colour.opponent import OPPONENT, SIGNALS
from ..errors import BadInput
from ..frames import Array, Frame, Progress, Region, StopCheck, luma, never, raise_if
from ..media import Source
from ..motion import Movement
from ..treat.stabilise import Stabiliser
from .blocks import SIDE, block_statistics
from .curve import blind_curve, noise_ratios
from .pairs import Pair, pair_at
from .patch import Patch, PatchReading, measure_patch
from .places import automatic_patches
from .profile import NoiseCurve, NoiseProfile, white_profile
from .spectrum import MARGIN, TILE, SpectrumGatherer, grain_size

SAMPLES = 6
"""Places in the clip at which a pair of frames is compared."""

ENOUGH_PIXELS = 1_000_000
"""Above it half of the blocks fix the figure of a frame."""

LUMA_ALONE = np.ones((1, 1), np.float32)
TILES = 320
"""Tiles of pure noise, over all places, from which the spectrum is read."""


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
    movement: Movement

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
    pairs: list[Pair] = []
    for n in _sample_frames(chosen):
        raise_if(stopped)
        pairs.append(pair_at(source, n))
    if progress:
        progress(0.2)
    curve, confidence = blind_curve(pairs)
    moved = any(pair.temporal is not None for pair in pairs)
    told = [_user_patch(source, patch, curve if moved else None) for patch in patches]
    if told:
        curve = _through_patches(curve, told)
    profile = _with_spectrum(curve, confidence, pairs, source)
    by_frame = _by_frame(source, chosen, pairs, curve, progress, stopped, watcher)
    worst = chosen[int(np.argmax(by_frame))]
    if not told:
        told = automatic_patches(source.read(worst), worst, curve, source.info.clip_levels)
    lengths = [p.motion.length.ravel() for p in pairs if p.motion is not None]
    movement = Movement.of(np.concatenate(lengths)) if lengths else Movement(0.0)
    return NoiseReading(profile, by_frame, told, movement)


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


def _with_spectrum(curve: NoiseCurve, confidence: float, pairs: Sequence[Pair], source: Source) -> NoiseProfile:
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


def _noise_tiles(pair: Pair, curve: NoiseCurve, stabiliser: Stabiliser, most: int) -> list[Array]:
    """Tiles of pure noise: the compared difference (halved in variance), or flat tiles of the frame."""
    variance = pair.variance()
    if pair.temporal is not None and pair.other is not None and pair.motion is not None:
        # A tile is compared by whole pixels: only where that suffices is its difference noise alone.
        plain = block_statistics(pair.frame, (-np.inf, np.inf), pair.other, pair.motion.shift, refined=False)
        variance = np.maximum(variance, plain.variance)
    blocks = pair.spatial
    ratio = noise_ratios(variance[..., 3], blocks.level[..., 3], blocks.clipped[..., 3], curve)
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
        if pair.temporal is not None and pair.other is not None and pair.motion is not None:
            dx, dy = (int(v) for v in pair.motion.shift[row * 2, column * 2])
            there = Region(here.x + dx, here.y + dy, here.width, here.height)
            if there.clipped(width, height) != there:
                continue
            tile = (tile - stabiliser.opponent(np.ascontiguousarray(pair.other[there.slices]))) / np.sqrt(2)
        tiles.append(tile - tile.mean(axis=(1, 2), keepdims=True))
    return tiles


def _by_frame(
    source: Source,
    chosen: range,
    pairs: Sequence[Pair],
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
            progress(1 - 0.8 * (1 - (count + 1) / len(chosen)))
    return figures


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
