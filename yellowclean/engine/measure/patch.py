"""A patch: one rectangle of one frame, judged flat or not, and its noise.

Noise is what is left after a quadratic surface is taken off, so that lighting falling across a wall
does not count. A patch that is not flat is refused with its reason, since its reading would be
texture as much as noise.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import cv2
import numpy as np
import scipy
from pydantic import BaseModel, ConfigDict, Field

from ..colour.opponent import SIGNAL_MATRIX, SIGNALS
from ..errors import BadInput
from ..frames import CV_SCALE, Array, Frame, Region
from ..noise.profile import NoiseCurve

LEAST_SIDE = 16
TOO_DARK_CV = 4.0
CLIPPED_SHARE, DEAD_SHARE = 0.02, 0.98
GRADIENT_SIGMAS = 6.0
"""A surface may rise by this many sigma across the patch before it is called a gradient."""

COARSE_EXCESS = 2.2
"""Eightfold means may scatter this much more than the noise's own spectrum explains (common practice,
no source; set on test-camera patches: flat Bayer noise stays below 1.7, weathered wood is above 3)."""

COHERENCE_LIMIT = 0.32
UNEVEN_LIMIT = 3.2
PEAK_LIMIT = 30.0

MOST_OVER_CURVE = 1.15

Reason = Literal["flat", "texture", "gradient", "clipped", "too dark", "too small"]

_ADVICE = {
    "flat": "Flat: the reading is noise.",
    "texture": "Texture or an edge: the reading would count detail as noise. Move it to a flat.",
    "gradient": "The light changes too much across it: make it smaller or move it.",
    "clipped": "Clipped: the noise is cut off at black or white. Choose a level in between.",
    "too dark": "Too dark to hold noise: choose a lighter area.",
    "too small": f"Too small to measure: at least {LEAST_SIDE}×{LEAST_SIDE} pixels are needed.",
}


class Patch(BaseModel):
    """Where to measure: x, y, width, height in pixels of frame `frame`."""

    model_config = ConfigDict(frozen=True)

    x: int
    y: int
    width: int = Field(gt=0)
    height: int = Field(gt=0)
    frame: int = Field(ge=0)

    @property
    def region(self) -> Region:
        return Region(self.x, self.y, self.width, self.height)


class PatchReading(BaseModel):
    """What a patch showed. Sigmas and levels in 10-bit code values; `chroma_cv` is the RMS of Cb and Cr."""

    model_config = ConfigDict(frozen=True, allow_inf_nan=False)

    patch: Patch
    flat: bool
    reason: Reason
    advice: str
    level_cv: float
    r_cv: float
    g_cv: float
    b_cv: float
    luma_cv: float
    cb_cv: float
    cr_cv: float
    chroma_cv: float
    confidence: float


def measure_patch(
    frame: Frame,
    patch: Patch,
    curve: NoiseCurve | None = None,
    *,
    limits: tuple[float, float] = (0.0, 1.0),
) -> PatchReading:
    """Noise and flatness of a patch of a whole frame. Raises `BadInput` when it lies outside.

    With the shot's `curve`, known from differences between frames, a patch that holds clearly more
    than the noise at its level is found to be texture even where it looks even (a fine weave). `limits`
    are the frame values at which the recording clips.
    """
    height, width = frame.shape[:2]
    inside = patch.region.clipped(width, height)
    if inside != patch.region:
        raise BadInput(
            f"patch {patch.x},{patch.y},{patch.width},{patch.height}: reaches outside the"
            f" {width}×{height} frame; move it inside."
        )
    return measure_pixels(frame[inside.slices], patch, curve, limits=limits)


def measure_pixels(
    pixels: Frame,
    patch: Patch,
    curve: NoiseCurve | None = None,
    *,
    limits: tuple[float, float] = (0.0, 1.0),
) -> PatchReading:
    """`measure_patch` for the pixels of the patch alone."""
    pixels = np.asarray(pixels, np.float64)
    if min(patch.width, patch.height) < LEAST_SIDE:
        return _reading(patch, pixels, np.zeros(6), "too small", 0.0)
    signals = pixels @ SIGNAL_MATRIX.T.astype(np.float64)
    rest, surface, freedom = _detrended(signals)
    sigma = np.sqrt((rest**2).sum(axis=(0, 1)) / freedom)
    reason, certainty = _verdict(pixels, rest, surface, sigma, limits, curve.broken if curve else ())
    if reason == "flat" and curve is not None:
        expected = float(curve.sigma_at(signals[..., 3].mean(), "luma"))
        if sigma[3] > MOST_OVER_CURVE * expected:
            reason, certainty = "texture", 0.0
    return _reading(patch, pixels, sigma, reason, certainty)


def _detrended(signals: Array) -> tuple[Array, Array, int]:
    """(residual, fitted surface, degrees of freedom) of a quadratic surface for each signal."""
    height, width = signals.shape[:2]
    y, x = np.mgrid[-1 : 1 : height * 1j, -1 : 1 : width * 1j]
    terms = np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=-1).reshape(-1, 6)
    flat = signals.reshape(-1, signals.shape[2])
    fitted = terms @ np.linalg.lstsq(terms, flat, rcond=None)[0]
    return (flat - fitted).reshape(signals.shape), fitted.reshape(signals.shape), len(flat) - 6


def _verdict(
    pixels: Array, rest: Array, surface: Array, sigma: Array, limits: tuple[float, float], broken: Sequence[str]
) -> tuple[Reason, float]:
    """The first thing wrong with a patch, and how sure its reading is (0-1)."""
    shares = ((pixels <= limits[0]) | (pixels >= limits[1])).mean(axis=(0, 1))
    # a channel that is not there at all, or nowhere whole, says nothing of the place
    judged = [s for s, name in zip(shares, SIGNALS[:3], strict=True) if s < DEAD_SHARE and name not in broken]
    beyond = max(judged) if judged else float((shares >= DEAD_SHARE).all())
    mean_cv = float(pixels.mean() * CV_SCALE)
    if mean_cv < TOO_DARK_CV:
        return "too dark", 0.0
    if beyond > CLIPPED_SHARE:
        return "clipped", 0.0
    luma = rest[..., 3]
    if sigma[3] * CV_SCALE < 0.02:
        return "flat", 0.5
    rise = float(np.ptp(surface[..., 3]) / sigma[3])
    strange = max(
        _coarse_excess(luma) / COARSE_EXCESS,
        _coherence(luma) / COHERENCE_LIMIT,
        _unevenness(luma) / UNEVEN_LIMIT,
        _spectral_peak(luma) / PEAK_LIMIT,
    )
    if strange > 1:
        return "texture", 0.0
    if rise > GRADIENT_SIGMAS and rise * sigma[3] * CV_SCALE > 8:
        return "gradient", 0.2
    samples = 1 - np.exp(-luma.size / 1500)
    return "flat", float(samples * np.clip(1.6 - strange, 0, 1))


def _coarse_excess(luma: Array) -> float:
    """Scatter of 8×8 means against the scatter that 2×2 means lead one to expect of grain."""
    coarse = _block_means(luma, 8)
    fine = _block_means(luma, 2)
    if coarse.size < 4:
        return 1.0
    expected = fine.std() * 2 / 8
    # Few means scatter by chance: one standard error is allowed for.
    slack = 1 + 1 / np.sqrt(2 * coarse.size)
    return float(coarse.std() / max(expected * slack, 1e-12))


def _coherence(luma: Array) -> float:
    """0 for noise, 1 for stripes: how much stronger gradients are in one direction."""
    smooth = cv2.GaussianBlur(luma.astype(np.float32), (0, 0), 1.0)
    gy, gx = np.gradient(smooth)
    xx, yy, xy = (gx * gx).mean(), (gy * gy).mean(), (gx * gy).mean()
    return float(np.hypot(xx - yy, 2 * xy) / max(xx + yy, 1e-20))


def _unevenness(luma: Array) -> float:
    """Largest to median variance of 8×8 parts: noise is the same everywhere."""
    height, width = luma.shape[0] // 8 * 8, luma.shape[1] // 8 * 8
    parts = luma[:height, :width].reshape(height // 8, 8, width // 8, 8).var(axis=(1, 3))
    return float(parts.max() / max(np.median(parts), 1e-20))


def _spectral_peak(luma: Array) -> float:
    """Strongest frequency against its surroundings: a weave or a grille stands out, noise does not.

    The power of noise is exponentially distributed about a smooth mean; of some thousand values the
    largest is about nine means.
    """
    window = np.outer(np.hanning(luma.shape[0]), np.hanning(luma.shape[1]))
    power = np.abs(np.fft.fft2(luma * window)) ** 2
    around = scipy.ndimage.median_filter(power, size=7, mode="wrap") / np.log(2)
    ratio = power / np.maximum(around, 1e-20)
    ratio[:2, :2] = ratio[-1:, :2] = ratio[:2, -1:] = 0  # what the surface left over
    return float(ratio.max())


def _block_means(plane: Array, side: int) -> Array:
    height, width = plane.shape[0] // side * side, plane.shape[1] // side * side
    means: Array = plane[:height, :width].reshape(height // side, side, width // side, side).mean(axis=(1, 3))
    return means


def _reading(patch: Patch, pixels: Array, sigma: Array, reason: Reason, certainty: float) -> PatchReading:
    cv = {f"{name}_cv": float(value * CV_SCALE) for name, value in zip(SIGNALS, sigma, strict=True)}
    return PatchReading(
        patch=patch,
        flat=reason == "flat",
        reason=reason,
        advice=_ADVICE[reason],
        level_cv=float(pixels.mean() * CV_SCALE),
        chroma_cv=float(np.hypot(cv["cb_cv"], cv["cr_cv"]) / np.sqrt(2)),
        confidence=certainty,
        **cv,
    )
