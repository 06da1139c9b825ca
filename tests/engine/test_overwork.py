"""The judge against planted faults and honest work; colour differences against published pairs."""

from __future__ import annotations

from unittest import TestCase

import numpy as np

from benchmarks.overwork import FAULTS, Case, Changed, Shot, case_of
from yellowclean.engine.colour.difference import ciede2000, lab
from yellowclean.engine.errors import BadInput
from yellowclean.engine.frames import Region
from yellowclean.engine.judge.overwork import MEASURES, overwork
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera import Camera

SHARMA = [
    ((50.0, 2.6772, -79.7751), (50.0, 0.0, -82.7485), 2.0425),
    ((50.0, 3.1571, -77.2803), (50.0, 0.0, -82.7485), 2.8615),
    ((50.0, -1.3802, -84.2814), (50.0, 0.0, -82.7485), 1.0000),
    ((50.0, 0.0, 0.0), (50.0, -1.0, 2.0), 2.3669),
    ((50.0, 2.49, -0.001), (50.0, -2.49, 0.0009), 7.1792),
    ((50.0, 2.49, -0.001), (50.0, -2.49, 0.0011), 7.2195),
    ((50.0, -0.001, 2.49), (50.0, 0.0009, -2.49), 4.8045),
    ((50.0, -0.001, 2.49), (50.0, 0.0011, -2.49), 4.7461),
    ((50.0, 2.5, 0.0), (73.0, 25.0, -18.0), 27.1492),
    ((50.0, 2.5, 0.0), (61.0, -5.0, 29.0), 22.8977),
    ((50.0, 2.5, 0.0), (58.0, 24.0, 15.0), 19.4535),
    ((50.0, 2.5, 0.0), (50.0, 3.1736, 0.5854), 1.0000),
    ((60.2574, -34.0099, 36.2677), (60.4626, -34.1751, 39.4387), 1.2644),
    ((63.0109, -31.0961, -5.8663), (62.8187, -29.7946, -4.0864), 1.2630),
    ((22.7233, 20.0904, -46.6940), (23.0331, 14.9730, -42.5619), 2.0373),
    ((90.8027, -2.0831, 1.4410), (91.1528, -1.6435, 0.0447), 1.4441),
    ((2.0776, 0.0795, -1.1350), (0.9033, -0.0636, -0.5514), 0.9082),
]
"""Of the 34 pairs of Sharma, Wu, Dalal 2005, table 1: those that lie where implementations go wrong.
Values from memory."""


class Judge(TestCase):
    case: Case

    @classmethod
    def setUpClass(cls) -> None:
        cls.case = case_of(Shot("quay", Camera(stops_under=3.2), (4, 1, 0)))

    def test_honest_work_is_fine_or_worth_a_look(self) -> None:
        report = overwork(self.case.honest["chain 85 %"], [4]).report
        self.assertNotEqual(report.verdict, "too far", report.summary)
        self.assertEqual({m.kind for m in report.measures}, set(MEASURES))
        self.assertTrue(all(m.value >= 0 for m in report.measures))

    def test_each_fault_trips_its_own_measure_and_rises_with_strength(self) -> None:
        for kind, (fault, strengths) in FAULTS.items():
            values = [
                self.case.read(kind, Changed(self.case.footage, self.case.proposed, fault(s)))
                for s in strengths[1::2]
            ]
            honest = max(self.case.read(kind, pipeline) for pipeline in self.case.honest.values())
            with self.subTest(kind, values=values, honest=honest):
                self.assertEqual(values, sorted(values))
                self.assertLess(honest, min(values))
                self.assertGreater(values[-1], MEASURES[kind].limit)

    def test_the_map_shows_where(self) -> None:
        fault, strengths = FAULTS["borders"]
        judged = overwork(Changed(self.case.footage, self.case.proposed, fault(strengths[-1])), [4])
        where = judged.maps["borders"]
        self.assertGreater(where[:, :4].min(), 1)
        self.assertEqual(where[:, 40:-40][40:-40].max(), 0)
        self.assertIn("borders", judged.report.summary)

    def test_the_worst_frame_is_told_and_a_region_is_enough(self) -> None:
        judged = overwork(self.case.honest["chain 85 %"], [2, 5], Region(120, 60, 200, 150))
        self.assertEqual({m.shape for m in judged.maps.values()}, {(150, 200)})
        self.assertLessEqual({m.frame for m in judged.report.measures}, {2, 5})
        borders = next(m for m in judged.report.measures if m.kind == "borders")
        self.assertEqual((borders.value, borders.detail), (0, "no border in view"))

    def test_one_frame_and_a_plan_that_does_nothing(self) -> None:
        profile = self.case.proposed.profile
        still = Pipeline(self.case.footage, Plan(profile=profile, steps=[Step(kind="spatial")]))
        self.assertTrue(overwork(still, [0]).report.summary)
        with self.assertRaisesRegex(BadInput, "nothing to judge"):
            overwork(Pipeline(self.case.footage, Plan(profile=profile)), [0])


class Colours(TestCase):
    def test_ciede2000_equals_the_published_pairs(self) -> None:
        one, two, expected = (np.array(column) for column in zip(*SHARMA, strict=True))
        np.testing.assert_allclose(ciede2000(one, two), expected, atol=5e-5)
        np.testing.assert_allclose(ciede2000(two, one), expected, atol=5e-5)

    def test_white_is_white_and_grey_has_no_colour(self) -> None:
        white, grey = lab(np.ones((1, 1, 3), np.float32))[0, 0], lab(np.full((1, 1, 3), 0.5, np.float32))[0, 0]
        np.testing.assert_allclose(white, (100, 0, 0), atol=1e-3)
        np.testing.assert_allclose(grey[1:], 0, atol=1e-3)
