"""The blind noise curve: sigma against level from blocks of compared frames.

What motion leaves of the picture (fractions of a pixel, demosaicing that falls otherwise) only ever
adds variance, and adds it where there is fine detail. In each level bin a low quantile is therefore
read in groups of rising detail, and the line through them followed down to no detail at all.

A codec that predicts frames from frames carries noise along, so that neighbours share it and their
difference is too small. It shows where the picture is flattest: colour differs more over five frames
than over one. Then the longer distance is measured, at the median, since a codec deals out its own error unevenly.
Where motion is fast and so is missed over several frames, the curve is no higher than over one frame, raised by how
much more the flattest places differ over the longer distance.

That is what is seen, and what can be taken. What a codec took is missing in all frames alike, and what it carries
over many frames does not differ either: a second curve is as much higher as is told of coded blocks (coded.py).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

import cv2
import numpy as np
import numpy.typing as npt
import scipy

from ..colour.opponent import SIGNALS
from ..errors import BadInput
from ..frames import CV_SCALE, Array
from ..motion import Movement
from ..noise.profile import NoiseCurve, weighted_median
from .blocks import MOST_CLIPPED, SIDE
from .coded import off_truth
from .pairs import Pair

BIN_CV, LEAST_BLOCKS = 16.0, 60
"""Width of a level bin, and the blocks until which it widens."""

DETAIL_GROUPS, LEAST_GROUP = 5, 30
"""Groups of rising detail in a bin, and the fewest blocks of one."""

CURVE_POINTS = 33
QUANTILE, LOW_QUANTILE = 0.10, 0.02
Z_QUANTILE, Z_LOW = -1.2816, -2.0537
"""Normal quantiles of the two."""

SPREADS = 0.04, 0.08
"""Relative spread of the sigma of pure-noise blocks: white noise, and the coarsest that demosaicing makes."""

CARRIED = 1.15
"""Both colours differing this much more over `FAR` frames than over one, in the quieter of the flattest blocks, are
carried along by a codec (set on test-camera clips: 1.19 to 1.8 after H.264 and HEVC; below 1.08 before, but 1.17 on
fast water)."""

FLATTEST = 0.25
"""Share of a bin's blocks, those with the flattest neighbourhood, that are looked at for it."""

NEIGHBOURHOOD = 5
"""Blocks a side by which a place is told to be flat: of single blocks, those would be chosen in which there
happens to be little noise."""

MOST_CUT, LIKE_NOISE = 0.9, 0.2
"""Share of a block's pixels that may be cut off a channel where what is left looks like noise cut at one end,
so that its variance tells that of the whole; and how far (relative) it may look otherwise. A channel of which
more is gone everywhere is dead."""

ENOUGH_WHOLE = 0.05
"""Share of the blocks that has to be whole in all channels; else those are looked at which are whole in some."""

LITTLE_MORE, PLAINLY_MORE = 0.15, 0.4
"""By how much (logarithm) what is told of coded blocks has to be above what is seen to count, and to count wholly:
at high rates what is seen is right, and what is told is no surer than that."""

FLAT_QUANTILE = 0.10
Z_FLAT = -1.2816

FEWEST_BLOCKS = 4

AS_GOOD_AS_NONE = 0.1
"""Sigmas in CV below which differences say nothing against a measurement."""

Channel = Literal["r", "g", "b"]
CHANNELS: tuple[Channel, ...] = ("r", "g", "b")
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Sample:
    """The blocks of all pairs: K×6 each, `detail` K. `whole` tells for which signals a block can be used:
    blue may be cut off at black where green is not. `far` is the variance over the longer distance where noise is
    carried along, `coded` the level and the deviation from the truth that are told there of some blocks (N×6 both),
    and `renewed` tells for each signal how much larger the deviation is there, where motion may be missed over it.
    `dead` names the channels that are cut off everywhere, `cut` those that are partly so."""

    level: Array
    spatial: Array
    varied: Array
    whole: npt.NDArray[np.bool_]
    detail: Array
    renewed: Array | None
    far: Array | None
    coded: tuple[Array, Array] | None
    moved: bool
    dead: list[Channel]
    cut: list[Channel]

    @staticmethod
    def of(pairs: Sequence[Pair], limits: tuple[float, float]) -> Sample:
        level = np.concatenate([p.spatial.level.reshape(-1, 6) for p in pairs])
        spatial = np.concatenate([p.spatial.variance.reshape(-1, 6) for p in pairs])
        varied = np.concatenate([p.variance().reshape(-1, 6) for p in pairs])
        clipped = np.concatenate([p.spatial.clipped.reshape(-1, 6) for p in pairs])
        measured = np.isfinite(varied)
        least = min(LEAST_BLOCKS, max(len(varied) // 2, FEWEST_BLOCKS))
        whole = (clipped <= MOST_CLIPPED) & measured
        dead: list[Channel] = []
        cut: list[Channel] = []
        for c, name in enumerate(CHANNELS):
            partly = (clipped[:, c] > MOST_CLIPPED) & (clipped[:, c] <= MOST_CUT) & measured[:, c]
            few = whole[:, c].sum() < least
            if few and partly.sum() < least:
                dead.append(name)
                continue
            if few:
                cut.append(name)
            known, likely = _uncut(level[partly, c], varied[partly, c], clipped[partly, c], limits)
            rows = np.flatnonzero(partly)[likely]
            grown = known[1][likely] / np.maximum(varied[rows, c], 1e-20)
            level[rows, c], varied[rows, c] = known[0][likely], known[1][likely]
            spatial[rows, c] *= grown
            whole[rows, c] = True
            if not whole[:, c].any():  # nothing of what is left looks like noise
                dead.append(name)
        cut = [name for name in cut if name not in dead]
        living = [c for c, name in enumerate(CHANNELS) if name not in dead]
        least = max(least, int(ENOUGH_WHOLE * len(varied)))
        for s in (3, 4, 5):
            whole[:, s] = _usable(whole[:, s], clipped[:, living], measured[:, s], least)
        if not living or whole[:, 3].sum() < FEWEST_BLOCKS:
            raise BadInput("the noise cannot be measured: all of the picture is clipped, black or too small.")
        return Sample(
            level=level,
            spatial=spatial,
            varied=varied,
            whole=whole,
            dead=dead,
            cut=cut,
            detail=np.concatenate([p.exposure().reshape(-1) for p in pairs]),
            renewed=None,
            far=None,
            coded=None,
            moved=any(p.temporal is not None for p in pairs),
        )

    @property
    def carried(self) -> bool:
        """Whether frames share their noise."""
        return self.far is not None

    def over_longer(self, pairs: Sequence[Pair]) -> Sample:
        """This sample, with how much more its flattest blocks differ over `FAR` frames than over one, if they
        clearly do in chroma."""
        parts = [p.far.blocks.variance.reshape(-1, 6) for p in pairs if p.far is not None]
        if len(parts) < len(pairs):
            return self
        far = np.concatenate(parts)
        around = np.concatenate([_of_neighbourhood(p.spatial.variance[..., 3]).ravel() for p in pairs])
        flattest = [
            chosen[np.argsort(around[chosen])][: max(8, int(FLATTEST * len(chosen)))] for chosen in self._bins(3)
        ]
        flat = np.concatenate(flattest)
        flat = flat[np.isfinite(far[flat]).all(axis=1)]
        if len(flat) < LEAST_BLOCKS:
            return self
        quiet, typical = (
            np.quantile(far[flat], part, axis=0) / np.maximum(np.quantile(self.varied[flat], part, axis=0), 1e-12)
            for part in (0.25, 0.5)
        )
        if np.sqrt(quiet[4:].min()) <= CARRIED:
            return self
        moved = np.concatenate([p.motion.length.ravel() for p in pairs if p.motion is not None])
        renewed = None if Movement.of(moved).slow else np.sqrt(np.maximum(typical, 1))
        told = [(p.spatial, p.far.traces) for p in pairs if p.far is not None]
        at = [blocks.level[*traces.place.T] for blocks, traces in told if len(traces.place)]
        off = [off_truth(traces.seen) for _, traces in told if len(traces.place)]
        coded = (np.concatenate(at), np.concatenate(off)) if off else None
        return replace(self, renewed=renewed, far=np.maximum(far, self.varied), coded=coded)

    @property
    def luma_levels_cv(self) -> Array:
        """Levels of the blocks in which luma can be used."""
        levels: Array = self.level[self.whole[:, 3], 3] * CV_SCALE
        return levels

    def _bins(self, s: int) -> list[npt.NDArray[np.intp]]:
        """The usable blocks of signal `s` by level."""
        usable = np.flatnonzero(self.whole[:, s])
        return [usable[i] for i in _level_bins(self.level[usable, s if s < 3 else 3] * CV_SCALE)]

    def bins(self, s: int) -> tuple[Array, Array, Array]:
        """(level in CV, sigma, blocks) of signal `s` in level bins that hold enough blocks each."""
        levels_cv = self.level[:, s if s < 3 else 3] * CV_SCALE
        chosen = self._bins(s)
        if self.far is not None:
            sigma = [_uneven_centre(self.far[i, s], self.detail[i]) for i in chosen]
            if self.renewed is not None:  # missed motion only adds to what is seen over the longer distance
                near = [_uneven_centre(self.varied[i, s], self.detail[i]) for i in chosen]
                sigma = [min(f, n * self.renewed[s]) for f, n in zip(sigma, near, strict=True)]
        elif self.moved:
            groups = [_detail_groups(np.sqrt(self.varied[i, s]), self.detail[i]) for i in chosen]
            blocks = np.array([len(i) for i in chosen], float)
            pure = weighted_median(np.array([_spread(group[0][0]) for group in groups]), blocks)
            sigma = [_without_detail(group, float(np.clip(pure, *SPREADS))) for group in groups]
        else:
            sigma = [_flat_centre(np.sqrt(self.spatial[i, s])) for i in chosen]
        at = np.array([levels_cv[i].mean() for i in chosen])
        return at, np.array(sigma), np.array([len(i) for i in chosen], float)

    def with_the_codec(self, curve: NoiseCurve) -> NoiseCurve | None:
        """What is seen, and as much more as is told of coded blocks."""
        if self.coded is None:
            return None
        axis, more = np.array(curve.level_cv), dict[str, list[float]]()
        level_cv, sigma_cv = (part * CV_SCALE for part in self.coded)
        for s, name in enumerate(SIGNALS):
            if name not in self.dead:
                bins = _level_bins(level_cv[:, min(s, 3)])
                told = np.array([np.median(sigma_cv[i, s]) for i in bins])
                at = np.array([level_cv[i, min(s, 3)].mean() for i in bins])
                smooth = _smooth(axis, at, told, np.array([len(i) for i in bins], float))
                more[f"{name}_cv"] = _raised(curve.signal(name), smooth).tolist()
        return curve.model_copy(update=more)


def _raised(seen: Array, told: Array) -> Array:
    """A curve that is seen, raised to one that is told where that is plainly above it."""
    above = np.log(np.maximum(told, AS_GOOD_AS_NONE) / np.maximum(seen, AS_GOOD_AS_NONE))
    believed = np.clip((above - LITTLE_MORE) / (PLAINLY_MORE - LITTLE_MORE), 0, 1)
    raised: Array = np.maximum(seen, AS_GOOD_AS_NONE * (believed > 0)) * np.exp(believed * above)
    return raised


def _of_neighbourhood(variance: Array) -> Array:
    """Mean variance of the blocks about each that were measured; infinite where it was not itself."""
    known = np.isfinite(variance)
    sums = [
        cv2.blur(part.astype(np.float32), (NEIGHBOURHOOD, NEIGHBOURHOOD), borderType=cv2.BORDER_REFLECT)
        for part in (np.where(known, variance, 0), known)
    ]
    around: Array = np.where(known, sums[0] / np.maximum(sums[1], 1e-6), np.float32(np.inf))
    return around


def _usable(whole: Mask, clipped: Array, measured: Mask, least: int) -> Mask:
    """Blocks in which a signal of several channels can be used: those whole in all; where these are too few, those
    whole in all that live; then those in which enough of each is left, and at last of one."""
    for found in (
        whole,
        measured & (clipped <= MOST_CLIPPED).all(axis=1),
        measured & (clipped <= MOST_CUT).all(axis=1),
        measured & (clipped <= MOST_CLIPPED).any(axis=1),
    ):
        if found.sum() >= least:
            return found
    return found


def _uncut(
    level: Array, variance: Array, lost: Array, limits: tuple[float, float]
) -> tuple[tuple[Array, Array], Mask]:
    """(level, variance) of normal noise of which a share `lost` was cut off at black or white, and where that is
    likely what happened: for max(Z, a) with Z unit normal and a = Φ⁻¹(lost), the mean is aΦ(a) + φ(a) and the mean
    square a²Φ(a) + aφ(a) + 1 - Φ(a). Where detail is cut, or half a block is black, the two do not fit."""
    a = scipy.special.ndtri(np.clip(lost, 1e-6, 1 - 1e-6))
    density = np.exp(-(a**2) / 2) / np.sqrt(2 * np.pi)
    mean = a * lost + density
    left = np.maximum(a**2 * lost + a * density + 1 - lost - mean**2, 1e-6)
    sigma = np.sqrt(variance / left)
    black, white = limits
    at_white = level - black > white - level
    from_limit = np.where(at_white, white - level, level - black)
    likely = np.abs(from_limit / np.maximum(sigma * (mean - a), 1e-12) - 1) < LIKE_NOISE
    return (level + np.where(at_white, sigma, -sigma) * mean, sigma**2), likely


class BlindCurve(NamedTuple):
    """Sigma against level for all signals, the confidence in it, whether frames share their noise, and where they
    do, the curve with what the codec did beside."""

    curve: NoiseCurve
    confidence: float
    carried: bool
    coded: NoiseCurve | None


def blind_curve(pairs: Sequence[Pair], limits: tuple[float, float]) -> BlindCurve:
    """The curve of compared frames; `limits` are the levels of black and white. Raises `BadInput`."""
    sample = Sample.of(pairs, limits).over_longer(pairs)
    axis = np.linspace(0, CV_SCALE, CURVE_POINTS)
    seen: dict[str, list[float]] = {}
    disagreement = 0.0
    for s, name in enumerate(SIGNALS):
        if name in sample.dead:
            seen[f"{name}_cv"] = [0.0] * CURVE_POINTS
            continue
        at, sigma, support = sample.bins(s)
        seen[f"{name}_cv"] = _smooth(axis, at, sigma * CV_SCALE, support).tolist()
        if name == "luma":
            smooth = np.interp(at, axis, seen["luma_cv"])
            off = np.abs(
                np.log(np.maximum(sigma * CV_SCALE, AS_GOOD_AS_NONE) / np.maximum(smooth, AS_GOOD_AS_NONE))
            )
            disagreement = float(np.average(off, weights=support))
    levels_cv = sample.luma_levels_cv
    count = len(levels_cv)
    share = np.histogram(levels_cv, bins=np.append(axis - axis[1] / 2, np.inf))[0] / count
    support_factor = 1 - np.exp(-count / 1500)
    confidence = float(np.clip(support_factor * np.exp(-2 * disagreement) * (1 if sample.moved else 0.7), 0, 1))
    curve = NoiseCurve(level_cv=axis.tolist(), share=share.tolist(), dead=sample.dead, cut=sample.cut, **seen)
    return BlindCurve(curve, confidence, sample.carried, sample.with_the_codec(curve))


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


def _uneven_centre(variance: Array, detail: Array) -> float:
    """Median deviation of the half of the blocks that has less detail: a codec deals out its own error unevenly,
    and of some blocks it leaves no noise at all."""
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


def noise_ratios(variance: Array, level: Array, clipped: Array, curve: NoiseCurve) -> Array:
    """Luma deviation of each block over what the curve says for its level; clipped blocks are inf."""
    ratio: Array = np.sqrt(variance) / np.maximum(curve.sigma_at(level, "luma"), 1e-6)
    return np.where(clipped > MOST_CLIPPED, np.inf, ratio)
