"""The noise behind a step that changes size or colour, found by showing it noise.

Grey fields with the profile's own noise go through the step, and what comes out is measured. So no step has to know
what it does to noise, and one that resizes in linear light, or applies a table of colours, is told as well as any.
"""

from __future__ import annotations

from collections.abc import Callable

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


def profile_behind(profile: NoiseProfile, place: Region, through: Callable[[Frame], Frame]) -> NoiseProfile:
    """The noise of a profile after `through`, which makes SIDE×SIDE pixels of a frame over `place`."""
    stabiliser = Stabiliser.of(profile)
    fields = [grain_field(profile, SEED, n, place) for n in range(FIELDS)]
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


def _gather(gatherer: SpectrumGatherer, planes: Array) -> None:
    height, width = planes.shape[1:]
    outer = TILE + 2 * MARGIN
    for y in range(0, height - outer + 1, TILE):
        for x in range(0, width - outer + 1, TILE):
            gatherer.add(planes[:, y : y + outer, x : x + outer])
