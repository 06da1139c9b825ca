"""Motion blur: the shutter read off what moves, and undone along the motion."""

from __future__ import annotations

from unittest import TestCase

import cv2
import numpy as np
from skimage import data

from benchmarks.faulty import exposed
from tests.clips import MemorySource
from tests.engine.blurred import NOISE_CV, error_db, seen, sharpened
from tests.engine.planted import found
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, Region
from yellowclean.engine.judge.again import measured_again, read_by
from yellowclean.engine.measure.findings.motion_blur import DETECTOR
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey


def travel(picture: Frame, motion: tuple[float, float], share: float) -> list[Array]:
    """Light of a camera's travel over a photograph, exposed for a share of the time between frames."""
    return exposed(bt709_linear(picture.astype(np.float32) / 255), 5, *motion, share)


class MotionBlur(TestCase):
    """What a moving camera smears; the truth is what it sees in no time at all."""

    def test_the_exposure_is_told_by_what_moves_and_by_nothing_else(self) -> None:
        for load, motion, share in (
            (data.astronaut, (8, -3), 0.5), (data.coffee, (8, -3), 0.5), (data.astronaut, (8, -3), 0.0),
            (data.chelsea, (6, 2), 0.0), (data.astronaut, (0.4, 0.2), 0.9),
        ):  # fmt: skip
            with self.subTest(load.__name__, motion=motion, share=share):
                read = found("motion blur", seen(travel(load(), motion, share), 0, 4), white_profile(4).curve)
                if share and motion[0] > 1:
                    self.assertAlmostEqual(read.value / 360, share, delta=0.12)
                    self.assertGreater(read.confidence, 0.9)
                else:
                    self.assertEqual((read.value, read.confidence), (0, 0))

    def test_two_moments_in_one_frame_smear_nothing(self) -> None:
        moments = exposed(bt709_linear(data.astronaut().astype(np.float32) / 255), 10, 3, 0, 0.0)
        woven = [moment.copy() for moment in moments[::2]]
        for frame, later in zip(woven, moments[1::2], strict=True):
            frame[1::2] = later[1::2]
        self.assertEqual(found("motion blur", seen(woven, 0, 4), white_profile(4).curve).value, 0)

    def test_it_brings_back_more_than_any_unsharp_mask(self) -> None:
        for load, motion, noise_cv, least in (
            (data.astronaut, (6, 2), 4, 1.5), (data.astronaut, (10, -3), 16, 1.0), (data.coffee, (6, 2), 4, 0.8),
        ):  # fmt: skip
            footage = seen(travel(load(), motion, 0.5), 0, noise_cv)
            truth = np.clip(bt709_encoded(travel(load(), motion, 0)[2]), 0, 1)
            masks = [error_db(f[0] + a * (f[0] - cv2.GaussianBlur(f[0], (0, 0), r)), truth)
                     for f in [footage[2:]] for r in (0.8, 1.2, 1.8) for a in (0, 0.4, 1, 2)]  # fmt: skip
            with self.subTest(load.__name__, motion=motion):
                result = sharpened(footage, noise_cv, shape="motion", shutter=180)
                self.assertGreater(error_db(result, truth), max(masks) + least)

    def test_what_stands_still_is_left_alone_and_a_region_is_as_in_the_whole(self) -> None:
        moved = travel(data.astronaut(), (6, 2), 0.5)
        for frame in moved:
            frame[:, 300:] = moved[0][:, 300:]
        footage = seen(moved, 0)
        step = Step(kind="sharpen", settings={"shape": "motion", "shutter": 180})
        pipeline = Pipeline(Footage(MemorySource(footage)), Plan(profile=white_profile(NOISE_CV), steps=[step]))
        result, place = pipeline.frame(2), Region(120, 60, 80, 60)
        np.testing.assert_array_equal(result[:, 350:], footage[2][:, 350:])
        self.assertGreater(np.abs(result - footage[2])[:, 100:250].mean(), 1 / CV_SCALE)
        np.testing.assert_allclose(pipeline.frame(2, place), result[place.slices], atol=2e-6)

    def test_only_long_exposures_are_undone_unasked_and_read_shorter_then(self) -> None:
        for share, steps in ((0.5, []), (1.0, ["motion"])):
            source = MemorySource(seen(travel(data.astronaut(), (6, -1), share), 0, 1))
            report = survey(source).with_tolerances({"softness": 9.0})
            plan = propose(report)
            with self.subTest(share=share):
                self.assertEqual([s.settings["shape"] for s in plan.steps if s.kind == "sharpen"], steps)
                if steps:
                    left = {f.kind: f for f in measured_again(Pipeline(Footage(source), plan), report)}
                    was = next(f for f in report.findings if f.kind == "motion blur")
                    alone = read_by(DETECTOR, source, was.frame, DETECTOR.beside, report.profile.curve)
                    self.assertGreater(alone.value, 270)
                    self.assertLess(left["motion blur"].value, alone.value / 2)
