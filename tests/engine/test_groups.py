"""Shots of one camera and setting, told by their noise; and the profile that they share."""

from __future__ import annotations

from typing import ClassVar
from unittest import TestCase

import numpy as np

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.frames import CV_SCALE
from yellowclean.engine.measure.groups import Heard, Taken, difference, groups, pooled
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.noise.profile import NoiseCurve, NoiseProfile
from yellowclean.engine.testcamera import Camera, sigma_curve


def measured(scene: str, stops: float) -> NoiseProfile:
    return measure_noise(MemorySource(shot_pair(scene, Camera(stops_under=stops), 480, 272)[0])).profile


class Groups(TestCase):
    profiles: ClassVar[list[NoiseProfile]]
    noises: ClassVar[list[Heard]]

    @classmethod
    def setUpClass(cls) -> None:
        cls.profiles = [measured(scene, stops) for stops in (3, 4) for scene in ("quay", "dusk", "cloth")]
        cls.noises = [Heard.of(profile) for profile in cls.profiles]

    def test_one_stop_parts_and_the_scene_does_not(self) -> None:
        self.assertEqual(groups([Taken("", "", Heard.of(p)) for p in self.profiles]), [[0, 1, 2], [3, 4, 5]])
        within = max(difference(self.noises[k], self.noises[k + 1]) or 9 for k in (0, 1, 3, 4))
        across = min(difference(self.noises[k], self.noises[k + 3]) or 0 for k in range(3))
        self.assertLess(within * 2.5, across)

    def test_what_files_name_parts_and_joins_where_noise_cannot_tell(self) -> None:
        same = self.noises[0]
        named = [("B-camera", "ISO 800"), ("", ""), ("C-camera", "ISO 800"), ("b-camera", "ISO 1600")]
        self.assertEqual(groups([Taken(c, g, same) for c, g in named]), [[0, 1], [2], [3]])
        dark, light = (self.at(level) for level in (100, 900))
        self.assertIsNone(difference(dark, light))
        self.assertEqual(groups([Taken("", "", dark), Taken("", "", light)]), [[0], [1]])
        self.assertEqual(groups([Taken("A", "1", dark), Taken("A", "1", light)]), [[0, 1]])

    def at(self, level: float) -> Heard:
        levels, share = [0.0, level - 40, level, level + 40, CV_SCALE], [0.0, 0.0, 1.0, 0.0, 0.0]
        lists = {f"{s}_cv": [8.0] * 5 for s in ("r", "g", "b", "luma", "cb", "cr")}
        return Heard(curve=NoiseCurve(level_cv=levels, share=share, **lists), grain_px=1)

    def test_the_shared_profile_is_nearer_the_truth_where_one_shot_holds_nothing(self) -> None:
        """The truth is the camera's own, from grey fields."""
        levels, sigma = sigma_curve(Camera(stops_under=3), np.linspace(0.002, 1, 60))
        shared = pooled(self.profiles[:3], "quay nine")
        at = np.array([0.08, 0.15, 0.3, 0.5, 0.7], np.float32)
        wanted = np.interp(at, levels[:, 1], sigma[:, 1])

        def wrong(profile: NoiseProfile) -> float:
            return float(np.abs(profile.curve.sigma_at(at, "g") / wanted - 1).max())

        self.assertLess(wrong(shared), 0.1)
        self.assertLess(wrong(shared), max(wrong(p) for p in self.profiles[:3]))
        self.assertAlmostEqual(shared.grain_px, self.profiles[0].grain_px, delta=0.1)
        self.assertEqual(shared.name, "quay nine")
