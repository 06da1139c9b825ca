"""Plans, the pipeline's bookkeeping, proposals, rendering and metrics."""

from __future__ import annotations

import json
import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any
from unittest import TestCase, mock

import numpy as np
from skimage.metrics import structural_similarity

from tests.clips import MemorySource, psnr, shot_pair, smooth_frames, temporary_folder
from yellowclean.engine.cache import Memory
from yellowclean.engine.colour.look import Cdl, Look
from yellowclean.engine.delivery import delivery_report
from yellowclean.engine.errors import BadInput, BadPlan, Cancelled
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region, luma
from yellowclean.engine.judge.metrics import compare, ssim
from yellowclean.engine.judge.patches import comparable, remaining, remaining_one_by_one
from yellowclean.engine.measure.patch import Patch, measure_pixels
from yellowclean.engine.measure.report import finding_kinds
from yellowclean.engine.media import OUTPUT_FORMATS, Destination, destination, open_source
from yellowclean.engine.noise.profile import NoiseCurve, white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step, plan_from_json, plan_schema
from yellowclean.engine.propose import propose, untreated
from yellowclean.engine.reach import Tones
from yellowclean.engine.render import assemble, render, render_segment, segment_done, segments
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.treat import TREATMENTS, Picture


class PlanDocuments(TestCase):
    def test_a_plan_survives_its_document(self) -> None:
        plan = Plan(profile=white_profile(5), steps=[Step(kind="spatial", mix=60, settings={"luma": 30})])
        self.assertEqual(plan_from_json(plan.to_json()), plan)

    def test_wrong_plans_are_refused_in_one_line_that_names_the_place(self) -> None:
        profile = json.loads(white_profile(5).to_json())
        cases = {
            "not json": "Invalid JSON",
            '{"steps": [], "profil": 1}': "profil: Extra inputs",
            json.dumps({"steps": [{"kind": "spatial"}]}): "steps need a noise profile",
            json.dumps({"profile": profile, "steps": [{"kind": "magic"}]}): "no treatment is called 'magic'",
            json.dumps({"profile": profile, "steps": [{"kind": "spatial", "mix": 101}]}): "steps.0.mix",
            json.dumps({"profile": profile, "steps": [{"kind": "spatial", "settings": {"luma": -1}}]}): "luma",
            json.dumps({"profile": profile, "steps": [{"kind": "temporal", "settings": {"frames": 9}}]}): "frames",
        }
        for text, words in cases.items():
            with self.subTest(text[:60]), self.assertRaisesRegex(BadPlan, words) as caught:
                plan_from_json(text, "P.json")
            self.assertNotIn("\n", str(caught.exception))

    def test_the_schema_tells_units_limits_and_defaults_of_every_control(self) -> None:
        for kind, schema in plan_schema()["treatments"].items():
            for name, control in schema["properties"].items():
                with self.subTest(kind=kind, control=name):
                    told = {"default", "title", "description", "control"}
                    if control["control"] == "number":
                        told |= {"unit", "minimum", "maximum", "step"}
                    if control["control"] == "choice":
                        self.assertIn(control["default"], control["enum"])
                    self.assertLessEqual(told, set(control))

    def test_an_unwise_order_is_advised_against_with_the_reason(self) -> None:
        def advice(*kinds: str, off: str = "") -> list[str]:
            return Plan(profile=white_profile(5), steps=[Step(kind=k, enabled=k != off) for k in kinds]).advice()

        self.assertEqual(advice("temporal", "spatial", "bands", "resize", "grain"), [""] * 5)
        self.assertEqual(advice("convert", "resize", "spatial", "spatial")[2:], ["", ""])
        told = advice("grain", "temporal", "spatial")
        self.assertRegex(told[0], "^Better behind Temporal noise reduction and Spatial noise reduction: .*again")
        self.assertEqual(told[1:], ["", ""])
        self.assertEqual(advice("grain", "temporal", off="temporal"), ["", ""])
        self.assertEqual(advice("convert", "resize"), ["", ""])

    def test_the_digest_follows_what_matters(self) -> None:
        plan = Plan(profile=white_profile(5), steps=[Step(kind="spatial")])
        reworded = Plan(profile=white_profile(5), steps=[Step(kind="spatial", reason="because")])
        other = Plan(profile=white_profile(6), steps=[Step(kind="spatial")])
        off = Plan(profile=white_profile(5), steps=[Step(kind="spatial", enabled=False)])
        spelled = [Step(kind="spatial", settings={"luma": 100, "octaves": 3.0})]
        self.assertEqual(plan.digest(), Plan(profile=white_profile(5), steps=spelled).digest())
        self.assertEqual(plan.digest(), reworded.digest())
        self.assertNotEqual(plan.digest(), other.digest())
        self.assertEqual(off.digest(), Plan().digest())


class Pulling(TestCase):
    def setUp(self) -> None:
        self.noisy, self.clean = shot_pair("quay", Camera(stops_under=3))

    def test_only_needed_frames_are_read_and_each_once(self) -> None:
        source = MemorySource(self.noisy)
        plan = Plan(profile=white_profile(10), steps=[Step(kind="temporal", settings={"frames": 1})])
        pipeline = Pipeline(Footage(source), plan)
        pipeline.frame(2, Region(10, 10, 40, 40))
        self.assertEqual(source.reads, 3)
        pipeline.frame(3, Region(10, 10, 40, 40))
        self.assertEqual(source.reads, 4)

    def test_scale_is_the_area_mean_of_the_full_result(self) -> None:
        pipeline = Pipeline(Footage(MemorySource(self.noisy)), Plan())
        half = pipeline.frame(0, None, 0.5)
        expected = self.noisy[0].reshape(96, 2, 160, 2, 3).mean(axis=(1, 3))
        np.testing.assert_allclose(half, expected, atol=1e-5)

    def test_frames_and_regions_that_do_not_exist(self) -> None:
        pipeline = Pipeline(Footage(MemorySource(self.noisy)), Plan())
        with self.assertRaisesRegex(BadInput, "frame 6 does not exist"):
            pipeline.frame(6)
        with self.assertRaisesRegex(BadInput, "outside the frame"):
            pipeline.frame(0, Region(400, 0, 10, 10))

    def test_plans_that_begin_alike_compute_their_beginning_once(self) -> None:
        source = MemorySource(self.noisy)
        footage, calls = Footage(source), 0
        temporal = TREATMENTS["temporal"]

        def counted(*about: Any) -> Picture:
            nonlocal calls
            calls += 1
            return temporal.apply(*about)

        with mock.patch.dict(TREATMENTS, temporal=replace(temporal, apply=counted)):
            for amount in (80, 90, 100):
                steps = [Step(kind="temporal"), Step(kind="spatial", settings={"luma": amount})]
                Pipeline(footage, Plan(profile=white_profile(10), steps=steps)).frame(2, Region(8, 8, 64, 64))
        self.assertEqual(calls, 1)

    def test_a_draft_looks_at_no_other_frame(self) -> None:
        source = MemorySource(self.noisy)
        plan = Plan(profile=white_profile(10), steps=[Step(kind="temporal"), Step(kind="spatial")])
        Pipeline(Footage(source), plan.draft()).frame(2)
        self.assertEqual(source.reads, 1)
        self.assertEqual([step.kind for step in plan.draft().steps], ["spatial"])

    def test_a_stopped_pipeline_ends(self) -> None:
        plan = Plan(profile=white_profile(10), steps=[Step(kind="spatial")])
        with self.assertRaises(Cancelled):
            Pipeline(Footage(MemorySource(self.noisy)), plan).until(lambda: True).frame(0)

    def test_the_cache_is_bounded_and_drops_the_least_recently_used(self) -> None:
        cache = Memory(30)
        made: list[int] = []

        def value(k: int) -> Frame:
            made.append(k)
            return np.zeros(3, np.float32)

        for k in (1, 2, 1, 3, 1, 2):
            cache.get(k, lambda k=k: value(k), lambda a: a.nbytes)  # type: ignore[misc]
        self.assertEqual(made, [1, 2, 3, 2])
        self.assertLessEqual(cache.bytes, 30)

    def test_threads_that_miss_a_value_at_once_compute_it_once(self) -> None:
        cache, begun, made = Memory(1000), threading.Barrier(4), []

        def value() -> Frame:
            made.append(1)
            if len(made) == 1:
                raise Cancelled  # the first to compute is given up: another takes over
            return np.zeros(3, np.float32)

        def asked(_: int) -> bool:
            begun.wait()
            try:
                return cache.get("a", value, lambda a: a.nbytes).shape == (3,)
            except Cancelled:
                return False

        with ThreadPoolExecutor(4) as threads:
            self.assertEqual(sorted(threads.map(asked, range(4))), [False, True, True, True])
        self.assertEqual(len(made), 2)


class Proposals(TestCase):
    def test_a_clean_shot_gets_no_steps_and_a_noisy_one_reasons(self) -> None:
        quiet = [np.full((64, 96, 3), 0.3, np.float32) + 0.001 * f for f in smooth_frames(96, 64, 3)]
        self.assertEqual(propose(survey(MemorySource(quiet))).steps, [])
        plan = propose(survey(MemorySource(shot_pair("quay", Camera(stops_under=3))[0])))
        self.assertEqual([s.kind for s in plan.steps], ["temporal", "spatial"])
        self.assertTrue(all(s.reason for s in plan.steps))
        single = propose(survey(MemorySource(shot_pair("quay", Camera(stops_under=3))[0][:1])))
        self.assertEqual([s.kind for s in single.steps], ["spatial"])

    def test_the_noise_in_the_shadows_is_reached_and_nothing_above_it(self) -> None:
        levels = list(range(0, 1024, 32))
        dark_only = [12.0 if level <= 256 else 1.0 for level in levels]
        lists = {f"{s}_cv": dark_only for s in ("r", "g", "b", "luma", "cb", "cr")}
        curve = NoiseCurve(level_cv=levels, share=[2 if level <= 256 else 0.5 for level in levels], **lists)
        report = survey(MemorySource(shot_pair("quay", Camera(stops_under=3))[0]))
        profile = report.profile.model_copy(update={"curve": curve})
        for step in propose(report, profile).steps:
            self.assertEqual(step.reach.tones, Tones(high_cv=256, soft_cv=64))
        self.assertIn("Above 256 CV", propose(report, profile).steps[-1].reason)
        self.assertTrue(all(step.reach.everywhere for step in propose(report).steps))

    def test_each_choice_is_explained_and_what_is_inside_its_tolerance_is_left(self) -> None:
        report = survey(MemorySource(shot_pair("quay", Camera(stops_under=3))[0]))
        plan = propose(report.with_tolerances({"noise": 60}))
        self.assertEqual(plan.steps[-1].settings["luma"], 0)
        self.assertGreater(plan.steps[-1].settings["chroma"], 50)
        self.assertIn("Luma noise of", plan.steps[-1].reason)
        self.assertIn("left alone", plan.steps[-1].reason)
        self.assertIn("frames each side", plan.steps[0].reason)

    def test_what_is_left_alone_says_what_to_do_instead(self) -> None:
        treated = {kind for t in TREATMENTS.values() for kind in t.treats}
        for kind in finding_kinds():
            self.assertTrue(kind.instead or kind.kind in treated, kind.kind)
        report = survey(MemorySource(shot_pair("quay", Camera(stops_under=3))[0]))
        report = report.with_tolerances({"clipping": -1, "blocking": -1})
        left = {u.kind: u for u in untreated(report, propose(report))}
        self.assertIn("Not treated: clipping", left["clipping"].told)
        self.assertNotIn("noise", left)
        self.assertIn("Codec traces found nothing here", left["blocking"].told)
        self.assertIn("noise", {u.kind for u in untreated(report, Plan(profile=report.profile))})

    def test_a_clean_clip_comes_back_untouched(self) -> None:
        for scene in ("quay", "cloth"):
            clean = [np.clip(f, 0, 1) for f in shot_pair(scene, Camera(noiseless=True, bayer=True))[0]]
            plan = propose(survey(MemorySource(clean)))
            self.assertEqual(plan.steps, [])
            np.testing.assert_array_equal(Pipeline(Footage(MemorySource(clean)), plan).frame(2), clean[2])

    def test_the_proposal_brings_a_shot_inside_its_tolerance(self) -> None:
        source = MemorySource(shot_pair("dusk", Camera(stops_under=3), 480, 272)[0])
        report = survey(source)
        left = remaining(Pipeline(Footage(source), propose(report)), report)
        self.assertEqual(left.basis, "patches")
        for finding in [f for f in report.findings if f.kind in {"noise", "colour noise"}]:
            self.assertGreater(finding.value, finding.tolerance)
            self.assertLess(left.values[finding.kind], finding.tolerance)


class Rendering(TestCase):
    def setUp(self) -> None:
        self.folder = temporary_folder(self)
        self.noisy, self.clean = shot_pair("quay", Camera(stops_under=3))
        self.source = MemorySource(self.noisy)
        self.plan = Plan(profile=white_profile(12), steps=[Step(kind="spatial")])

    def test_segments_give_the_same_file_as_one_go_and_resume(self) -> None:
        pieces = segments(range(1, 6), 2)
        self.assertEqual([(p.start, p.stop) for p in pieces], [(1, 3), (3, 5), (5, 6)])
        pieces = segments(range(1, 6))
        for name in ("ffv1", "av1-grain"):
            folder, fmt = self.folder / name, OUTPUT_FORMATS[name]
            folder.mkdir()
            one = destination(folder / f"one{fmt.ending}", name)
            render(self.source, self.plan, one, frames=range(1, 6))
            parts = Destination(folder / f"parts{fmt.ending}", fmt)
            for piece in pieces:
                render_segment(Pipeline(Footage(self.source), self.plan), parts, folder, piece)
                self.assertTrue(segment_done(parts, self.source.info, folder, piece))
            fresh = MemorySource(self.noisy)
            render_segment(Pipeline(Footage(fresh), self.plan), parts, folder, pieces[0])
            self.assertEqual(fresh.reads, 0)
            assemble(parts, self.source, self.plan, range(1, 6), folder)
            with self.subTest(name):
                self.assertTrue(compare(open_source(one.path), open_source(parts.path)).identical)

    def test_sequence_segments_are_numbered_as_in_the_source(self) -> None:
        target = destination(self.folder / "s_####.tif")
        for piece in segments(range(2, 5), 2):
            render_segment(Pipeline(Footage(self.source), self.plan), target, self.folder, piece)
        assemble(target, self.source, self.plan, range(2, 5), self.folder)
        names = sorted(p.name for p in self.folder.iterdir())
        self.assertEqual(names, ["s_0002.tif", "s_0003.tif", "s_0004.tif"])

    def test_a_cancelled_render_leaves_nothing(self) -> None:
        for name in ("c.mkv", "c.mp4"):
            calls = iter([False] * 6 + [True] * 100)
            target = destination(self.folder / name, "av1-grain" if name == "c.mp4" else None)
            with self.subTest(name), self.assertRaises(Cancelled):
                render(self.source, self.plan, target, stopped=lambda calls=calls: next(calls))  # type: ignore[misc]
            self.assertEqual(list(self.folder.iterdir()), [])

    def test_what_is_told_to_be_left_is_what_measuring_the_written_file_says(self) -> None:
        source = MemorySource(shot_pair("dusk", Camera(stops_under=3), 480, 272)[0])
        report = survey(source).with_tolerances({"softness": 0.1, "crush": 0, "blocking": 0})
        plan = propose(report)
        steps = list(remaining_one_by_one(Pipeline(Footage(source), plan), report))
        self.assertEqual([len(told.coming) for told in steps], list(range(len(steps)))[::-1])
        self.assertNotIn("softness", steps[0].values, "told before it was measured")
        told = steps[-1].values
        target = destination(self.folder / "left.mkv")
        render(source, plan, target)
        written = {f.kind: f for f in survey(open_source(target.path)).findings}
        self.assertLessEqual({"noise", "colour noise", "softness"}, set(told))
        for kind, value in told.items():
            with self.subTest(kind):
                was = next(f for f in report.findings if f.kind == kind)
                room = (1 - was.confidence) * was.value + 0.1 * max(value, written[kind].value) + 0.05
                self.assertAlmostEqual(value, written[kind].value, delta=room)

    def test_the_delivery_report_measures_the_file(self) -> None:
        noisy, _ = shot_pair("dusk", Camera(stops_under=3), 480, 272)
        source = MemorySource(noisy)
        target = destination(self.folder / "d.mkv")
        measured = survey(source)
        render(source, propose(measured), target)
        report = delivery_report(source, target, range(6), propose(measured), measured=measured)
        self.assertEqual(report.frames, 6)
        self.assertTrue(report.patches)
        for patch in report.patches:
            self.assertLess(patch.result_luma_cv, 0.5 * patch.source_luma_cv)
        left = {finding.kind: finding.remaining for finding in report.findings}
        self.assertIsNotNone(left["banding"])
        self.assertIsNone(left["coding error"], "no file told of it")

    def test_a_patch_of_faint_texture_tells_nothing_of_what_is_left(self) -> None:
        """Noise of 12 CV on a weave of 4: flat while the noise hides it, texture once that is gone."""
        rng = np.random.default_rng(4)
        y, x = np.indices((64, 64))
        weave = 4 * np.sqrt(2) * np.sin(2 * np.pi * x / 9) * np.sin(2 * np.pi * y / 7) * np.sqrt(2)
        noise = rng.standard_normal((64, 64, 3)) * 12
        curve = white_profile(12).curve
        for detail, told in ((0 * weave, True), (weave * 1.5, False)):
            pixels = (0.4 + (noise + detail[..., None]) / 1023).astype(np.float32)
            reading = measure_pixels(pixels, Patch(x=0, y=0, width=64, height=64, frame=0))
            self.assertEqual(comparable(reading.model_copy(update={"flat": True}), curve), told)
            self.assertFalse(comparable(reading.model_copy(update={"flat": False}), curve))

    def test_a_baked_look_is_in_the_file_and_in_no_step(self) -> None:
        look = Look(exposure=0.5, cdl=Cdl(saturation=1.3))
        baked = self.plan.model_copy(update={"look": look})
        self.assertEqual(plan_from_json(baked.to_json()), baked)
        self.assertNotEqual(baked.digest(), self.plan.digest())
        self.assertEqual(baked.digest(1), self.plan.digest(1))
        footage, piece = Footage(self.source), Region(10, 20, 64, 48)
        expected = look.applied(Pipeline(footage, self.plan).frame(2))
        np.testing.assert_array_equal(Pipeline(footage, baked).frame(2, piece), expected[piece.slices])
        target = destination(self.folder / "baked.mkv")
        render(self.source, baked, target, frames=range(2, 3))
        np.testing.assert_allclose(open_source(target.path).read(0), np.clip(expected, 0, 1), atol=1e-4)
        self.assertTrue(delivery_report(self.source, target, range(2, 3), baked).look_baked)

    def test_frames_outside_the_shot(self) -> None:
        with self.assertRaisesRegex(BadInput, "has 0:6"):
            render(self.source, self.plan, destination(self.folder / "x.mkv"), frames=range(3, 9))


class Metrics(TestCase):
    def test_ssim_is_scikit_images(self) -> None:
        """Independent reference: skimage.metrics with the settings of Wang et al. 2004."""
        noisy, clean = shot_pair("quay", Camera(stops_under=3))
        a, b = luma(clean[0]), luma(noisy[0])
        theirs = structural_similarity(
            a, b, data_range=1, gaussian_weights=True, sigma=1.5, use_sample_covariance=False
        )
        self.assertAlmostEqual(ssim(a, b), theirs, places=4)

    def test_comparison_of_clips(self) -> None:
        noisy, clean = shot_pair("quay", Camera(stops_under=3))
        found = compare(MemorySource(clean), MemorySource(noisy))
        whole = psnr(np.array(clean), np.array(noisy))
        self.assertAlmostEqual(found.psnr_db or 0, whole, places=3)
        self.assertAlmostEqual(found.flicker_cv, found.rms_cv * np.sqrt(2), delta=0.05 * found.rms_cv)
        same = compare(MemorySource(clean), MemorySource(clean))
        self.assertTrue(same.identical)
        self.assertIsNone(same.psnr_db)
        with self.assertRaisesRegex(BadInput, "frames is 2"):
            compare(MemorySource(clean), MemorySource(noisy[:2]))
