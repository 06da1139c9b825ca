"""Footage with planted faults, and how a finding must follow them."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any
from unittest import TestCase

import cv2
import numpy as np

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.frames import CV_SCALE, Frame, luma
from yellowclean.engine.measure.curve import blind_curve
from yellowclean.engine.measure.detecting import DetectorPass
from yellowclean.engine.measure.findings import DETECTORS, Finding, said_of
from yellowclean.engine.measure.pairs import pairs_at
from yellowclean.engine.media import Source
from yellowclean.engine.noise.profile import NoiseCurve, white_profile
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera


def findings(frames: list[Frame], **about: Any) -> dict[str, Finding]:
    return {f.kind: f for f in survey(MemorySource(frames, **about)).findings}


def found(kind: str, frames: list[Frame], noise: NoiseCurve | None = None, **about: Any) -> Finding:
    """One finding alone, with the noise told (1 CV by default) instead of measured: much faster than a survey."""
    return found_in(MemorySource(frames, **about), kind, noise)


def found_in(source: Source, kind: str, noise: NoiseCurve | None = None) -> Finding:
    """`found` in any footage."""
    detectors = [d for d in DETECTORS if d.kind == kind]
    looking = DetectorPass(source.info, range(source.info.frames), detectors)
    curve = noise or white_profile(1.0).curve
    for n in range(source.info.frames):
        frame = source.read(n)
        wanted = looking.wants(n)
        looking.show(n, luma(frame), frame if wanted else None, curve, said_of(source, n, wanted=wanted))
    return looking.findings()[0]


@functools.cache
def noisy(scene: str, camera: Camera, size: tuple[int, int] = (640, 360)) -> tuple[list[Frame], NoiseCurve]:
    """Eight frames of a test-camera shot and their measured noise."""
    frames = shot_pair(scene, camera, *size, 8)[0]
    source = MemorySource(frames)
    return frames, blind_curve(pairs_at(source, (2, 4, 6)), source.info.clip_levels)[0]


def chart(blur: float = 0.6) -> Frame:
    """Squares turned by several degrees, drawn eight times too large, blurred in light, as a lens blurs."""
    large = np.full((8 * 224, 8 * 384), 60, np.uint8)
    for k, (x, y) in enumerate((x, y) for y in (60, 160) for x in (60, 190, 320)):
        box = cv2.boxPoints(((8 * x, 8 * y), (8 * 64, 8 * 64), 5 + 6 * k))
        cv2.fillPoly(large, [np.int32(box)], 150)
    light = bt709_linear(large.astype(np.float32) / 255)
    plane = cv2.resize(light, (384, 224), interpolation=cv2.INTER_AREA)
    return np.repeat(bt709_encoded(cv2.GaussianBlur(plane, (0, 0), blur))[..., None], 3, axis=2)


def clean(scene: str, frames: int = 6) -> list[Frame]:
    return shot_pair(scene, Camera(noiseless=True), 384, 224, frames)[1]


def grained(frames: list[Frame], sigma_cv: float = 1.0) -> list[Frame]:
    """A little noise, as any camera has."""
    rng = np.random.default_rng(3)
    return [(f + rng.standard_normal(f.shape) * sigma_cv / CV_SCALE).astype(np.float32) for f in frames]


def rising(
    case: TestCase,
    plant: Callable[[float], list[Frame]],
    kind: str,
    strengths: list[float],
    noise: NoiseCurve | None = None,
) -> list[float]:
    """Values of a finding at planted strengths; fails unless they rise and end outside tolerance."""
    seen = [found(kind, plant(s), noise) for s in strengths]
    values = [f.value for f in seen]
    case.assertEqual(values, sorted(values), f"{kind}: {values}")
    case.assertGreater(values[-1], seen[-1].tolerance)
    return values
