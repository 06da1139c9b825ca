"""Footage that a lens blurred, and how near to the truth it comes when that is undone."""

from __future__ import annotations

import cv2
import numpy as np

from tests.clips import MemorySource
from yellowclean.engine.colour.curves import bt709_encoded
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, luma
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step

NOISE_CV = 3.0


def seen(light: list[Array], blur: float, noise_cv: float = NOISE_CV) -> list[Frame]:
    """Footage of light through a lens that blurs it, with noise in every channel."""
    rng = np.random.default_rng(5)
    lens = [cv2.GaussianBlur(frame, (0, 0), blur) if blur else frame for frame in light]
    noisy = [bt709_encoded(f) + rng.standard_normal(f.shape) * noise_cv / CV_SCALE for f in lens]
    return [np.clip(frame, 0, 1).astype(np.float32) for frame in noisy]


def sharpened(footage: list[Frame], noise_cv: float = NOISE_CV, **settings: object) -> Frame:
    plan = Plan(profile=white_profile(noise_cv), steps=[Step(kind="sharpen", settings=settings)])
    return Pipeline(Footage(MemorySource(footage)), plan).frame(2)


def error_db(result: Frame, truth: Frame) -> float:
    apart = (luma(np.clip(result, 0, 1)) - luma(truth))[12:-12, 12:-12]
    return float(-10 * np.log10((apart**2).mean()))
