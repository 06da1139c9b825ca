"""The other findings: each rises with its planted fault, keeps still on clean footage, and tells where."""

from __future__ import annotations

from collections.abc import Callable
from unittest import TestCase

import cv2
import numpy as np

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.frames import CV_SCALE, Frame
from yellowclean.engine.measure.findings import DETECTORS, Finding
from yellowclean.engine.measure.findings.banding import bands_of
from yellowclean.engine.measure.findings.blocking import grid_of
from yellowclean.engine.measure.findings.flicker import gains
from yellowclean.engine.measure.survey import survey
from yellowclean.engine.testcamera import Camera


def findings(frames: list[Frame], **about: object) -> dict[str, Finding]:
    return {f.kind: f for f in survey(MemorySource(frames, **about)).findings}


def clean(scene: str, frames: int = 6) -> list[Frame]:
    return shot_pair(scene, Camera(noiseless=True), 384, 224, frames)[1]


def grained(frames: list[Frame], sigma_cv: float = 1.0) -> list[Frame]:
    """A little noise, as any camera has."""
    rng = np.random.default_rng(3)
    return [(f + rng.standard_normal(f.shape) * sigma_cv / CV_SCALE).astype(np.float32) for f in frames]


def rising(case: TestCase, plant: Callable[[float], list[Frame]], kind: str, strengths: list[float]) -> list[float]:
    """Values of a finding at planted strengths; fails unless they rise and end outside tolerance."""
    found = [findings(plant(s))[kind] for s in strengths]
    values = [f.value for f in found]
    case.assertEqual(values, sorted(values), f"{kind}: {values}")
    case.assertGreater(values[-1], found[-1].tolerance)
    return values


def ramp(levels: int | None) -> Frame:
    """A dusk-like ramp, smooth or in whole steps of the given number of levels over full scale."""
    y, x = np.mgrid[:224, :384].astype(np.float32)
    plane = 0.15 + 0.25 * y / 224 + 0.08 * x / 384
    if levels:
        plane = np.round(plane * levels) / levels
    return np.repeat(plane[..., None], 3, axis=2).astype(np.float32)


class Banding(TestCase):
    def test_step_size_within_a_fifth_over_five_depths(self) -> None:
        for levels in (409, 255, 205, 146, 102):
            step = CV_SCALE / levels
            with self.subTest(step_cv=step):
                found = findings(grained([ramp(levels)] * 2, 0.05))["banding"]
                self.assertAlmostEqual(found.value / step, 1, delta=0.2)
                self.assertTrue(found.outside)
                self.assertGreater(bands_of(ramp(levels)[..., 1]).area, 50)

    def test_smooth_ramps_edges_and_grain_are_no_bands(self) -> None:
        self.assertEqual(findings([ramp(None)] * 2)["banding"].value, 0)
        dithered = [np.round(f * 255) / 255 for f in grained([ramp(None)] * 3, 3.0)]
        self.assertEqual(findings([f.astype(np.float32) for f in dithered])["banding"].value, 0)
        for scene in ("quay", "cloth", "stars", "basin", "dusk"):
            with self.subTest(scene):
                self.assertFalse(findings(clean(scene, 3))["banding"].outside)

    def test_bands_are_found_where_they_are(self) -> None:
        frame = grained([ramp(None)], 4.0)[0]
        frame[100:200, 40:200] = ramp(128)[100:200, 40:200]
        place = findings([frame, frame])["banding"].region
        assert place is not None
        self.assertTrue(0 <= place.x <= 110 and 60 <= place.y <= 140, place)


class Blocking(TestCase):
    @staticmethod
    def blocky(strength_cv: float, offset: tuple[int, int] = (0, 0)) -> list[Frame]:
        rng = np.random.default_rng(1)
        base = np.roll(ramp(None), 0, axis=0)
        height, width = base.shape[:2]
        blocks = rng.standard_normal((height // 8 + 2, width // 8 + 2)).astype(np.float32) * strength_cv / CV_SCALE
        grid = cv2.resize(blocks, None, fx=8, fy=8, interpolation=cv2.INTER_NEAREST)
        moved = grid[8 - offset[1] :, 8 - offset[0] :][:height, :width, None]
        return grained([(base + moved).astype(np.float32)] * 2, 1.0)

    def test_rises_with_the_strength(self) -> None:
        rising(self, self.blocky, "blocking", [0, 1, 2, 4, 8, 16])

    def test_the_offset_is_exact(self) -> None:
        for offset in ((0, 0), (3, 5), (7, 1), (4, 4)):
            with self.subTest(offset):
                self.assertEqual(grid_of(self.blocky(6, offset)[0][..., 1]).offset, offset)

    def test_clean_scenes_have_no_grid(self) -> None:
        for scene in ("quay", "cloth", "basin", "dusk"):
            with self.subTest(scene):
                self.assertFalse(findings(grained(clean(scene, 2)))["blocking"].outside)


class Flicker(TestCase):
    def flickering(self, percent: float, scene: str = "quay") -> list[Frame]:
        frames = shot_pair(scene, Camera(stops_under=2), 384, 224, 24)[0]
        waves = 1 + percent / 100 * np.sin(2 * np.pi * np.arange(24) / 5.3)
        return [bt709_encoded((bt709_linear(f) * g).astype(np.float32)) for f, g in zip(frames, waves, strict=True)]

    def test_amplitude_within_a_tenth_in_spite_of_motion(self) -> None:
        for percent in (2.0, 4.0, 8.0):
            for scene in ("quay", "dusk"):
                with self.subTest(percent=percent, scene=scene):
                    found = findings(self.flickering(percent, scene))["flicker"]
                    self.assertAlmostEqual(found.value * np.sqrt(2) / percent, 1, delta=0.10)
                    self.assertIn("period about 5.", found.detail)

    def test_rises_and_steady_footage_is_inside(self) -> None:
        values = rising(self, self.flickering, "flicker", [0, 0.5, 1, 2, 4])
        self.assertLess(values[0], 0.7)

    def test_a_slow_fade_is_no_flicker(self) -> None:
        frames = shot_pair("dusk", Camera(stops_under=2), 384, 224, 24)[0]
        fade = [bt709_encoded((bt709_linear(f) * (1 - 0.02 * n)).astype(np.float32)) for n, f in enumerate(frames)]
        self.assertFalse(findings(fade)["flicker"].outside)

    def test_gains_come_from_block_ratios(self) -> None:
        means = [np.full((18, 32), level) for level in (0.2, 0.25, 0.2)]
        np.testing.assert_allclose(gains(means), [1, 1.25, 1])


class Limits(TestCase):
    def test_clipping_and_crush_are_the_share_of_pixels(self) -> None:
        for percent in (0.0, 1.0, 4.0, 9.0, 25.0):
            frame = grained([ramp(None)], 2.0)[0]
            rows = round(224 * percent / 100)
            frame[:rows, :, 0] = 1.0
            frame[224 - rows :, :, 2] = 0.0
            found = findings([frame, frame.copy()])
            with self.subTest(percent):
                self.assertAlmostEqual(found["clipping"].value, 100 * rows / 224, delta=0.01)
                self.assertAlmostEqual(found["crush"].value, 100 * rows / 224, delta=0.01)
                self.assertIn("R ", found["clipping"].detail)

    def test_headroom_of_limited_range_is_not_clipping(self) -> None:
        frame = grained([ramp(None)], 2.0)[0]
        frame[:40] = -0.03
        self.assertEqual(findings([frame, frame], range="limited")["crush"].value, 0)


class Repeats(TestCase):
    def test_each_repeated_frame_is_counted_and_named(self) -> None:
        for count in range(5):
            frames = list(shot_pair("quay", Camera(stops_under=2), 384, 224, 24)[0])
            for n in range(count):
                frames[5 + 4 * n] = frames[4 + 4 * n]
            found = findings(frames)["repeated frames"]
            with self.subTest(count):
                self.assertEqual(found.value, count)
                self.assertEqual(found.outside, count > 0)
                if count:
                    self.assertEqual(found.frame, 5)


class Registry(TestCase):
    def test_every_detector_has_a_unit_a_tolerance_and_an_own_place_in_the_order(self) -> None:
        self.assertEqual(len({d.order for d in DETECTORS}), len(DETECTORS))
        self.assertTrue(all(d.unit and d.tolerance >= 0 for d in DETECTORS))
        one = findings([ramp(None)])
        self.assertEqual(list(one)[2:], [d.kind for d in DETECTORS])
