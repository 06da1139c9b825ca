"""Enlarging by several frames: against the truth and the best of plain kernels, and where it must add nothing."""

from __future__ import annotations

from unittest import TestCase

import cv2
import numpy as np
from skimage import data

from benchmarks.borne_out import Planted, masked, textured, untouched
from tests.clips import MemorySource
from yellowclean.engine.colour.curves import bt709_encoded
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame, Region, luma
from yellowclean.engine.judge.overwork import MEASURES, Evidence, overwork
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import ShotRecipe, scene_of
from yellowclean.engine.treat._doubling import doubled

WIDTH, HEIGHT, FRAMES, N = 200, 112, 5, 2


def large(scene: str, motion: tuple[float, float, float], times: int = 2) -> list[Frame]:
    """A scene as a camera of so many times the pixels sees it."""
    recipe = ShotRecipe(
        name=scene, scene=scene, width=times * WIDTH, height=times * HEIGHT, frames=FRAMES, motion=motion  # type: ignore[arg-type]
    )  # fmt: skip
    light = scene_of(recipe)
    return [np.clip(bt709_encoded(cv2.GaussianBlur(light(n), (0, 0), 0.5)), 0, 1) for n in range(FRAMES)]


def small(truth: list[Frame], noise_cv: float = 1.0) -> list[Frame]:
    """The same through pixels that are boxes of several of its own, with noise."""
    rng = np.random.default_rng(2)
    seen = [cv2.resize(frame, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA) for frame in truth]
    return [(f + rng.standard_normal(f.shape) * noise_cv / CV_SCALE).astype(np.float32) for f in seen]


def pipeline_of(footage: list[Frame], noise_cv: float = 1.0, **settings: object) -> Pipeline:
    plan = Plan(profile=white_profile(noise_cv), steps=[Step(kind="enlarge", settings=settings)])
    return Pipeline(Footage(MemorySource(footage)), plan)


def enlarged(footage: list[Frame], noise_cv: float = 1.0, **settings: object) -> Frame:
    return pipeline_of(footage, noise_cv, **settings).frame(N)


def error_db(result: Frame, truth: Frame) -> float:
    apart = (luma(np.clip(result, 0, 1)) - luma(truth))[16:-16, 16:-16]
    return float(-10 * np.log10((apart**2).mean()))


def best_kernel(frame: Frame, truth: Frame) -> float:
    """The best of cubic and Lanczos, with and without an unsharp mask."""
    size = truth.shape[1::-1]
    plain = [cv2.resize(frame, size, interpolation=kernel) for kernel in (cv2.INTER_CUBIC, cv2.INTER_LANCZOS4)]
    made = [
        p + a * (p - cv2.GaussianBlur(p, (0, 0), radius))
        for p in plain for radius in (1, 1.5, 2) for a in (0, 0.2, 0.4, 0.7, 1)
    ]  # fmt: skip
    return max(error_db(mask, truth) for mask in made)


class Enlarging(TestCase):
    def test_a_moving_shot_holds_more_than_any_kernel_makes_of_one_frame(self) -> None:
        for noise_cv, least in ((1.0, 2.0), (8.0, 1.2)):
            truth = large("figurehead", (1.3, 0.6, 0.8))
            footage = small(truth, noise_cv)
            with self.subTest(noise_cv=noise_cv):
                found = error_db(enlarged(footage, noise_cv), truth[N])
                self.assertGreater(found, best_kernel(footage[N], truth[N]) + least)

    def test_where_neighbours_hold_nothing_it_does_no_harm(self) -> None:
        standing = large("cloth", (0, 0, 0))
        turned = [np.ascontiguousarray(f[:: 1 - 2 * (n % 2)]) for n, f in enumerate(large("quay", (90, 30, 0)))]
        for name, truth in (("standing", standing), ("cut at every frame", turned)):
            footage = small(truth)
            with self.subTest(name):
                alone = cv2.resize(footage[N], truth[N].shape[1::-1], interpolation=cv2.INTER_CUBIC)
                self.assertGreater(error_db(enlarged(footage), truth[N]), error_db(alone, truth[N]) - 0.1)

    def test_one_frame_of_photographs_gains_by_what_was_learned_from_drawn_pictures(self) -> None:
        for load, least in ((data.astronaut, 0.5), (data.coffee, 0.5), (data.chelsea, 0.1)):
            picture = load().astype(np.float32) / 255
            truth = cv2.resize(picture, (2 * WIDTH, 2 * HEIGHT), interpolation=cv2.INTER_AREA)
            footage = small([truth])
            with self.subTest(load.__name__):
                learned, plain = (pipeline_of(footage, learned=choice).frame(0) for choice in (True, False))
                others = max(error_db(plain, truth), best_kernel(footage[0], truth))
                self.assertGreater(error_db(learned, truth), others + least)

    def test_what_was_learned_holds_at_any_exposure_and_level(self) -> None:
        grey = luma(small(large("cloth", (0, 0, 0)))[0])
        sigma = np.full_like(grey, 1 / CV_SCALE)
        for gain, lift in ((8.0, 0.0), (0.1, 0.0), (1.0, -0.4)):
            made, plain = doubled(gain * grey + np.float32(lift), gain * sigma), doubled(grey, sigma)
            np.testing.assert_allclose(made, gain * plain + lift, atol=2e-5 * max(gain, 1))

    def test_any_factor_and_any_region_come_out_as_in_the_whole_frame(self) -> None:
        footage = small(large("quay", (3, 0.7, 0.5)))
        sizes: tuple[tuple[dict[str, float], tuple[int, int]], ...] = (
            ({"factor": 2}, (400, 224)), ({"factor": 1.5}, (300, 168)), ({"width": 301}, (301, 169)),
        )  # fmt: skip
        for settings, size in sizes:
            pipeline = pipeline_of(footage, **settings)
            whole = pipeline.frame(N)
            with self.subTest(settings):
                self.assertEqual(whole.shape[1::-1], size)
                for region in (Region(0, 0, 40, 30), Region(111, 57, 41, 35)):
                    piece = pipeline.covered(region)
                    np.testing.assert_array_equal(pipeline.frame(N, region), whole[piece.slices])

    def test_small_odd_and_single_frames(self) -> None:
        for height, width in ((1, 1), (5, 3), (33, 17)):
            footage = [np.full((height, width, 3), 0.4, np.float32)] * 3
            result = enlarged(footage, factor=2)
            self.assertEqual(result.shape, (2 * height, 2 * width, 3))
            np.testing.assert_allclose(result, 0.4, atol=5e-5)
        with self.assertRaisesRegex(ValueError, "less than or equal to 4"):
            Step(kind="enlarge", settings={"factor": 9})

    def test_a_larger_size_is_proposed_so_and_a_smaller_one_by_a_kernel(self) -> None:
        report = survey(MemorySource(small(large("quay", (3, 0.7, 0.5)))))
        asked = ((2.0, "enlarge"), ((300, 168), "enlarge"), (0.5, "resize"), ((400, 90), "resize"), (6.0, "resize"))
        for scale, kind in asked:
            self.assertEqual(propose(report, scale=scale).steps[-1].kind, kind, scale)


class Judged(TestCase):
    """What enlarging added, by frames that had no part in it."""

    def test_what_no_frame_holds_is_told_and_what_frames_hold_is_not(self) -> None:
        footage = small(large("cloth", (1.2, 0.5, 0.8)), 4)
        for factor in (2, 1.5):
            plan = pipeline_of(footage, 4, factor=factor, frames=1).plan
            for change, told in ((untouched, set()), (textured(8), {"invented"}), (masked(2), {"unsupported"})):
                evidence = Evidence(Planted(Footage(MemorySource(footage)), plan, change), N)
                readings = {kind: MEASURES[kind].read(evidence) for kind in ("unsupported", "invented")}
                with self.subTest(factor=factor, told=told):
                    far = {kind for kind, reading in readings.items() if reading.value >= MEASURES[kind].limit}
                    self.assertLessEqual(told, far)
                    self.assertTrue(told or not far)
                    for kind in told:
                        self.assertEqual(readings[kind].map.shape, evidence.shape)
                        self.assertGreater(readings[kind].map.max(), 1)

    def test_a_region_is_judged_by_itself_and_too_few_frames_tell_nothing(self) -> None:
        footage = small(large("cloth", (1.2, 0.5, 0.8)), 4)
        report = overwork(pipeline_of(footage, 4, factor=1.5, frames=1), [N], Region(61, 21, 77, 59)).report
        found = {m.kind: m for m in report.measures}
        self.assertEqual(found["unsupported"].detail, "of what enlarging added")
        self.assertLess(found["unsupported"].value, 40)
        few = {m.kind: m for m in overwork(pipeline_of(footage, 4, factor=2, frames=2), [N]).report.measures}
        self.assertEqual((few["unsupported"].value, few["unsupported"].detail), (0, "too few frames to tell"))
