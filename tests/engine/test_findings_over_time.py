"""Findings between frames: each rises with its planted fault, keeps still on clean footage, and tells where."""

from __future__ import annotations

import itertools
from unittest import TestCase

import cv2
import numpy as np
from skimage import data

from tests.clips import shot_pair
from tests.engine.planted import found, noisy, rising
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.frames import CV_SCALE, Frame
from yellowclean.engine.measure.findings.base import Spot
from yellowclean.engine.measure.findings.hotpixels import bright_in, lasting_in
from yellowclean.engine.testcamera import Camera


class Flicker(TestCase):
    def flickering(self, percent: float, scene: str = "quay") -> list[Frame]:
        frames = shot_pair(scene, Camera(stops_under=2), 384, 224, 24)[0]
        waves = 1 + percent / 100 * np.sin(2 * np.pi * np.arange(24) / 5.3)
        return [bt709_encoded((bt709_linear(f) * g).astype(np.float32)) for f, g in zip(frames, waves, strict=True)]

    def test_amplitude_within_a_tenth_in_spite_of_motion(self) -> None:
        for percent in (2.0, 4.0, 8.0):
            for scene in ("quay", "dusk"):
                with self.subTest(percent=percent, scene=scene):
                    finding = found("flicker", self.flickering(percent, scene))
                    self.assertAlmostEqual(finding.value * np.sqrt(2) / percent, 1, delta=0.10)
                    self.assertIn("period about 5.", finding.detail)

    def test_rises_and_steady_footage_is_inside(self) -> None:
        values = rising(self, self.flickering, "flicker", [0, 0.5, 1, 2, 4])
        self.assertLess(values[0], 0.7)

    def test_a_slow_fade_is_no_flicker(self) -> None:
        frames = shot_pair("dusk", Camera(stops_under=2), 384, 224, 24)[0]
        fade = [bt709_encoded((bt709_linear(f) * (1 - 0.02 * n)).astype(np.float32)) for n, f in enumerate(frames)]
        self.assertFalse(found("flicker", fade).outside)

    def test_bands_of_rows_are_found_at_their_strength_in_spite_of_motion(self) -> None:
        for scene in ("quay", "dusk"):
            frames = shot_pair(scene, Camera(stops_under=2), 384, 224, 24)[0]

            def under_mains(percent: float, frames: list[Frame] = frames) -> list[Frame]:
                return [with_bands(f, percent, 2.3, 0.13, n) for n, f in enumerate(frames)]

            values = rising(self, under_mains, "flicker", [0, 1.5, 3, 6, 12])
            self.assertLess(values[0], 0.7)
            for percent, value in zip((1.5, 3, 6, 12), values[1:], strict=True):
                self.assertAlmostEqual(value * np.sqrt(2) / percent, 1, delta=0.25)
            self.assertIn("2.3 down the picture", found("flicker", under_mains(6)).detail)


def with_bands(frame: Frame, percent: float, cycles: float, roll: float, n: int) -> Frame:
    """A frame under lamps that beat against a rolling shutter."""
    down = (np.arange(len(frame)) + 0.5) / len(frame)
    gain = 1 + percent / 100 * np.sin(2 * np.pi * (cycles * down + roll * n))
    return bt709_encoded((bt709_linear(frame) * gain[:, None, None]).astype(np.float32))


class Repeats(TestCase):
    def test_each_repeated_frame_is_counted_and_named(self) -> None:
        for count in range(5):
            frames = list(shot_pair("quay", Camera(stops_under=2), 384, 224, 24)[0])
            for n in range(count):
                frames[5 + 4 * n] = frames[4 + 4 * n]
            finding = found("repeated frames", frames)
            with self.subTest(count):
                self.assertEqual(finding.value, count)
                self.assertEqual(finding.outside, count > 0)
                self.assertEqual([spot.frame for spot in finding.spots], [5 + 4 * n for n in range(count)])
                if count:
                    self.assertEqual(finding.frame, 5)


class Specks(TestCase):
    @staticmethod
    def dusty(frames: list[Frame], count: int, seed: int = 4) -> tuple[list[Frame], list[tuple[int, int, int]]]:
        """Bright and dark dust of 1 to 7 pixels on every frame; where it lies as (frame, x, y)."""
        rng = np.random.default_rng(seed)
        planted, result = [], []
        for n, frame in enumerate(frames):
            marked = frame.copy()
            for _ in range(count):
                x, y = int(rng.integers(8, frame.shape[1] - 8)), int(rng.integers(8, frame.shape[0] - 8))
                shade = 0.0 if marked[y, x].mean() > 0.3 else float(marked[y, x].mean()) + 0.4
                axes = int(rng.integers(1, 4)), int(rng.integers(1, 3))
                cv2.ellipse(
                    marked, (x, y), axes, float(rng.integers(0, 180)), 0, 360, (shade,) * 3, -1, cv2.LINE_AA
                )
                planted.append((n, x, y))
            result.append(marked)
        return result, planted

    def scored(self, scene: str, count: int) -> tuple[float, float]:
        frames, curve = noisy(scene, Camera(stops_under=3))
        marked, planted = self.dusty(frames, count)
        spots = found("specks", marked, curve).spots
        inner = [(n, x, y) for n, x, y in planted if 0 < n < len(frames) - 1]

        def hits(spot: Spot, n: int, x: int, y: int) -> bool:
            beside = spot.x - 3 <= x <= spot.x + spot.width + 3 and spot.y - 3 <= y <= spot.y + spot.height + 3
            return spot.frame == n and beside

        right = sum(any(hits(s, *p) for p in inner) for s in spots)
        seen = sum(any(hits(s, *p) for s in spots) for p in inner)
        return right / max(len(spots), 1), seen / len(inner)

    def test_precision_and_recall_with_stars_and_with_motion(self) -> None:
        for scene in ("stars", "dusk", "cloth"):
            with self.subTest(scene):
                precision, recall = self.scored(scene, 5)
                self.assertGreater(precision, 0.9)
                self.assertGreater(recall, 0.9)

    def test_count_rises_and_stars_alone_are_none(self) -> None:
        frames, curve = noisy("stars", Camera(stops_under=3))
        self.assertEqual(found("specks", frames, curve).value, 0)
        for size in ((640, 360), (1280, 720)):
            self.assertFalse(
                found("specks", *noisy("basin", Camera(stops_under=3), size)).outside, "sparkling water"
            )
        rising(self, lambda count: self.dusty(frames, int(count))[0], "specks", [0, 1, 2, 4, 6], curve)


class HotPixels(TestCase):
    def test_planted_pixels_are_listed_and_stars_are_not(self) -> None:
        for scene in ("stars", "quay"):
            for count in (0, 5, 10, 20, 40):
                with self.subTest(scene=scene, count=count):
                    camera = Camera(stops_under=2, hot_pixels=count)
                    _, curve = noisy(scene, Camera(stops_under=2), (384, 224))
                    finding = found("hot pixels", shot_pair(scene, camera, 384, 224, 8)[0], curve)
                    self.assertAlmostEqual(finding.value, count, delta=max(0.1 * count, 1))
                    self.assertEqual(finding.outside, count > 2)
                    self.assertEqual(len(finding.spots), int(finding.value))

    def test_standing_photographs_through_a_mosaic_have_those_that_are_planted(self) -> None:
        """What is fine and coloured, and what demosaicing makes of it, stands there in every frame too."""
        for picture in (data.astronaut(), data.coffee(), data.rocket()):
            for count in (0, 40):
                rng, looks = np.random.default_rng(3), []
                scene = cv2.resize(picture.astype(np.float32) / 255, (640, 360), interpolation=cv2.INTER_AREA)
                y, x = rng.integers(8, (352, 632), (count, 2)).T
                light = rng.uniform(0.2, 0.5, count)
                for _ in range(8):
                    raw = np.empty(scene.shape[:2], np.float32)
                    for top, left, colour in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
                        raw[top::2, left::2] = scene[top::2, left::2, colour]
                    raw += 4 / CV_SCALE * rng.standard_normal(raw.shape, np.float32)
                    raw[y, x] += light
                    told = cv2.demosaicing((raw.clip(0, 1) * 65535).astype(np.uint16), cv2.COLOR_BayerRGGB2RGB)
                    frame = told.astype(np.float32) / 65535
                    looks.append(bright_in(frame, np.full(raw.shape, 4 / CV_SCALE, np.float32), False))
                with self.subTest(picture=picture.shape, count=count):
                    self.assertAlmostEqual(len(lasting_in(looks).places), 0.85 * count, delta=max(0.15 * count, 2))


class Motion(TestCase):
    def test_each_dropped_frame_of_a_steady_move_is_counted_and_named(self) -> None:
        for gaps in ((), (9,), (9, 16), (8, 13, 18), (8, 13, 18, 23)):
            frames = shot_pair("quay", Camera(stops_under=2), 384, 224, 32)[0]
            kept = [f for n, f in enumerate(frames) if n not in gaps]
            finding = found("dropped frames", kept)
            with self.subTest(gaps):
                self.assertEqual(finding.value, len(gaps), finding.detail)
                if gaps:
                    self.assertEqual(finding.frame, gaps[0])

    def test_interlace_is_found_where_it_is_and_nowhere_else(self) -> None:
        for scene in ("quay", "cloth", "basin"):
            frames, curve = noisy(scene, Camera(stops_under=1), (384, 224))
            with self.subTest(scene):
                self.assertFalse(found("interlace", frames, curve).outside)
        frames, curve = noisy("quay", Camera(stops_under=1), (384, 224))
        values = []
        for share in (0.0, 0.25, 0.5, 0.75, 1.0):
            woven = []
            for before, here in itertools.pairwise(frames):
                both = here.copy()
                both[1 : int(224 * share) : 2] = before[1 : int(224 * share) : 2]
                woven.append(both)
            values.append(found("interlace", woven, curve).value)
        self.assertEqual(values, sorted(values))
        self.assertGreater(values[-1], 2)
