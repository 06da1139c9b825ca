"""The test strip of steps that mend: where it says to stop, and by which figures."""

from __future__ import annotations

from unittest import TestCase

import cv2
import numpy as np

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region
from yellowclean.engine.judge.strip import Strip, StripRung, repair_stop, strip_at
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera import Camera


class RepairStrips(TestCase):
    """What a repair leaves is read by the finding's own detector, what it breaks by overwork's measures."""

    def test_flicker_goes_and_a_swell_that_is_meant_stays(self) -> None:
        at = np.arange(48)
        jumps = 1 + 0.05 * np.random.default_rng(5).standard_normal(48)
        frames = [np.clip(f, 0, 1) for f in shot_pair("quay", Camera(stops_under=1), 320, 180, 48)[0]]
        lit = [bt709_encoded(bt709_linear(f) * np.float32(gain)) for f, gain in zip(frames, jumps, strict=True)]
        strip = self._strip(lit, "flicker", "taken", 24)
        left = [rung.left for rung in strip.rungs]
        self.assertEqual(left, sorted(left, reverse=True))
        self.assertEqual((strip.stop, strip.left.unit), (6, "% of level"))
        self.assertGreater(left[0], 3 * 0.7)
        self.assertLess(left[6], 0.7)

        swell = 1 + 0.25 * np.sin(2 * np.pi * at / 20)
        both = [
            bt709_encoded(bt709_linear(f) * np.float32(gain)) for f, gain in zip(frames, swell * jumps, strict=True)
        ]
        strip = self._strip(both, "flicker", "slow", 24)
        self.assertGreaterEqual(strip.rungs[-1].lost, 100)
        self.assertLess(strip.rungs[strip.stop].lost, 100)
        self.assertLess(strip.rungs[strip.stop].value, 20)

    def test_specks_are_counted_and_a_setting_that_changes_nothing_stays(self) -> None:
        frames = [np.clip(f, 0, 1) for f in shot_pair("quay", Camera(stops_under=1), 320, 180, 7)[0]]
        for x in range(40, 280, 30):
            cv2.circle(frames[3], (x, 60 + x // 4), 2, (0.9, 0.9, 0.9), -1)
        strip = self._strip(frames, "specks", "sure", 3)
        self.assertEqual(strip.rungs[strip.stop].value, 30)
        self.assertLess(strip.rungs[strip.stop].left, 1)
        self.assertRegex(strip.reason, r"specks [0-9.]+ a frame, without the step [0-9.]+ \(tolerance 1\)")

    def test_the_kindest_of_the_best_is_taken(self) -> None:
        def stop(*told: tuple[float, float, float]) -> int:
            return repair_stop([StripRung(value=v, left=a, lost=b) for v, a, b in told], 1.0, 50)

        self.assertEqual(stop((0, 9, 0), (50, 2, 10), (100, 0.5, 120)), 1)  # the last breaks too much
        self.assertEqual(stop((0, 0.5, 60), (50, 0.55, 20), (100, 0.5, 90)), 1)  # alike in what is left
        self.assertEqual(stop((0, 0, 0), (45, 0, 0), (100, 0, 0)), 1)  # alike in all

    def _strip(self, frames: list[Frame], kind: str, setting: str, n: int) -> Strip:
        plan = Plan(profile=white_profile(3.0), steps=[Step(kind=kind)])
        return strip_at(Footage(MemorySource(frames)), plan, 0, setting, n, Region(60, 20, 200, 140))
