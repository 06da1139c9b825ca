"""Repeated frames made anew, against the frames that were lost."""

from __future__ import annotations

from unittest import TestCase

import numpy as np

from tests.clips import MemorySource, psnr, shot_pair
from tests.engine.test_compression import cat
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera, Faults, ShotRecipe, frame_pair, scene_of

LOST = 6


def pipeline(frames: list[Frame], **settings: object) -> Pipeline:
    plan = Plan(profile=white_profile(1.0), steps=[Step(kind="repeats", settings=settings)])
    return Pipeline(Footage(MemorySource(frames)), plan)


def moving(stops: float = 1.0, count: int = 13) -> list[Frame]:
    frames = shot_pair("quay", Camera(stops_under=stops), 384, 216, count, (3.3, 0.4, 0.8))[0]
    return [np.clip(frame, 0, 1) for frame in frames]


def repeating(frames: list[Frame], *lost: int) -> list[Frame]:
    shown = list(frames)
    for n in lost:
        shown[n] = shown[n - 1]
    return shown


class Remade(TestCase):
    def test_nearer_to_the_lost_frame_than_its_repeat_or_a_blend(self) -> None:
        for name, frames, lost in (("quay", moving(), LOST), ("cat", cat(), 3)):
            with self.subTest(name):
                shown = repeating(frames, lost)
                made = psnr(pipeline(shown).frame(lost), frames[lost])
                blend = psnr((shown[lost - 1] + shown[lost + 1]) / 2, frames[lost])
                self.assertGreater(made, psnr(shown[lost], frames[lost]) + 5)
                self.assertGreater(made, blend + 1)

    def test_of_woven_frames_that_repeat_too(self) -> None:
        recipe = ShotRecipe(
            name="tape", scene="cloth", width=384, height=216, motion=(2.2, 0.0, 0.5),
            faults=Faults(interlaced=True, repeated=(LOST,)),
        )  # fmt: skip
        shown, truth = zip(*(frame_pair(recipe, scene_of(recipe), n) for n in range(10)), strict=True)
        work = Pipeline(Footage(MemorySource(list(shown))), propose(survey(MemorySource(list(shown)))).mending())
        self.assertEqual([step.kind for step in work.plan.steps], ["interlace", "repeats"])
        self.assertGreater(psnr(work.frame(LOST), truth[LOST]), psnr(shown[LOST], truth[LOST]) + 5)

    def test_grain_stays_as_strong_as_around(self) -> None:
        frames = shot_pair("cloth", Camera(stops_under=3), 384, 216, 13, (1.5, 0.4, 0.0))[0]
        made = pipeline(repeating(list(frames), LOST)).frame(LOST)
        fine = [float(np.std(np.diff(f[:, :, 1], axis=1))) for f in (made, frames[LOST])]
        self.assertLess(abs(fine[0] / fine[1] - 1), 0.2)

    def test_two_in_a_row_and_all_others_bit_for_bit(self) -> None:
        frames = moving()
        shown = repeating(frames, 4, 8, 9)
        work = pipeline(shown)
        for n in range(len(frames)):
            if n in {4, 8, 9}:
                self.assertGreater(psnr(work.frame(n), frames[n]), psnr(shown[n], frames[n]) + 3)
            else:
                np.testing.assert_array_equal(work.frame(n), shown[n])
        place = Region(33, 51, 71, 40)
        np.testing.assert_array_equal(work.frame(8, place), work.frame(8)[place.slices])

    def test_what_stands_ends_or_is_tiny_is_left(self) -> None:
        standing = [moving()[0]] * 6
        ending = repeating(moving(count=7), 6)
        tiny = [np.full((2, 9, 3), 0.1 * n, np.float32) for n in (1, 2, 3, 3, 5, 6)]
        for frames in (standing, ending, tiny, tiny[:1]):
            for n, frame in enumerate(frames):
                np.testing.assert_array_equal(pipeline(frames).frame(n), frame)


class Proposed(TestCase):
    def test_where_frames_repeat(self) -> None:
        frames = moving()
        for shown, wanted in ((frames, False), (repeating(frames, LOST), True)):
            report = survey(MemorySource(shown))
            self.assertEqual("repeats" in [step.kind for step in propose(report).steps], wanted)
            finding = next(f for f in report.findings if f.kind == "repeated frames")
            self.assertEqual(finding.outside, wanted)
