"""Sharpening: blur measured and undone against the truth, and what it must never do."""

from __future__ import annotations

from unittest import TestCase

import cv2
import numpy as np
from skimage import data

from tests.clips import MemorySource
from tests.engine.blurred import NOISE_CV, error_db, seen, sharpened
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.colour.encodings import OF_CAMERAS
from yellowclean.engine.colour.grey import grey_curve
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, Region, luma
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.judge.overwork.report import Overwork
from yellowclean.engine.judge.strip import strip_at
from yellowclean.engine.measure.blur import edge_blur, sharpest
from yellowclean.engine.measure.edge import edge_response
from yellowclean.engine.measure.findings.softness import blur_of
from yellowclean.engine.measure.lens import disc_radius, spread_of
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import offered, propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import ShotRecipe, scene_of
from yellowclean.engine.treat._unblurring import Undone, missing

LARGE_DISC: dict[str, object] = {"blur": 4.0, "shape": "disc", "frames": 0, "floor": 0}


def out_of_focus(light: Array, radius: float) -> Array:
    """Light through a lens that draws a disc of each point."""
    fine = np.arange(-88, 88) / 16 + 1 / 32
    disc = (np.hypot(*np.meshgrid(fine, fine)) < radius).astype(np.float32).reshape(11, 16, 11, 16).sum(axis=(1, 3))
    return np.asarray(cv2.filter2D(light, -1, disc / disc.sum()), np.float32)


def scene(name: str, more: float = 1.5, frames: int = 5) -> list[Array]:
    light = scene_of(ShotRecipe(name=name, scene=name, width=480, height=272, frames=frames))  # type: ignore[arg-type]
    return [(light(n) * np.float32(more)).astype(np.float32) for n in range(frames)]


def step_edge() -> list[Array]:
    """Light of an upright edge, as a pixel between sees it, standing still."""
    across = np.clip(np.arange(160) - 79.6, 0, 1)
    return [np.broadcast_to((0.08 + 0.27 * across)[None, :, None], (120, 160, 3)).astype(np.float32)] * 5


def slanted_step() -> list[Array]:
    """Light of an edge that leans five degrees, as pixels see it, standing still."""
    rows, columns = np.mgrid[:128, :640]
    fine = np.clip(columns / 4 - 79.6 - (rows - 64) * np.tan(np.radians(5)), 0, 1).reshape(128, 160, 4).mean(axis=2)
    return [np.repeat((0.08 + 0.27 * fine)[..., None], 3, axis=2).astype(np.float32)] * 5


def iso_mtf50(plane: Array) -> float:
    """MTF50 of an upright edge by the steps of ISO 12233:2017, annex D, from memory: a line through the rows'
    centroids, pixels in bins of a quarter, their difference under a Hamming window, its spectrum over that of the
    difference. Written for this check alone."""
    change = np.diff(plane, axis=1)
    change = np.where(np.abs(np.arange(change.shape[1]) - change.shape[1] / 2) < 24, change, 0)
    centroid = (change * (np.arange(change.shape[1]) + 0.5)).sum(axis=1) / change.sum(axis=1)
    slope, start = np.polyfit(np.arange(len(plane)), centroid, 1)
    rows, columns = np.mgrid[: plane.shape[0], : plane.shape[1]]
    place = (columns - start - slope * rows) * np.cos(np.arctan(slope)) * 4
    inside = np.abs(place) < 128
    bins = np.round(place[inside]).astype(int) + 128
    spread = np.bincount(bins, plane[inside]) / np.bincount(bins)
    line = np.gradient(spread)[1:-1]
    spectrum = np.abs(np.fft.rfft(line * np.hamming(len(line))))
    cycles = np.fft.rfftfreq(len(line), 0.25)
    response = spectrum / spectrum[0] / np.maximum(np.sinc(2 * cycles / 4), 0.1)
    below = int(np.argmax(response < 0.5))
    return float(np.interp(0.5, response[[below, below - 1]], cycles[[below, below - 1]]))


class Blurs(TestCase):
    def test_a_planted_blur_is_measured_within_a_tenth_and_rather_too_small(self) -> None:
        for name in ("quay", "figurehead", "cloth"):
            light = scene(name)[2:3]
            for blur in (0.8, 1.2, 1.8):
                with self.subTest(name, blur=blur):
                    self.assertTrue(0.85 < self.measured(seen(light, blur)[0]) / blur < 1.06)

    def test_noise_of_four_codes_of_eight_bits_does_not_hide_it(self) -> None:
        for name in ("quay", "figurehead", "cloth", "basin"):
            found = survey(MemorySource(seen(scene(name), 1.2, 16))).findings
            with self.subTest(name):
                self.assertTrue(0.9 < blur_of(next(f for f in found if f.kind == "softness")) / 1.2 < 1.06)

    def test_photographs_add_the_blur_that_they_have(self) -> None:
        """Variances of Gaussian blurs in a row add up."""
        for load in (data.astronaut, data.coffee, data.chelsea):
            light = bt709_linear(load().astype(np.float32) / 255)
            own = self.measured(seen([light], 0)[0])
            for blur in (1.0, 1.6):
                with self.subTest(load.__name__, blur=blur, own=own):
                    found = self.measured(seen([light], blur)[0])
                    self.assertAlmostEqual(found / np.hypot(own, blur), 1, delta=0.12)

    def test_a_lens_out_of_focus_is_told_on_photographs_and_no_other_blur_is(self) -> None:
        moved = np.ones((1, 7), np.float32) / 7
        for load in (data.astronaut, data.coffee, data.chelsea):
            light = bt709_linear(load().astype(np.float32) / 255)
            others = light, cv2.GaussianBlur(light, (0, 0), 1.2), cv2.filter2D(light, -1, moved)
            with self.subTest(load.__name__):
                self.assertTrue(all(np.isnan(self.disc(seen([other], 0)[0])) for other in others))
                self.assertAlmostEqual(self.disc(seen([out_of_focus(light, 3)], 0)[0]), 3, delta=0.2)

    def test_nothing_is_told_of_frames_that_hold_nothing(self) -> None:
        for value in (0.0, 0.5, 1.0, float("nan"), float("inf")):
            self.assertTrue(np.isnan(self.disc(np.full((80, 130, 3), value, np.float32))), value)
        self.assertTrue(np.isnan(self.disc(np.zeros((30, 130, 3), np.float32))))

    @staticmethod
    def disc(frame: Frame) -> float:
        curve, plane = grey_curve(OF_CAMERAS), luma(frame)
        sigma = np.full_like(plane, NOISE_CV / CV_SCALE) * curve.slope(plane)
        return disc_radius([spread_of(curve.light(plane), sigma, plane > 0.98)])

    @staticmethod
    def measured(frame: Frame) -> float:
        curve, plane = grey_curve(OF_CAMERAS), luma(frame)
        sigma = np.full_like(plane, NOISE_CV / CV_SCALE) * curve.slope(plane)
        return float(np.sqrt(max(sharpest(edge_blur(curve.light(plane), sigma)), 0)))

    def test_grey_curves_go_there_and_back(self) -> None:
        values = np.linspace(-0.3, 1.8, 500, dtype=np.float32)
        for space in (OF_CAMERAS, "sRGB Encoded Rec.709 (sRGB)", "Rec.2100-PQ - Display"):
            curve = grey_curve(space)
            inside = values[(values > 0.02) & (values < 0.98)]
            np.testing.assert_allclose(curve.value(curve.light(inside)), inside, atol=1e-4)
        np.testing.assert_allclose(
            grey_curve(OF_CAMERAS).light(values[90:300]), bt709_linear(values[90:300]), atol=3e-4
        )


class Sharpening(TestCase):
    def test_what_a_blur_took_comes_back_beyond_any_unsharp_mask(self) -> None:
        for name, blur, least in (("quay", 0.8, 1.5), ("quay", 1.2, 0.5), ("cloth", 1.2, 1.0)):
            light = scene(name)
            footage, truth = seen(light, blur), np.clip(bt709_encoded(light[2]), 0, 1)
            masks = [
                footage[2] + a * (footage[2] - cv2.GaussianBlur(footage[2], (0, 0), r))
                for r in (0.8, 1.2, 1.8) for a in (0, 0.4, 0.7, 1, 1.4, 2, 2.8)
            ]  # fmt: skip
            best = max(error_db(mask, truth) for mask in masks)
            with self.subTest(name, blur=blur):
                result = sharpened(footage, blur=blur)
                self.assertGreater(error_db(result, truth), best + least)

    def test_what_was_learned_from_drawn_pictures_brings_back_more_of_scenes_and_photographs(self) -> None:
        """Blur is told a little too small, as measuring does; where it is told rightly, next to nothing is lost."""
        picture = [bt709_linear(data.astronaut()[:272, 20:500].astype(np.float32) / 255)] * 5
        for name, light in (
            ("quay", scene("quay")),
            ("figurehead", scene("figurehead", 1)),
            ("astronaut", picture),
        ):
            for blur, noise_cv in ((1.2, 2.0), (1.8, 2.0), (1.2, 8.0)):
                footage, truth = seen(light, blur, noise_cv), np.clip(bt709_encoded(light[2]), 0, 1)
                for told, least in ((0.92, 0.1), (1.0, -0.1)):
                    with self.subTest(name, blur=blur, noise_cv=noise_cv, told=told):
                        more, plain = (
                            error_db(sharpened(footage, noise_cv, blur=told * blur, learned=on), truth)
                            for on in (True, False)
                        )
                        self.assertGreater(more, plain + least)

    def test_what_was_learned_holds_at_any_contrast_and_of_the_negative(self) -> None:
        rng = np.random.default_rng(2)
        plane, change, withheld = (cv2.GaussianBlur(rng.standard_normal((80, 96)), (0, 0), 1).astype(np.float32)
                                   for _ in range(3))  # fmt: skip
        sigma = np.full((80, 96), 0.01, np.float32)
        whole = missing(Undone(plane, change, withheld, sigma))
        for gain in (8.0, 0.1, -1.0):
            more = np.float32(gain)
            scaled = Undone(more * plane, more * change, more * withheld, np.abs(more) * sigma)
            np.testing.assert_allclose(missing(scaled), gain * whole, atol=1e-5 * max(abs(gain), 1))

    def test_a_slanted_edge_reads_after_it_as_by_the_standard(self) -> None:
        """What the benchmark and the strip read of a sharpened edge, beside another reading of ISO 12233."""
        curve = grey_curve(OF_CAMERAS)
        for blur in (0.8, 1.2, 1.8):
            footage = seen(slanted_step(), blur, 0.5)
            before, after = (curve.light(luma(f)) for f in (footage[2], sharpened(footage, blur=blur)))
            read = edge_response(after[:, 48:112])
            assert read is not None
            with self.subTest(blur=blur, read=read.mtf50):
                self.assertAlmostEqual(read.mtf50 / iso_mtf50(after), 1, delta=0.05)
                self.assertGreater(read.mtf50, 1.2 * iso_mtf50(before))

    def test_none_of_it_undone_leaves_the_frame(self) -> None:
        footage = seen(scene("figurehead"), 1.2)
        for shape in ("gaussian", "disc"):
            left = sharpened(footage, blur=1.2, share=0, shape=shape, learned=True)
            np.testing.assert_allclose(left, footage[2], atol=0.1 / CV_SCALE)

    def test_a_region_is_as_in_the_whole_however_far_a_disc_keeps_from_what_is_cut_off(self) -> None:
        light = scene("figurehead", more=0.6)
        light[2][100:104, 200:204] = 5.0
        for learned, place in ((False, Region(250, 90, 32, 32)), (True, Region(251, 91, 33, 31))):
            step = Step(kind="sharpen", settings=LARGE_DISC | {"learned": learned})
            plan = Plan(profile=white_profile(NOISE_CV), steps=[step])
            pipeline = Pipeline(Footage(MemorySource(seen(light, 0))), plan)
            # some 47 pixels beside what is cut off, of 48 that it tells on
            np.testing.assert_array_equal(pipeline.frame(2, place), pipeline.frame(2)[place.slices])

    def test_nothing_is_undone_beside_what_is_cut_off_but_light_goes_on_above_white(self) -> None:
        bright = [3 * cv2.GaussianBlur(frame, (0, 0), 1.2) for frame in step_edge()]
        plan = Plan(profile=white_profile(NOISE_CV), steps=[Step(kind="sharpen", settings={"blur": 1.2})])
        changes = []
        for transfer, frames in (("bt709", [np.minimum(f, 1) for f in bright]), ("linear", bright)):
            source = MemorySource(frames, transfer=transfer)
            changed = Pipeline(Footage(source), plan).frame(2) - frames[2]
            changes.append(float(np.abs(changed[:, 80:]).max()))  # the bright side
        self.assertGreater(changes[1], 4 * changes[0], changes)

    def test_neighbours_bring_back_more_than_a_frame_alone_holds(self) -> None:
        light = scene("cloth")
        footage, truth = seen(light, 1.2), np.clip(bt709_encoded(light[2]), 0, 1)
        alone, merged = (error_db(sharpened(footage, blur=1.2, frames=k), truth) for k in (0, 2))
        self.assertGreater(merged, alone + 0.1)

    def test_flats_keep_their_noise_and_nothing_is_added_to_it(self) -> None:
        grey = [np.full((96, 128, 3), 0.2, np.float32)] * 5
        footage = seen(grey, 0)
        mask = {"method": "unsharp", "strength": 200}
        for settings in ({"blur": 1.2}, mask, {"blur": 2.0, "colour": True}, {"blur": 1.2, "learned": True}):
            with self.subTest(settings):
                result = sharpened(footage, **settings)
                self.assertLess(result.std() / footage[2].std(), 1.02)
                self.assertLess(np.abs(result - footage[2]).max() * CV_SCALE, 4 * NOISE_CV)

    def test_the_limit_of_the_overshoot_is_kept(self) -> None:
        footage = seen(step_edge(), 1.2, 0.3)
        sides = [float(luma(footage[2])[:, k].mean()) for k in (20, -20)]
        mask = {"method": "unsharp", "strength": 400, "radius": 1.5}
        for settings in ({"blur": 1.6, "halo": 50}, {"blur": 1.6, "halo": 50, "learned": True}, mask):
            beyond = []
            for limit in (0, 10, 200):
                profile = luma(sharpened(footage, overshoot=limit, **settings))[20:-20].mean(axis=0)
                beyond.append((profile.max() - sides[1]) / (sides[1] - sides[0]))
            with self.subTest(settings):
                self.assertLess(beyond[0], 0.01)
                self.assertLess(beyond[1], 0.11)
                self.assertGreater(beyond[2], 0.04, "without a limit it does go beyond")
        profile = luma(sharpened(footage, blur=1.6))[20:-20].mean(axis=0)
        self.assertLess((profile.max() - sides[1]) / (sides[1] - sides[0]), 0.035, "where sides are flat")

    def test_colour_stays_as_it_is_to_the_last_bit(self) -> None:
        light = scene("quay")
        grey = [np.repeat(f[..., 1:2], 3, axis=2) for f in light]
        same = [np.repeat(f[..., :1], 3, axis=2) for f in seen(grey, 1.2)]
        result = sharpened(same, blur=1.2)
        np.testing.assert_array_equal(result[..., 0], result[..., 1])
        np.testing.assert_array_equal(result[..., 2], result[..., 1])
        footage = seen(light, 1.2)
        change = sharpened(footage, blur=1.2) - footage[2]
        np.testing.assert_allclose(change, np.repeat(change[..., 1:2], 3, axis=2), atol=1e-6)

    def test_what_noise_reduction_took_is_given_back_and_no_more(self) -> None:
        light = scene("quay", frames=9)
        footage = seen(light, 0.0, 16.0)
        plan = propose(survey(MemorySource(footage)))
        back = [Step(kind="sharpen", settings={"method": "give-back"})]
        truth, taken, given = bt709_encoded(light[4]), *(
            Pipeline(Footage(MemorySource(footage)), plan.model_copy(update={"steps": steps})).frame(4)
            for steps in (plan.steps, plan.steps + back)
        )  # fmt: skip
        fine = [plane - cv2.GaussianBlur(plane, (0, 0), 0.6) for plane in map(luma, (taken, given, truth))]
        shares = [float((plane * fine[2]).sum() / (fine[2] ** 2).sum()) for plane in fine]
        self.assertLess(shares[0], 0.9)
        self.assertGreater(shares[1], shares[0] + 0.05)
        self.assertLess(shares[1], 1.02)
        self.assertGreater(error_db(given, truth), error_db(taken, truth) - 0.1)
        np.testing.assert_array_equal(sharpened(footage, method="give-back"), footage[2])

    def test_less_is_done_for_less_and_by_the_size_of_detail(self) -> None:
        footage = seen(scene("cloth"), 1.2)
        full, half = (np.abs(sharpened(footage, blur=1.2, share=s) - footage[2]).mean() for s in (100, 50))
        self.assertTrue(0.3 < half / full < 0.85)
        none = sharpened(footage, blur=1.2, fine=0, medium=0, coarse=0)
        np.testing.assert_allclose(none, footage[2], atol=1e-6)
        coarse = sharpened(footage, blur=1.2, fine=0, medium=0) - footage[2]
        self.assertLess(np.abs(coarse).mean(), 0.5 * full)


class Proposals(TestCase):
    def test_blur_is_undone_when_asked_and_never_on_footage_that_is_sharp(self) -> None:
        soft, sharp = (survey(MemorySource(seen(scene("quay"), blur))) for blur in (1.2, 0.0))
        inside = soft.with_tolerances({"softness": 5.0})
        self.assertNotIn("sharpen", [step.kind for step in propose(inside).steps])
        step = next(s for s in propose(inside, sharpen=True).steps if s.kind == "sharpen")
        self.assertAlmostEqual(step.settings["blur"], 1.2, delta=0.15)
        self.assertIn("undone as far as noise lets", step.reason)
        self.assertNotIn("sharpen", [s.kind for s in propose(sharp, sharpen=True).steps])
        self.assertEqual(propose(soft).steps[-1].kind, "sharpen")
        self.assertEqual(offered(soft, "sharpen").settings["blur"], step.settings["blur"])
        self.assertEqual(offered(soft, "grain").settings, {})

    def test_a_lens_out_of_focus_is_undone_as_such(self) -> None:
        for name, radius in (("figurehead", 3.0), ("quay", 2.5)):
            light = scene(name)
            footage = seen([out_of_focus(frame, radius) for frame in light], 0)
            truth = np.clip(bt709_encoded(light[2]), 0, 1)
            plan = propose(survey(MemorySource(footage)), sharpen=True)
            step = next(s for s in plan.steps if s.kind == "sharpen")
            with self.subTest(name, radius=radius):
                self.assertEqual(step.settings["shape"], "disc")
                self.assertAlmostEqual(2 * step.settings["blur"] / radius, 1, delta=0.06)
                told, soft = (sharpened(footage, **step.settings | {"shape": s}) for s in ("disc", "gaussian"))
                self.assertGreater(error_db(told, truth), error_db(soft, truth) + 0.5)


class Judged(TestCase):
    def test_a_proposal_is_fine_and_what_sharpens_too_much_is_told_by_its_own_measure(self) -> None:
        footage = seen(scene("figurehead"), 1.2, 8)
        report = survey(MemorySource(footage))
        plain = {"method": "unsharp", "radius": 1.2, "floor": 0, "overshoot": 200, "frames": 0}
        self.assertLess(self.judged(footage, propose(report, sharpen=True))["brought back"], 20)
        self.assertEqual(set(self.too_far(footage, propose(report, sharpen=True))), set())
        grainy = seen(scene("figurehead"), 1.2, 32)
        for kind, shot, noise_cv, settings in (
            ("brought back", footage, 8, plain | {"strength": 150}),
            ("crawling", grainy, 32, plain | {"strength": 150, "radius": 0.6}),
            ("overshoot", footage, 8, {"blur": 1.8, "floor": 0, "overshoot": 200}),
        ):
            with self.subTest(kind):
                step = Step(kind="sharpen", settings=settings)
                self.assertIn(kind, self.too_far(shot, Plan(profile=white_profile(noise_cv), steps=[step])))

    def test_noise_that_neighbours_share_is_told_by_frames_that_had_no_part_in_it(self) -> None:
        footage = seen(scene("figurehead", frames=9), 1.2, 16)
        for floor, told in ((2.7, []), (0, ["invented"])):
            step = Step(kind="sharpen", settings={"blur": 1.2, "floor": floor, "frames": 2})
            with self.subTest(floor=floor):
                self.assertEqual(self.too_far(footage, Plan(profile=white_profile(16), steps=[step])), told)

    def test_other_work_is_judged_without_it(self) -> None:
        footage = seen(scene("figurehead"), 1.2, 8)
        steps = [Step(kind="spatial"), Step(kind="sharpen", settings={"blur": 1.2})]
        plans = [Plan(profile=white_profile(8), steps=steps[:count]) for count in (1, 2)]
        alone, together = (self.judged(footage, plan) for plan in plans)
        restored = {"overshoot", "brought back", "crawling", "invented"}
        self.assertEqual({k: v for k, v in alone.items() if k not in restored},
                         {k: v for k, v in together.items() if k not in restored})  # fmt: skip
        self.assertEqual({alone[kind] for kind in restored}, {0})
        place = Region(100, 40, 240, 160)
        strips = [strip_at(Footage(MemorySource(footage)), plan, 0, "luma", 2, place) for plan in plans]
        self.assertEqual(strips[0], strips[1])

    def test_a_strip_goes_on_while_edges_get_narrower_and_stops_before_noise_comes_back(self) -> None:
        footage = Footage(MemorySource(seen(scene("figurehead"), 1.2, 8)))
        masked = {"method": "unsharp", "radius": 1.2, "floor": 0, "overshoot": 200, "frames": 0, "strength": 20}
        for setting, settings, least, most in (
            ("share", {"blur": 1.2, "share": 20}, 60, 100), ("strength", masked, 0, 90),
        ):  # fmt: skip
            with self.subTest(setting):
                plan = Plan(profile=white_profile(8), steps=[Step(kind="sharpen", settings=settings)])
                strip = strip_at(footage, plan, 0, setting, 2, Region(100, 40, 240, 160))
                widths = [rung.left for rung in strip.rungs]
                self.assertEqual(strip.left.title, "softness")
                self.assertLess(widths[-1], 0.8 * widths[0])
                self.assertTrue(least <= strip.rungs[strip.stop].value <= most, strip)

    @staticmethod
    def report(footage: list[Frame], plan: Plan) -> Overwork:
        return overwork(Pipeline(Footage(MemorySource(footage)), plan), [2]).report

    def judged(self, footage: list[Frame], plan: Plan) -> dict[str, float]:
        return {m.kind: m.value for m in self.report(footage, plan).measures}

    def too_far(self, footage: list[Frame], plan: Plan) -> list[str]:
        return [m.kind for m in self.report(footage, plan).measures if m.verdict == "too far"]
