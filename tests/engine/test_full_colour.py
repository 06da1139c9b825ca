"""Colour at full size against pictures whose colour was never halved."""

from __future__ import annotations

from unittest import TestCase

import numpy as np
import numpy.typing as npt
from skimage import data

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.colour.opponent import colour_difference
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region, luma
from yellowclean.engine.media.planes import Coding, rgb_from_yuv, yuv_from_rgb
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import offered, propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

CODING = Coding("bt709", 8, full_range=False)


def halved(frame: Frame, siting: str = "left", chroma: str = "4:2:0") -> Frame:
    return rgb_from_yuv(*yuv_from_rgb(frame, CODING, chroma, siting=siting), CODING, siting)


def photograph(picture: npt.NDArray[np.uint8]) -> Frame:
    return picture.astype(np.float32) / np.float32(255)


def full(frame: Frame, **settings: object) -> Pipeline:
    plan = Plan(profile=white_profile(0.5), steps=[Step(kind="full-colour", settings=settings)])
    return Pipeline(Footage(MemorySource([frame])), plan)


def apart(frame: Frame, truth: Frame) -> float:
    """Mean square of both colours' error."""
    pairs = zip(colour_difference(frame), colour_difference(truth), strict=True)
    return float(np.mean([(a - b) ** 2 for a, b in pairs]))


class FullColour(TestCase):
    def test_nearer_to_colour_that_was_never_halved_and_luma_stays(self) -> None:
        scene = np.clip(shot_pair("figurehead", Camera(noiseless=True), 385, 217, 1)[1][0], 0, 1)
        photographs = [photograph(picture[:301, :401]) for picture in (data.astronaut(), data.coffee())]
        ways = (("left", "4:2:0", "both"), ("center", "4:2:0", "both"), ("bottom", "4:2:2", "across"))
        for least_db, truth in zip((0.3, 0.5, 0.5), (scene, *photographs), strict=True):
            for siting, chroma, way in ways:
                with self.subTest(siting=siting, chroma=chroma, least_db=least_db):
                    seen = halved(truth, siting, chroma)
                    work = full(seen, siting=siting, halved=way)
                    made = work.frame(0)
                    gain_db = 10 * np.log10(apart(seen, truth) / apart(made, truth))
                    self.assertGreater(gain_db, least_db)
                    self.assertLess(np.abs(luma(made) - luma(seen)).max(), 1e-5)
                    place = Region(31, 50, 97, 61)
                    np.testing.assert_array_equal(work.frame(0, place), made[place.slices])

    def test_grey_and_colour_without_a_counterpart_in_luma_stay(self) -> None:
        grey = np.repeat(photograph(data.camera())[:256, :256, None], 3, axis=2)
        self.assertLess(np.abs(full(grey).frame(0) - grey).max(), 1e-5)

    def test_added_by_hand_as_the_file_keeps_colour(self) -> None:
        source = MemorySource([halved(photograph(data.coffee())[:216, :384])] * 3)
        source.info = source.info.model_copy(update={"chroma": "4:2:0", "siting": "center"})
        report = survey(source)
        self.assertEqual(offered(report, "full-colour").settings, {"halved": "both", "siting": "center"})
        self.assertNotIn("full-colour", [step.kind for step in propose(report).steps])
