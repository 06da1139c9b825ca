"""How well a saved noise profile fits a shot: measured against predicted sigma, level by level."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel

from ..noise.profile import NoiseProfile, weighted_median

FITS_WITHIN = 0.15
"""A typical ratio within 15 % of 1 treats a shot as its own profile would (common practice, no source)."""

LEAST_SHARE = 0.005


class ProfileFit(BaseModel):
    """Ratio of the shot's measured luma sigma to the profile's, at the levels the shot has."""

    level_cv: list[float]
    ratio: list[float]
    typical: float
    fits: bool
    advice: str


def profile_fit(own: NoiseProfile, saved: NoiseProfile) -> ProfileFit:
    """Compare a saved profile with the one measured from the shot itself."""
    levels, share = np.array(own.curve.level_cv), np.array(own.curve.share)
    present = share >= LEAST_SHARE
    predicted = np.interp(levels, saved.curve.level_cv, saved.curve.luma_cv)
    ratio = np.array(own.curve.luma_cv) / np.maximum(predicted, 1e-3)
    typical = weighted_median(ratio[present], share[present]) if present.any() else 1.0
    fits = abs(typical - 1) <= FITS_WITHIN
    if fits:
        advice = f"Fits: this shot has {typical:.2f} times the profile's noise."
    else:
        word = "more" if typical > 1 else "less"
        advice = f"Does not fit: this shot has {word} noise, {typical:.2f} times the profile's. Use its own."
    return ProfileFit(
        level_cv=levels[present].tolist(), ratio=ratio[present].tolist(), typical=typical, fits=fits, advice=advice
    )
