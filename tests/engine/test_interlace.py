"""Frames woven of two moments, brought to the first: against the moments themselves."""

from __future__ import annotations

from unittest import TestCase

import numpy as np

from tests.clips import MemorySource, psnr, shot_pair
from tests.engine.planted import found
from yellowclean.engine.errors import BadInput
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.measure.fields import order_of
from yellowclean.engine.media import Lines, Moments
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

COUNT = 8
LINES: dict[Lines, int] = {"top": 0, "bottom": 1}


def moments(scene: str) -> list[Frame]:
    """Twice as many as there are frames."""
    motion = (3.0, 0.5, 0.4)
    return [np.clip(f, 0, 1) for f in shot_pair(scene, Camera(stops_under=1), 384, 216, 2 * COUNT, motion)[0]]


def woven(seen: list[Frame], first: Lines) -> list[Frame]:
    frames = [frame.copy() for frame in seen[::2]]
    for frame, later in zip(frames, seen[1::2], strict=True):
        frame[1 - LINES[first] :: 2] = later[1 - LINES[first] :: 2]
    return frames


def pipeline(frames: list[Frame], **settings: object) -> Pipeline:
    plan = Plan(profile=white_profile(2.0), steps=[Step(kind="interlace", settings=settings)])
    return Pipeline(Footage(MemorySource(frames)), plan)


class Interlaced(TestCase):
    def test_either_order_is_told_and_brought_to_its_first_moment(self) -> None:
        for scene in ("quay", "cloth"):
            seen = moments(scene)
            for first, line in LINES.items():
                with self.subTest(scene=scene, first=first):
                    frames = woven(seen, first)
                    result = pipeline(frames).frame(3)
                    np.testing.assert_array_equal(result[line::2], frames[3][line::2])
                    self.assertGreater(psnr(result, seen[6]), psnr(frames[3], seen[6]) + 5)
                    np.testing.assert_array_equal(result, pipeline(frames, first=first).frame(3))
                    other = "bottom" if first == "top" else "top"
                    self.assertGreater(psnr(result, seen[6]), psnr(pipeline(frames, first=other).frame(3), seen[7]))

    def test_the_finding_names_the_order_and_is_inside_its_tolerance_after(self) -> None:
        frames = woven(moments("quay"), "bottom")
        finding = found("interlace", frames)
        self.assertTrue(finding.outside)
        self.assertIn("bottom lines first", finding.detail)
        treated = pipeline(frames)
        self.assertFalse(found("interlace", [treated.frame(n) for n in range(COUNT)]).outside)
        self.assertNotEqual(overwork(treated, [3]).report.verdict, "too far")

    def test_each_field_as_a_frame_is_its_moment(self) -> None:
        """Twice as many, at twice the rate, each nearer to its own moment than to those beside."""
        seen = moments("quay")
        for first, line in LINES.items():
            woven_source = MemorySource(woven(seen, first), timecode="10:00:00:20", rate="25", skipped=3)
            source = Moments(woven_source, first)
            info = source.info
            self.assertEqual((info.frames, info.rate, info.skipped, info.fields), (2 * COUNT, "50", 6, first))
            self.assertEqual(info.timecode, "10:00:00:40")
            for n in (0, 5, 6, 2 * COUNT - 1):
                frame, kept = source.read(n), slice(line ^ (n % 2), None, 2)
                np.testing.assert_array_equal(frame[kept], woven_source.frames[n // 2][kept])
                near = [psnr(frame, seen[k]) for k in (n - 1, n, n + 1) if 0 <= k < 2 * COUNT]
                self.assertEqual(max(near), psnr(frame, seen[n]))
            self.assertEqual(order_of(COUNT, woven_source.luma), first)
        with self.assertRaisesRegex(BadInput, "too few to be woven"):
            Moments(MemorySource([frame[:2]] * 2), "top")

    def test_what_stands_keeps_its_finest_lines(self) -> None:
        frame = moments("quay")[0]
        frame[60:120, 100:200] = np.where(np.arange(60)[:, None, None] % 4 < 2, 0.2, 0.7)
        self.assertGreater(psnr(pipeline([frame] * 5).frame(2), frame), 45)

    def test_a_region_is_that_of_the_whole_frame_and_ends_and_odd_sizes_pass(self) -> None:
        frames = [f[:201, :333] for f in woven(moments("quay"), "top")]
        place = Region(33, 51, 71, 40)
        for n in (0, 3, COUNT - 1):
            whole = pipeline(frames).frame(n)
            np.testing.assert_array_equal(pipeline(frames).frame(n, place), whole[place.slices])
        for shape in ((1, 1), (2, 9), (5, 5)):
            frame = np.full((*shape, 3), 0.4, np.float32)
            for count in (1, 2):
                np.testing.assert_allclose(pipeline([frame] * count).frame(0), frame, atol=2e-5)

    def test_proposed_where_frames_are_woven_and_not_else(self) -> None:
        seen = moments("quay")
        for frames, wanted in ((woven(seen, "top"), True), (seen[::2], False)):
            steps = propose(survey(MemorySource(frames))).steps
            self.assertEqual([s.kind for s in steps][:1] == ["interlace"], wanted)
