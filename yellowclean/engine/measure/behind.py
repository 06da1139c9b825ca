"""The noise behind a step that changes size or colour, found by showing it noise.

Grey fields with the profile's own noise go through the step, and what comes out is measured. So no step has to know
what it does to noise, and one that resizes in linear light, or applies a table of colours, is told as well as any.
Where a step mixes channels, what it does depends on the picture's colours: fields of those tell how much more or
less noise comes out than of greys.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ..colour.opponent import SIGNAL_MATRIX, SIGNALS
from ..frames import CV_SCALE, Array, Frame, Region
from ..noise.field import grain_field
from ..noise.profile import NoiseCurve, NoiseProfile
from ..noise.stabilise import Stabiliser
from .spectrum import MARGIN, TILE, SpectrumGatherer, channel_correlation, grain_size

SIDE = 5 * TILE
"""Side of the piece that is measured, in pixels behind the step."""

LEVELS, FIELDS, SEED = 16, 6, 7
"""Greys that are shown, closer together towards black, where curves are steep; and how many fields of noise take
turns on them."""

SWATCHES, SWATCH_RIM, COLOUR_GROUPS = 5, 4, 8
"""Colours each way on a field, pixels at their borders that are left out, and groups of rising level in which the
colours are taken together."""


def profile_behind(
    profile: NoiseProfile, place: Region, through: Callable[[Frame], Frame], colours: Array | None = None
) -> NoiseProfile:
    """The noise of a profile after `through`, which makes SIDE×SIDE pixels of a frame over `place`. `colours` (N×3)
    are those of the picture, for a step that mixes channels."""
    stabiliser = Stabiliser.of(profile)
    of_field = Region(0, 0, place.width, place.height)  # noise is made in tiles, of which this touches the fewest
    fields = [grain_field(profile, SEED, n, of_field) for n in range(FIELDS)]
    lowest, highest = profile.curve.level_cv[0], profile.curve.level_cv[-1]
    shown_cv = lowest + (highest - lowest) * np.linspace(0, 1, LEVELS) ** 2
    nothing = np.zeros((2, place.height, place.width), np.float32)
    before, after = [], []
    for k, level_cv in enumerate(shown_cv):
        grey = np.full((place.height, place.width, 3), level_cv / CV_SCALE, np.float32)
        plain = stabiliser.opponent(grey)
        before.append(stabiliser.applied(grey, plain, plain + fields[k % FIELDS], nothing))
        after.append(through(before[-1]))
    curve = _curve_behind(profile.curve, shown_cv, before, after)
    if colours is not None:
        curve = _coloured(curve, *_swatches(stabiliser, fields, colours, place, through))
    told = Stabiliser.of(profile.model_copy(update={"curve": curve}))
    gatherer = SpectrumGatherer()
    for piece in after:
        planes = told.opponent(np.ascontiguousarray(piece))
        _gather(gatherer, planes - planes.mean(axis=(1, 2), keepdims=True))
    spectrum = gatherer.spectrum(uneven=True)
    update = {
        "curve": curve,
        "spectrum": spectrum.tolist(),
        "correlation": channel_correlation(told.axes, gatherer.covariance()).tolist(),
        "coherence": gatherer.coherence().tolist() if profile.coherence else [],
        "grain_px": grain_size(spectrum),
    }
    return profile.model_copy(update=update)


def _curve_behind(curve: NoiseCurve, shown_cv: Array, before: list[Frame], after: list[Frame]) -> NoiseCurve:
    """Each level with its sigmas, moved and scaled as the greys beside it were."""
    level = np.array(curve.level_cv)
    moved = np.array([piece.mean(axis=(0, 1)) * CV_SCALE for piece in after])
    place = moved @ SIGNAL_MATRIX[3]
    new_level = np.interp(level, shown_cv, place)
    rises = np.concatenate([[True], np.diff(np.maximum.accumulate(new_level)) > 0])
    lists = {}
    for name, weights in zip(SIGNALS, SIGNAL_MATRIX, strict=True):
        was, now = (np.array([float((piece @ weights).std()) for piece in pieces]) for pieces in (before, after))
        ratio = now / np.maximum(was, 1e-9)
        lists[f"{name}_cv"] = (curve.signal(name) * np.interp(level, shown_cv, ratio))[rises].tolist()
    share = np.array(curve.share)[rises].tolist()
    return curve.model_copy(update={"level_cv": new_level[rises].tolist(), "share": share, **lists})


def _swatches(
    stabiliser: Stabiliser, fields: list[Array], colours: Array, place: Region, through: Callable[[Frame], Frame]
) -> tuple[Array, Array]:
    """What comes of colours with noise on them: the level of each signal (luma for colour differences) and its
    deviation, N×6 each, in CV."""
    levels, sigmas = [], []
    nothing = np.zeros((2, place.height, place.width), np.float32)
    side = SIDE // SWATCHES
    for k in range(0, len(colours), SWATCHES**2):
        several = np.resize(colours[k : k + SWATCHES**2], (SWATCHES, SWATCHES, 3)).astype(np.float32)
        flat = cv2.resize(several, (place.width, place.height), interpolation=cv2.INTER_NEAREST)
        plain = stabiliser.opponent(flat)
        noisy = stabiliser.applied(flat, plain, plain + fields[k // SWATCHES**2 % len(fields)], nothing)
        made = through(flat)
        apart = (through(noisy) - made).reshape(SWATCHES, side, SWATCHES, side, 3)
        inner = slice(SWATCH_RIM, -SWATCH_RIM)
        here = apart[:, inner, :, inner] @ SIGNAL_MATRIX.T
        sigmas.append(here.std(axis=(1, 3)).reshape(-1, 6))
        level = made[side // 2 :: side, side // 2 :: side].reshape(-1, 3) @ SIGNAL_MATRIX.T
        level[:, 4:] = level[:, 3:4]
        levels.append(level)
    return np.concatenate(levels) * CV_SCALE, np.concatenate(sigmas) * CV_SCALE


def _coloured(curve: NoiseCurve, levels: Array, sigmas: Array) -> NoiseCurve:
    """The curve of greys, each signal as much higher or lower as the picture's colours have it at that level."""
    at, lists = np.array(curve.level_cv), {}
    for s, name in enumerate(SIGNALS):
        order = np.argsort(levels[:, s])
        grey = np.interp(levels[:, s], at, curve.signal(name))
        ratio = sigmas[:, s] / np.maximum(grey, 1e-6)
        groups = np.array_split(order, min(COLOUR_GROUPS, len(order)))
        middles = np.array([float(np.median(levels[group, s])) for group in groups])
        ratios = [float(np.median(ratio[group])) for group in groups]
        lists[f"{name}_cv"] = (curve.signal(name) * np.interp(at, middles, ratios)).tolist()
    return curve.model_copy(update=lists)


def _gather(gatherer: SpectrumGatherer, planes: Array) -> None:
    height, width = planes.shape[1:]
    outer = TILE + 2 * MARGIN
    for y in range(0, height - outer + 1, TILE):
        for x in range(0, width - outer + 1, TILE):
            gatherer.add(planes[:, y : y + outer, x : x + outer])
