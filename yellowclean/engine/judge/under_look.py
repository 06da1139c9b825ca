"""What the noise becomes under a look. It is measured on the picture's own values, seen through the look."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, Field

from ..colour.look import Look
from ..frames import CV_SCALE, LUMA_WEIGHTS
from ..noise.profile import NoiseProfile

LEVELS = 48
"""Greys that are told, from the lowest level the profile knows to the highest."""

NUDGE = 1e-3
"""Signal by which a level is moved to find the slope of a look there: a code value."""


class NoiseUnderLook(BaseModel):
    """Luma noise of greys in 10-bit code values: before and under the look, level by level."""

    level_cv: list[float]
    noise_cv: list[float]
    shown_level_cv: list[float] = Field(description="Where the look puts the level.")
    shown_noise_cv: list[float]


def noise_under(look: Look, profile: NoiseProfile) -> NoiseUnderLook:
    """First order: the look's slopes about a grey spread the correlated noise of the three channels."""
    curve = profile.curve
    level = np.linspace(curve.level_cv[0], curve.level_cv[-1], LEVELS) / CV_SCALE
    shown, slopes = _slopes(look, level)
    sigma = np.stack([curve.sigma_at(level, c) for c in "rgb"], axis=1).astype(float) * CV_SCALE
    covariance = sigma[:, :, None] * np.array(profile.correlation) * sigma[:, None, :]
    weights = LUMA_WEIGHTS.astype(float)
    toward_luma = np.einsum("lic,c->li", slopes, weights)
    spread = np.einsum("li,lij,lj->l", toward_luma, covariance, toward_luma)
    before = np.einsum("i,lij,j->l", weights, covariance, weights)
    return NoiseUnderLook(
        level_cv=(level * CV_SCALE).tolist(),
        noise_cv=np.sqrt(before).tolist(),
        shown_level_cv=(shown @ weights * CV_SCALE).tolist(),
        shown_noise_cv=np.sqrt(np.maximum(spread, 0)).tolist(),
    )


def _slopes(look: Look, level: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Greys under the look (levels×3), and how each channel in moves each channel out (levels×in×out)."""
    greys = np.repeat(level[:, None], 3, axis=1)
    moves = np.concatenate([np.zeros((1, 3)), NUDGE * np.eye(3), -NUDGE * np.eye(3)])
    shown = look.applied((greys[None] + moves[:, None]).astype(np.float32)).astype(float)
    return shown[0], np.moveaxis(shown[1:4] - shown[4:7], 0, 1) / (2 * NUDGE)
