"""Banding repaired: against the ramp that was rounded, and at its limits."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
from skimage import data

from tests.clips import MemorySource
from tests.engine.planted import found, grained, rising
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame, Region
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.media import Destination, open_source
from yellowclean.engine.media.formats import OUTPUT_FORMATS
from yellowclean.engine.media.video_writer import coded
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.render import delivered, render
from yellowclean.engine.survey import survey


def dusk(height: int = 270, width: int = 480) -> Frame:
    """A sky as a sensor of endless depth sees it, behind posts, with stars."""
    y, x = np.mgrid[:height, :width].astype(np.float32)
    sky = 0.16 + 0.13 * (y / height) ** 2 + 0.03 * x / width
    frame = np.stack([sky, 0.9 * sky + 0.02, 1.1 * sky], axis=-1)
    frame[:, 100:104] = frame[180:, 300:420] = 0.03
    for sx, sy in np.random.default_rng(4).integers(8, (width - 8, 170), (30, 2)):
        frame[sy, sx] += 0.2
    return frame.astype(np.float32)


def rounded(frame: Frame, step_cv: float) -> Frame:
    step = np.float32(step_cv / CV_SCALE)
    return (np.rint(frame / step) * step).astype(np.float32)


def repaired(frame: Frame, region: Region | None = None, **settings: object) -> Frame:
    plan = Plan(profile=white_profile(1.0), steps=[Step(kind="bands", settings=settings)])
    return Pipeline(Footage(MemorySource([frame])), plan).frame(0, region)


def error_cv(result: Frame, truth: Frame) -> float:
    return float(np.sqrt(np.mean((result - truth) ** 2)) * CV_SCALE)


class Bands(TestCase):
    def test_the_judge_tells_bands_that_went_from_shapes_that_went_with_them(self) -> None:
        cat = cv2.resize(data.chelsea().astype(np.float32) / 255, (480, 320), interpolation=cv2.INTER_AREA)
        for frame, step, far in ((rounded(dusk(), 8), 12, False), (rounded(dusk(), 4), 6, False), (cat, 60, True)):
            plan = Plan(profile=white_profile(1.0), steps=[Step(kind="bands", settings={"step": step})])
            report = overwork(Pipeline(Footage(MemorySource([frame] * 3)), plan), [1]).report
            with self.subTest(step, told=report.summary):
                shapes = next(m for m in report.measures if m.kind == "shapes")
                self.assertEqual(shapes.verdict == "too far", far)
                self.assertEqual(report.verdict == "too far", far)

    def test_nearer_to_the_ramp_than_the_best_of_blurs_at_any_step(self) -> None:
        truth = dusk()
        for step_cv in (4, 8, 12, 16):
            banded = rounded(truth, step_cv)
            blurs = [cv2.GaussianBlur(banded, (0, 0), sigma) for sigma in (1, 2, 4, 8)]
            blurs += [cv2.bilateralFilter(banded, 25, k * step_cv / CV_SCALE, 8) for k in (1, 2, 3)]
            best = min(error_cv(blur, truth) for blur in blurs)
            ours = error_cv(repaired(banded, step=1.5 * step_cv), truth)
            self.assertLess(ours, 0.9 * best, f"{step_cv} CV")

    def test_means_stay_what_they_are_where_steps_are_crossed_within_a_few_pixels(self) -> None:
        """Errors of rounding cancel there (Widrow, Kollár, Liu 1996); else means are off by 1.3 times as much."""
        cat = cv2.resize(data.chelsea().astype(np.float32) / 255, (480, 320), interpolation=cv2.INTER_AREA)
        truth = cv2.GaussianBlur(cat, (0, 0), 3)
        banded = rounded(truth, 16)
        result = repaired(banded, step=24)
        self.assertLess(error_cv(result, truth), 0.37 * error_cv(banded, truth))
        means = [cv2.GaussianBlur(frame, (0, 0), 2) for frame in (result, banded, truth)]
        self.assertLess(error_cv(means[0], means[2]), 1.02 * error_cv(means[1], means[2]))

    def test_a_negative_is_repaired_as_the_picture_is(self) -> None:
        banded = rounded(dusk(), 8)
        self.assertLess(error_cv(1 - repaired(1 - banded), repaired(banded)), 0.01)

    def test_no_pixel_goes_beyond_half_a_step_and_stars_keep_their_peaks(self) -> None:
        truth = dusk()
        banded = rounded(truth, 8)
        result = repaired(banded)
        self.assertLessEqual(np.abs(result - banded).max() * CV_SCALE, 4.001)
        self.assertLess(error_cv(result, truth), 0.6 * error_cv(banded, truth))

    def test_what_has_no_bands_is_untouched_bit_for_bit(self) -> None:
        fine = data.gravel()[:256, :256].astype(np.float32) / 255
        texture = np.repeat(fine[..., None], 3, axis=2)
        noise = grained([dusk()], 6.0)[0]
        for frame in (texture, noise):
            changed = (repaired(frame, step=6) != frame).any(axis=2).mean()
            self.assertLess(changed, 0.01)

    def test_a_region_is_that_of_the_whole_frame(self) -> None:
        banded = rounded(dusk(271, 483), 8)
        whole = repaired(banded)
        for place in (Region(97, 33, 51, 47), Region(0, 200, 90, 71), Region(380, 0, 103, 40)):
            np.testing.assert_array_equal(repaired(banded, place), whole[place.slices])

    def test_luma_and_chroma_are_rebuilt_in_their_own_planes(self) -> None:
        truth = dusk()
        matrix = np.array([[0.2126, 0.7152, 0.0722], [-0.1146, -0.3854, 0.5], [0.5, -0.4542, -0.0458]])
        codes = rounded((truth @ matrix.T).astype(np.float32), 4)
        banded = (codes @ np.linalg.inv(matrix).T).astype(np.float32)
        own, other = (error_cv(repaired(banded, step=6, planes=p), truth) for p in ("bt709", "rgb"))
        self.assertLess(own, 0.8 * error_cv(banded, truth))
        self.assertLess(own, other)

    def test_any_size_and_wild_values_do_no_harm(self) -> None:
        for shape in ((1, 1), (3, 200), (17, 9)):
            frame = np.full((*shape, 3), 0.3, np.float32)
            np.testing.assert_array_equal(repaired(frame), frame)
        wild = rounded(dusk(), 8)
        wild[5, 5], wild[100, 200, 1] = np.nan, 1e9
        result = repaired(wild)
        self.assertTrue(np.isfinite(result[20:90, 20:90]).all())


class FromFindingToFile(TestCase):
    def test_coarse_steps_are_found_at_their_size(self) -> None:
        rising(self, lambda step: [rounded(dusk(), step)] * 2, "banding", [2, 4, 8, 12, 16])
        self.assertAlmostEqual(found("banding", [rounded(dusk(), 16)] * 2).value, 16, delta=2)

    def test_proposed_for_bands_alone_with_the_reason(self) -> None:
        plan = propose(survey(MemorySource([rounded(dusk(), 8)] * 6)))
        self.assertEqual([step.kind for step in plan.steps], ["bands"])
        self.assertIn("Steps of 8", plan.steps[0].reason)
        self.assertEqual([s.kind for s in propose(survey(MemorySource([dusk()] * 6))).steps], [])

    def test_contours_of_a_frame_or_two_among_noise_are_none(self) -> None:
        """As a codec leaves them in the dark; and where noise hides steps, the ramp is not rebuilt behind it."""
        banded, plain = rounded(dusk(), 8), dusk()
        self.assertEqual(found("banding", [banded, *[plain] * 9]).value, 0)
        report = survey(MemorySource([banded] * 6))
        curve = report.profile.curve.model_copy(update={"luma_cv": [6.0] * len(report.profile.curve.level_cv)})
        noisy = report.model_copy(update={"profile": report.profile.model_copy(update={"curve": curve})})
        self.assertEqual([step.kind for step in propose(noisy).steps if step.kind == "bands"], [])

    def test_a_ramp_of_eight_bits_is_delivered_in_ten_without_a_contour(self) -> None:
        ramp = np.linspace(0.2, 0.35, 480, dtype=np.float32)[None, :, None].repeat(270, axis=0).repeat(3, axis=2)
        eight = (np.rint(ramp * 255) / 255).astype(np.float32)
        self.assertGreater(found("banding", [eight] * 2).value, 3.5)
        lossless = replace(OUTPUT_FORMATS["prores-4444"].segment(MemorySource([eight]).info), ending=".mkv")
        with tempfile.TemporaryDirectory() as folder:
            target = Destination(Path(folder) / "ten.mkv", lossless)
            plan = Plan(profile=white_profile(1.0), steps=[Step(kind="bands", settings={"step": 6})])
            render(MemorySource([eight] * 2), plan, target)
            pipeline = Pipeline(Footage(MemorySource([eight] * 2)), plan)
            handed = [delivered(pipeline, 1, lossless) for _ in range(2)]
            once, again = (coded(frame, lossless, pipeline.footage.info, dither) for frame, dither in handed)
            np.testing.assert_array_equal(once, again)
            written = open_source(target.path)
            back = [written.read(n) for n in (0, 1)]
            written.close()
        reading = found("banding", back)
        self.assertFalse(reading.outside, reading)
        self.assertLess(abs(float((back[0] - ramp).mean())) * CV_SCALE, 0.1)
        # A contour is what changes within a few pixels beyond the ramp's own rise: 4 CV before.
        across = cv2.blur((back[0] - ramp).mean(axis=(0, 2))[None], (3, 1))[0] * CV_SCALE
        self.assertLess(np.abs(across[5:] - across[:-5]).max(), 0.75)
