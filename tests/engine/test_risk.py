"""The estimated error of a plan against its true error, which the test camera knows."""

from __future__ import annotations

from unittest import TestCase

import numpy as np

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.chain import noise_chain
from yellowclean.engine.errors import BadInput, BadPlan
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame, Region
from yellowclean.engine.judge.ladder import RUNGS, best_of, ladder, merging_leaves, suggested_stop
from yellowclean.engine.judge.risk import RiskAt
from yellowclean.engine.judge.strip import strip_at
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.measure.report import Rung
from yellowclean.engine.motion import Movement
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.noise.stabilise import Stabiliser
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

WHERE = Region(80, 60, 480, 270)


class Estimates(TestCase):
    def test_differences_between_strengths_are_the_true_ones(self) -> None:
        """Stein 1981: unbiased. What does not depend on the strength (the bend of the curve) is left out."""
        for bayer in (False, True):
            noisy, clean = shot_pair("quay", Camera(stops_under=4, bayer=bayer), 640, 384, 5)
            profile = measure_noise(MemorySource(noisy)).profile
            footage = Footage(MemorySource(noisy))
            judge, stabilised = RiskAt(footage, Plan(profile=profile), 2, WHERE), Stabiliser.of(profile).opponent
            truth = stabilised(np.ascontiguousarray(clean[2][WHERE.slices]))
            variance = (profile.spectrum_array()[:, 0] ** 2).mean(axis=(1, 2))
            estimated, true = [], []
            for strength in (40.0, 80.0, 120.0, 160.0):
                plan = Plan(profile=profile, steps=noise_chain(5, Movement(2.0), strength, strength))
                risk = judge.of(plan)
                error = ((stabilised(Pipeline(footage, plan).frame(2, WHERE)) - truth) ** 2).mean(axis=(1, 2))
                estimated.append((risk.luma.error, risk.chroma.error))
                true.append((error[0] / variance[0], error[1:].sum() / variance[1:].sum()))
            with self.subTest(bayer=bayer):
                steps = np.diff(np.array(estimated), axis=0), np.diff(np.array(true), axis=0)
                self.assertLess(np.abs(steps[0] - steps[1]).max(), 0.015)
                self.assertGreater(np.abs(steps[1]).max(), 0.03)

    def test_noise_left_and_structure_lost_are_told_apart(self) -> None:
        """Two takes of one scene: what differs between their results is noise, the rest of the error is not. What
        follows a nudge bounds the noise from above (Poincaré's inequality), and not by much."""
        truth = shot_pair("quay", Camera(noiseless=True), 640, 384, 5)[1]
        profile, rng = white_profile(12), np.random.default_rng(3)
        takes = [[(f + rng.normal(0, 12 / CV_SCALE, f.shape)).astype(np.float32) for f in truth] for _ in range(2)]
        judge = RiskAt(Footage(MemorySource(takes[0])), Plan(profile=profile), 2, WHERE)
        for strength in (60.0, 120.0):
            plan = Plan(profile=profile, steps=noise_chain(5, Movement(2.0), strength, strength))
            results = [Pipeline(Footage(MemorySource(take)), plan).frame(2, WHERE) for take in takes]
            power = (12 / CV_SCALE) ** 2
            noise = float(((results[0] - results[1]) ** 2).mean()) / 2 / power
            error = float(np.mean([(r - truth[2][WHERE.slices]) ** 2 for r in results])) / power
            risk = judge.of(plan)
            found = [
                (getattr(risk.luma, part) + 2 * getattr(risk.chroma, part)) / 3 for part in ("noise", "structure")
            ]
            with self.subTest(strength=strength):
                self.assertGreater(found[0], 0.95 * noise)
                self.assertLess(found[0], 1.45 * noise)
                self.assertAlmostEqual(found[0] + found[1], error, delta=0.01)


class Strips(TestCase):
    def setUp(self) -> None:
        self.noisy, self.clean = shot_pair("quay", Camera(stops_under=4), 640, 384, 5)
        profile = measure_noise(MemorySource(self.noisy)).profile
        self.plan = Plan(profile=profile, steps=noise_chain(5, Movement(2.0), 100, 100))
        self.footage = Footage(MemorySource(self.noisy))

    def test_the_suggested_rung_is_within_one_of_the_truths_best(self) -> None:
        strip = strip_at(self.footage, self.plan, 1, "luma", 2, WHERE)
        self.assertEqual([rung.value for rung in strip.rungs], [0, 35, 65, 100, 135, 165, 200])
        errors = []
        for rung in strip.rungs:
            result = Pipeline(self.footage, self.plan.with_setting(1, "luma", rung.value)).frame(2, WHERE)
            errors.append(float(((result - self.clean[2][WHERE.slices]) ** 2).mean()))
        self.assertLessEqual(abs(strip.stop - int(np.argmin(errors))), 1)
        noise = [rung.left for rung in strip.rungs]
        self.assertEqual(noise, sorted(noise, reverse=True))
        self.assertGreater(strip.rungs[-1].lost, strip.rungs[strip.stop].lost)
        self.assertRegex(strip.reason, "^At [0-9]+ % at most .* the next rung takes")

    def test_settings_and_steps_that_do_not_exist(self) -> None:
        for step, setting, words in ((1, "depth", "no such setting"), (5, "luma", "step 5 does not exist")):
            with self.assertRaisesRegex(BadInput, words):
                strip_at(self.footage, self.plan, step, setting, 2, WHERE)
        with self.assertRaisesRegex(BadPlan, "less than or equal to 200"):
            self.plan.with_setting(1, "luma", 900)


class Ladders(TestCase):
    def test_the_stop_is_where_the_true_error_is_lowest(self) -> None:
        noisy, clean = shot_pair("quay", Camera(stops_under=4), 640, 384, 5)
        profile = measure_noise(MemorySource(noisy)).profile
        rungs = ladder(MemorySource(noisy), profile, Movement(2.0), 2)
        self.assertEqual([rung.strength for rung in rungs if rung.merged], list(RUNGS))
        self.assertLess(merging_leaves(rungs) or 1, 0.8)
        stop = suggested_stop(rungs, "luma").strength

        def error(strength: float) -> float:
            plan = Plan(profile=profile, steps=noise_chain(5, Movement(2.0), strength, strength))
            result: Frame = Pipeline(Footage(MemorySource(noisy)), plan).frame(2)
            return float(((result - clean[2]) ** 2).mean())

        best = min(error(strength) for strength in (60, 80, 100, 120, 140))
        self.assertLess(error(stop), 1.04 * best)

    def test_the_least_of_equally_good_strengths_is_taken(self) -> None:
        flat = [Rung(strength=s, luma=e, chroma=1) for s, e in ((60, 0.5), (85, 0.1), (110, 0.1), (140, 0.1))]
        self.assertLess(suggested_stop(flat, "luma").strength, 100)
        self.assertEqual(suggested_stop(flat, "chroma").strength, 60)

    def test_estimates_that_are_all_too_low_move_no_stop(self) -> None:
        """As under a curve that says more noise than the recording has left at black."""
        errors = {60: 0.027, 85: 0.0077, 110: 0.0059, 140: 0.0091}
        for offset in (0.0, -0.028):
            rungs = [Rung(strength=s, luma=e + offset, chroma=e + offset) for s, e in errors.items()]
            self.assertEqual(suggested_stop(rungs, "luma").strength, 100)
            self.assertEqual(best_of(np.array(list(errors.values())) + offset, held_out=False), 2)

    def test_a_merge_that_leaves_no_less_than_one_frame_alone_is_not_worth_its_work(self) -> None:
        report = survey(MemorySource(shot_pair("quay", Camera(stops_under=3), 480, 272, 5)[0]))
        self.assertIn("One frame alone would leave", propose(report).steps[0].reason)
        best = min((r for r in report.ladder if r.merged), key=lambda r: r.luma)
        alike = [r if r.merged else best.model_copy(update={"merged": False}) for r in report.ladder]
        plan = propose(report.model_copy(update={"ladder": alike}))
        self.assertEqual([step.kind for step in plan.steps], ["spatial"])
        self.assertIn("Merging neighbours was tried too", plan.steps[0].reason)

    def test_a_clean_shot_has_no_ladder(self) -> None:
        self.assertEqual(
            ladder(MemorySource([np.full((64, 96, 3), 0.4, np.float32)]), white_profile(0.1), Movement(0), 0), []
        )
