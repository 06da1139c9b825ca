"""Noise that went through a codec: measured, judged by frames held out, and taken as far as the truth says."""

from __future__ import annotations

from unittest import TestCase

import numpy as np

from benchmarks.clips import Clip
from benchmarks.compressed import coded_at, judged
from benchmarks.overwork import Changed, blurred
from tests.clips import MemorySource
from yellowclean.engine.chain import noise_chain
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Region
from yellowclean.engine.judge.held_out import AWAY_STANDING, held_out
from yellowclean.engine.judge.ladder import CARRIED_RUNGS, ladder, suggested_stop, widest_that_pays
from yellowclean.engine.judge.overwork import MEASURES, Evidence
from yellowclean.engine.measure.report import Rung, SurveyReport
from yellowclean.engine.measure.spectrum import MARGIN, TILE, SpectrumGatherer
from yellowclean.engine.media.formats import OUTPUT_FORMATS
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.noise.stabilise import Stabiliser
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

FRAMES, JUDGED = 27, (13,)


class Proposals(TestCase):
    """The dusk on a tripod, 4 stops under: what H.264 left of its noise is carried along for many frames."""

    clip: Clip
    report: SurveyReport

    @classmethod
    def setUpClass(cls) -> None:
        cls.clip = Clip("dusk", Camera(stops_under=4), frames=FRAMES, width=480, height=270, motion=(0.0, 0.0, 0.0))
        cls.clip.record(coded_at("H.264", 1, "medium"))
        cls.report = survey(cls.clip)

    def test_the_stop_is_within_one_rung_of_the_truths_best(self) -> None:
        self.assertTrue(self.report.profile.carried)
        self.assertIsNotNone(self.report.noise.coded)
        self.assertEqual([rung.strength for rung in self.report.ladder], list(CARRIED_RUNGS))
        footage, difference = Footage(self.clip), self.report.ladder[0].difference
        reached = []
        for strength in CARRIED_RUNGS:
            steps = noise_chain(
                FRAMES, self.report.movement, strength, strength, difference=difference, carried=True
            )
            plan = Plan(profile=self.report.profile, steps=steps)
            reached.append(judged(self.clip, Pipeline(footage, plan).frame, JUDGED).luma_db)
        stop = suggested_stop(self.report.ladder, "luma", slow=self.report.movement.slow).strength
        taken = int(np.argmin(np.abs(np.array(CARRIED_RUNGS) - stop)))
        self.assertLessEqual(abs(taken - int(np.argmax(reached))), 1, (stop, reached))
        self.assertGreater(reached[taken], max(reached) - 0.5)

    def test_colour_inside_its_tolerance_is_taken_once_luma_is_quiet(self) -> None:
        colour = next(f for f in self.report.findings if f.kind == "colour noise")
        inside = self.report.with_tolerances({"colour noise": colour.value + 0.1})
        spatial = propose(inside).steps[-1]
        self.assertGreater(spatial.settings["chroma"], 0)
        self.assertIn("seen first once luma is quiet", spatial.reason)
        everything = self.report.with_tolerances({"colour noise": 99.0, "noise": 99.0})
        self.assertEqual(propose(everything).steps, [])

    def test_the_reason_says_what_decided(self) -> None:
        """Not that an error was lowest where frames held out could not tell."""
        flat = [rung.model_copy(update={"luma": rung.strength}) for rung in self.report.ladder]
        reason = propose(self.report.model_copy(update={"ladder": flat})).steps[-1].reason
        self.assertIn("140 % are taken, since the codec repeats noise", reason)

    def test_what_a_codec_did_to_fast_motion_is_treated_gently(self) -> None:
        gently = [rung.model_copy(update={"gentle": True}) for rung in self.report.ladder]
        temporal, spatial = propose(self.report.model_copy(update={"ladder": gently})).steps
        self.assertEqual((temporal.settings["luma"], spatial.settings["medium"]), (80, 50))
        self.assertIn("more takes detail that neighbours show", spatial.reason)

    def test_honest_work_costs_no_structure_and_blur_does(self) -> None:
        footage = Footage(self.clip)
        honest = Pipeline(footage, propose(self.report))
        readings = [
            MEASURES["structure"].read(Evidence(pipeline, JUDGED[0])).value
            for pipeline in (honest, Changed(footage, honest.plan, blurred(1.0)))
        ]
        limit = MEASURES["structure"].limit
        self.assertLess(readings[0], limit / 4)
        self.assertGreater(readings[1], 4 * max(readings[0], 1.0))

    def test_a_shot_too_short_to_hold_frames_out_has_no_ladder(self) -> None:
        frames = MemorySource(self.clip.frames[:7])
        self.assertEqual(ladder(frames, self.report.profile, self.report.movement, 3), [])

    def test_what_was_transcoded_is_known_for_it(self) -> None:
        clip = Clip("dusk", Camera(stops_under=4), frames=FRAMES, width=480, height=270, motion=(0.0, 0.0, 0.0))
        clip.record(OUTPUT_FORMATS["prores-hq"])
        self.assertFalse(survey(clip).profile.carried)
        clip.frames, clip.info = list(self.clip.frames), self.clip.info
        clip.record(OUTPUT_FORMATS["prores-hq"])
        self.assertEqual(clip.info.codec, "prores")
        self.assertTrue(survey(clip).profile.carried)


class FramesHeldOut(TestCase):
    def test_sparse_noise_is_judged_by_its_true_error(self) -> None:
        """Noise that is nought in nine blocks of ten: dropping all of it, or none, is told as what it is."""
        rng = np.random.default_rng(5)
        shape = 128, 192, 3
        ramp = np.broadcast_to(np.linspace(0.3, 0.6, shape[1], dtype=np.float32)[None, :, None], shape)
        noises = [_sparse(rng, shape) for _ in range(2 * AWAY_STANDING[-1] + 1)]
        profile = white_profile(float(np.std(noises)) * CV_SCALE)
        footage = Footage(MemorySource([np.ascontiguousarray(ramp + noise) for noise in noises]))
        n, region = AWAY_STANDING[-1], Region(16, 16, 160, 96)
        stabiliser = Stabiliser.of(profile)
        held = held_out(Pipeline(footage, Plan(profile=profile)), n, region)
        assert held is not None
        here, truth = (
            stabiliser.opponent(np.ascontiguousarray(f[region.slices])) for f in (footage.frame(n), ramp)
        )
        power = ((here - truth) ** 2).mean()
        for share in (0.0, 0.5, 1.0):
            taken = share * (here - truth)
            estimated = power - 2 * held.explained(taken).mean() + (taken**2).mean()
            self.assertAlmostEqual(estimated / power, (1 - share) ** 2, delta=0.1)

    def test_a_short_shot_is_held_against_nothing(self) -> None:
        footage = Footage(MemorySource([np.full((64, 96, 3), 0.4, np.float32)] * 6))
        self.assertIsNone(held_out(Pipeline(footage, Plan(profile=white_profile(4))), 3, footage.whole))

    def test_the_lowest_is_taken_where_gains_look_smaller_than_they_are(self) -> None:
        errors = {60: 0.5, 100: 0.492, 140: 0.49, 200: 0.484}
        rungs = [Rung(strength=s, luma=e, chroma=e, held_out=True) for s, e in errors.items()]
        self.assertEqual(suggested_stop(rungs, "luma", slow=True).strength, 200)

    def test_the_widest_trust_is_taken_for_a_plain_gain_that_noise_can_make(self) -> None:
        for widest, limit in ((0.35, 2), (-0.1, 6), (-2.0, 2)):
            errors = {1: 0.5, 2: 0.4, 6: widest}
            rungs = [Rung(strength=140, luma=e, chroma=e, held_out=True, difference=d) for d, e in errors.items()]
            self.assertEqual(widest_that_pays(rungs).difference, limit)

    def test_noise_carried_along_slowly_is_taken_at_least_so_far(self) -> None:
        rungs = [Rung(strength=s, luma=s, chroma=s, held_out=True) for s in CARRIED_RUNGS]
        for slow, stops in ((False, (60, 60)), (True, (140, 195))):
            found = [suggested_stop(rungs, signal, slow=slow).strength for signal in ("luma", "chroma")]  # type: ignore[arg-type]
            np.testing.assert_allclose(found, stops)
        rungs = [Rung(strength=s, luma=-s, chroma=-s, held_out=True) for s in CARRIED_RUNGS]
        self.assertEqual(suggested_stop(rungs, "luma").strength, 140)  # missed motion may pass for noise


class UnevenSpectra(TestCase):
    def test_noise_in_few_blocks_counts_with_its_whole_power(self) -> None:
        """By the median there would be next to none."""
        rng, side = np.random.default_rng(4), TILE + 2 * MARGIN
        gatherer = SpectrumGatherer()
        for _ in range(60):
            gatherer.add(np.moveaxis(_sparse(rng, (side, side, 3), 0.4) * CV_SCALE, -1, 0))
        fine = np.array([gatherer.spectrum(uneven=uneven)[0, 0, 1:] for uneven in (False, True)])
        wanted = float(np.sqrt(gatherer.covariance()[0, 0]))
        by_median, whole = np.sqrt((fine**2).mean(axis=1))
        self.assertAlmostEqual(whole / wanted, 1, delta=0.15)
        self.assertLess(by_median, 0.9 * wanted)


def _sparse(rng: np.random.Generator, shape: tuple[int, int, int], part: float = 0.1) -> Array:
    """Noise in that part of the blocks of 8×8 only, of 10 CV over all."""
    height, width, _ = shape
    where = np.kron(rng.random((height // 8, width // 8)) < part, np.ones((8, 8)))
    noise: Array = (rng.normal(0, 10 / CV_SCALE / np.sqrt(part), shape) * where[..., None]).astype(np.float32)
    return noise
