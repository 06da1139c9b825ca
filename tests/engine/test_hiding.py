"""Steps that hide: closed forms, what stays, regions, and what the judge says of them."""

from __future__ import annotations

from typing import Any
from unittest import TestCase

import numpy as np

from tests.clips import MemorySource
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.colour.opponent import colour_difference
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, Region, luma
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.reach.model import Reach, Tones

PICTURE: Frame = np.random.default_rng(5).uniform(0.05, 0.9, (60, 90, 3)).astype(np.float32)


def pipeline(frame: Frame, kind: str, reach: Reach | None = None, **settings: Any) -> Pipeline:
    step = Step(kind=kind, settings=settings, reach=reach or Reach())
    return Pipeline(Footage(MemorySource([frame] * 3)), Plan(profile=white_profile(2), steps=[step]))


def ramp() -> Frame:
    return np.linspace(-0.05, 1.1, 400, dtype=np.float32)[None, :, None].repeat(20, axis=0).repeat(3, axis=2)


class Curves(TestCase):
    def test_it_goes_through_its_points_rises_and_leaves_colour_differences(self) -> None:
        settings: dict[str, Any] = {"at_256": 40, "at_384": -20, "at_896": 15}
        made = luma(pipeline(ramp(), "tone", **settings).frame(0))[0] * CV_SCALE
        before = luma(ramp())[0] * CV_SCALE
        for level, change in ((0, 0), (256, 40), (384, -20), (512, 0), (896, 15), (1023, 0)):
            self.assertAlmostEqual(float(np.interp(level, before, made)) - level, change, delta=0.6)
        self.assertGreaterEqual(np.diff(made).min(), -1e-3)
        np.testing.assert_allclose(made[before < 0], before[before < 0], atol=0.01)
        result = pipeline(PICTURE, "tone", **settings).frame(0)
        for one, other in zip(colour_difference(result), colour_difference(PICTURE), strict=True):
            np.testing.assert_allclose(one, other, atol=1e-5)

    def test_points_that_cross_make_a_flat_piece_and_no_fold(self) -> None:
        made = luma(pipeline(ramp(), "tone", at_384=180, at_512=-180).frame(0))[0]
        self.assertGreaterEqual(np.diff(made).min(), -1e-6)

    def test_noise_grows_by_the_slope(self) -> None:
        grey = np.full((80, 120, 3), 320 / CV_SCALE, np.float32)
        noisy = grey + np.random.default_rng(1).normal(0, 2 / CV_SCALE, grey.shape).astype(np.float32)
        lifted = pipeline(noisy, "tone", at_256=-30, at_384=30)
        told = lifted.noise_left(0)
        self.assertAlmostEqual(told[0], luma(lifted.frame(0)).std() / luma(noisy).std(), delta=0.02)
        self.assertGreater(told[0], 1.3)

    def test_nothing_set_is_nothing_done(self) -> None:
        np.testing.assert_allclose(pipeline(PICTURE, "tone").frame(0), PICTURE, atol=1e-6)
        np.testing.assert_array_equal(pipeline(PICTURE, "tint", strength=0).frame(0), PICTURE)
        np.testing.assert_array_equal(pipeline(PICTURE, "glow", strength=0).frame(0), PICTURE)


class Tints(TestCase):
    def test_luma_stays_and_colour_becomes_that_of_the_colour(self) -> None:
        towards = (700, 300, 200)
        result = pipeline(PICTURE, "tint", towards=towards).frame(0)
        np.testing.assert_allclose(luma(result), luma(PICTURE), atol=1e-5)
        share = result / luma(result)[..., None]
        wanted = np.array(towards) / (np.array(towards) @ (0.2126, 0.7152, 0.0722))
        np.testing.assert_allclose(share, np.broadcast_to(wanted, share.shape), atol=1e-3)
        half = pipeline(PICTURE, "tint", towards=towards, strength=50).frame(0)
        np.testing.assert_allclose(half, (PICTURE + result) / 2, atol=1e-5)
        drained = pipeline(PICTURE, "tint").frame(0)
        np.testing.assert_allclose(np.ptp(drained, axis=2), 0, atol=1e-5)


class Glows(TestCase):
    def test_a_point_of_light_spreads_as_a_bell_and_nothing_gets_darker(self) -> None:
        """Closed form: light of deviation s is L / (2 π s²) exp(-r² / 2 s²), cut off at three."""
        light = np.full((121, 121, 3), 0.02, np.float32)
        light[60, 60] = 0.9
        result = bt709_linear(pipeline(bt709_encoded(light), "glow", strength=100, radius=6).frame(0))
        threshold = float(bt709_linear(np.array([600 / CV_SCALE], np.float32))[0])
        away = np.hypot(*(np.indices((121, 121)) - 60))
        bell = (0.9 - threshold) / (2 * np.pi * 36) * np.exp(-(away**2) / 72)
        near = (away < 15) & (away > 0)
        np.testing.assert_allclose((result[..., 1] - light[..., 1])[near], bell[near], rtol=0.05, atol=2e-6)
        self.assertGreaterEqual((result - light).min(), -1e-5)
        np.testing.assert_array_equal(result[away > 40], bt709_linear(bt709_encoded(light))[away > 40])


class All(TestCase):
    def test_a_region_is_that_of_the_whole(self) -> None:
        whole: dict[str, Array] = {}
        for kind, settings in (
            ("tone", {"at_256": 40}), ("tint", {"towards": (700, 300, 200)}), ("glow", {"radius": 5, "above": 400}),
        ):  # fmt: skip
            made = pipeline(PICTURE, kind, **settings)
            whole[kind] = made.frame(0)
            self.assertGreater(np.abs(whole[kind] - PICTURE).max(), 0.02)
            for region in (Region(3, 5, 40, 30), Region(89, 59, 1, 1)):
                np.testing.assert_array_equal(made.frame(0, region), whole[kind][region.slices])

    def test_they_act_where_they_reach_and_are_judged_like_any_other(self) -> None:
        dark = Reach(tones=Tones(high_cv=300, soft_cv=20))
        halves = np.full((64, 96, 3), 0.15, np.float32)
        halves[:, 48:] = 0.7
        made = pipeline(halves, "tint", dark, towards=(900, 300, 100))
        changed = np.abs(made.frame(0) - halves).max(axis=2) > 1e-4
        self.assertTrue(changed[:, :40].all())
        self.assertFalse(changed[:, 56:].any())
        grey = np.full((64, 96, 3), 0.4, np.float32)
        judged = overwork(pipeline(grey, "tint", towards=(900, 300, 100), strength=60), [1]).report
        self.assertEqual(next(m.verdict for m in judged.measures if m.kind == "cast"), "too far")
