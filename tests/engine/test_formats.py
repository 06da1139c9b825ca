"""Steps that change size or colour: regions, noise behind them, judging, writing."""

from __future__ import annotations

from fractions import Fraction
from unittest import TestCase

import numpy as np
import OpenImageIO as oiio

from tests import treatments
from tests.clips import MemorySource, described, shot_pair, temporary_folder
from yellowclean.engine.delivery import delivery_report
from yellowclean.engine.errors import BadInput, BadPlan
from yellowclean.engine.footage import Footage
from yellowclean.engine.format import Format
from yellowclean.engine.frames import CV_SCALE, Array, Region
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.judge.strip import strip_at
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.media import destination, open_source, open_writer
from yellowclean.engine.noise.profile import NoiseProfile, white_profile
from yellowclean.engine.parameters import Colour, Parameters, Point, choice, colour, point
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step, plan_schema
from yellowclean.engine.propose import propose
from yellowclean.engine.reach.model import Reach, Shape, ShapeKey, Tones
from yellowclean.engine.render import render
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.treat._resampling import KERNELS, resampled

CONVERSIONS = (
    "Rec.2100-PQ - Display", "Rec.2100-HLG - Display", "sRGB Encoded Rec.709 (sRGB)", "Camera Rec.2020", "ACEScct",
)  # fmt: skip


def to(space: str) -> Step:
    return Step(kind="convert", settings={"target": space})


PQ = to(CONVERSIONS[0])
ROUND = Reach(shapes=[Shape(kind="ellipse", keys=[ShapeKey(frame=0, points=[[60, 50], [100, 50], [60, 80]])])])


def resize(factor: float, **settings: object) -> Step:
    return Step(kind="resize", settings={"factor": factor, **settings})


def odd_clip() -> list[Array]:
    rng = np.random.default_rng(4)
    ramp = np.linspace(0.2, 0.7, 151, dtype=np.float32)[None, :, None]
    return [(ramp + rng.normal(0, 0.01, (97, 151, 3))).astype(np.float32) for _ in range(5)]


class Pieces(TestCase):
    def test_a_region_is_that_of_the_whole_frame_at_any_factor_and_odd_sizes(self) -> None:
        footage, rng = Footage(MemorySource(odd_clip())), np.random.default_rng(2)
        before, after = (
            Step(kind="temporal", reach=ROUND),
            Step(kind="spatial", reach=Reach(tones=Tones(high_cv=500))),
        )
        for factor, middle in (
            (2.0, [resize(2.0, linear=True)]),
            (0.5, [PQ, resize(0.5)]),
            (1.37, [resize(1.37, kernel="mitchell"), PQ]),
            (0.413, [resize(0.413, linear=True)]),
            (1.37, [PQ, resize(1.37)]),
        ):
            pipeline = Pipeline(footage, Plan(profile=white_profile(10), steps=[before, *middle, after, before]))
            whole = pipeline.frame(2)
            self.assertEqual(whole.shape[:2], (round(97 * factor), round(151 * factor)))
            for _ in range(4):
                x, y = int(rng.integers(0, 150)), int(rng.integers(0, 96))
                region = Region(x, y, int(rng.integers(1, 152 - x)), int(rng.integers(1, 98 - y)))
                piece = pipeline.covered(region)
                np.testing.assert_array_equal(pipeline.frame(2, region), whole[piece.slices], f"{factor} {region}")

    def test_kernels_are_those_of_openimageio(self) -> None:
        """Reference library, on noise, which shows a weight or a place that is off."""
        rng = np.random.default_rng(6)
        picture, given = rng.random((61, 97, 3), np.float32), (97, 61)
        for handed in ((48, 30), (40, 25), (133, 84), (194, 122), (97, 30)):
            for kernel in KERNELS:
                source, theirs = (oiio.ImageBuf(oiio.ImageSpec(*size, 3, "float")) for size in (given, handed))
                source.set_pixels(source.roi, picture)
                self.assertTrue(oiio.ImageBufAlgo.resize(theirs, source, kernel, 0.0))
                place, wanted = Region(0, 0, *given), Region(0, 0, *handed)
                ours = resampled(picture, place, given, wanted, handed, kernel)
                expected = np.asarray(theirs.get_pixels(oiio.FLOAT), np.float32)
                np.testing.assert_allclose(ours, expected, atol=3e-5, err_msg=f"{kernel} {handed}")

    def test_formats_cover_one_another_exactly(self) -> None:
        source = Format.of(described(1440, 1080, 1, pixel_aspect="4/3"))
        wide = source.resized(1920, 1080)
        self.assertEqual(wide.pixel_aspect, Fraction(1))
        self.assertEqual(wide.covering(Region(3, 5, 6, 7), source), Region(4, 5, 8, 7))
        self.assertEqual(source.covering(Region(4, 5, 8, 7), wide), Region(3, 5, 6, 7))
        self.assertEqual(wide.covering(Region(-1, 0, 3, 1), source), Region(-2, 0, 5, 1))

    def test_a_shape_stays_in_its_place_on_the_picture(self) -> None:
        """A matte of a drawn shape behind a resize, brought back, is the one before it (closed form: it depends on
        the distance alone)."""
        footage = Footage(MemorySource(odd_clip()))
        steps = [Step(kind="spatial", reach=ROUND), resize(2), Step(kind="spatial", reach=ROUND)]
        pipeline = Pipeline(footage, Plan(profile=white_profile(10), steps=steps))
        small, large = pipeline.matte(0, 0), pipeline.matte(2, 0)
        back = large[:194, :302].reshape(97, 2, 151, 2).mean(axis=(1, 3))
        self.assertLess(np.abs(back - small).max(), 0.01)


class Noise(TestCase):
    def assert_predicted(self, profile: NoiseProfile, frames: list[Array], steps: list[Step]) -> None:
        pipeline = Pipeline(Footage(MemorySource(frames)), Plan(profile=profile, steps=steps))
        predicted = pipeline.around.profile
        found = measure_noise(MemorySource([pipeline.frame(n) for n in range(len(frames))])).profile
        for name in ("luma", "r", "g", "b", "cb", "cr"):
            level = np.array(found.curve.level_cv)[np.array(found.curve.share) > 0.01]
            ratio = np.interp(level, predicted.curve.level_cv, predicted.curve.signal(name)) / np.interp(
                level, found.curve.level_cv, found.curve.signal(name)
            )
            self.assertAlmostEqual(float(np.median(ratio)), 1, delta=0.1, msg=name)

    def test_a_profile_behind_a_step_is_what_is_measured_there(self) -> None:
        halved, converted = [[resize(0.5)]], [[PQ, resize(0.5)], *([to(space)] for space in CONVERSIONS)]
        for scene, bayer, plans in (("basin", False, halved), ("quay", True, converted)):
            noisy, _ = shot_pair(scene, Camera(stops_under=3, bayer=bayer), 640, 384, 4)
            profile = measure_noise(MemorySource(noisy)).profile
            for steps in plans:
                with self.subTest(scene, steps=[s.settings for s in steps]):
                    self.assert_predicted(profile, noisy, steps)

    def test_a_mean_of_four_halves_white_noise(self) -> None:
        """Closed form: the triangle kernel over four pixels each way keeps sum(w²) of the variance."""
        weights = np.array([0.125, 0.375, 0.375, 0.125])
        plan = Plan(profile=white_profile(10), steps=[resize(0.5, kernel="triangle")])
        even = [frame[:96, :150] for frame in odd_clip()]
        behind = Pipeline(Footage(MemorySource(even)), plan).around.profile
        self.assertAlmostEqual(behind.typical_cv("r"), 10 * float((weights**2).sum()), delta=0.15)

    def test_noise_is_reduced_as_well_behind_a_resize_as_before_it(self) -> None:
        noisy, clean = shot_pair("basin", Camera(stops_under=3, bayer=False), 640, 384)
        profile = measure_noise(MemorySource(noisy)).profile
        chain, half = [Step(kind="temporal"), Step(kind="spatial")], resize(0.5)
        truth = Pipeline(Footage(MemorySource(clean)), Plan(profile=profile, steps=[half])).frame(3)
        errors = []
        for steps in ([half], [half, *chain], [*chain, half]):
            result = Pipeline(Footage(MemorySource(noisy)), Plan(profile=profile, steps=steps)).frame(3)
            errors.append(float(np.sqrt(((result - truth) ** 2).mean())) * CV_SCALE)
        self.assertLess(errors[1], 0.65 * errors[0])
        self.assertLess(errors[1], 1.15 * errors[2])


class Judged(TestCase):
    def test_a_plan_that_only_reshapes_has_damaged_nothing(self) -> None:
        footage = Footage(MemorySource(shot_pair("quay", Camera(stops_under=3))[0]))
        for steps in ([resize(0.5)], [resize(1.5, linear=True)], [PQ], [PQ, resize(2)]):
            report = overwork(Pipeline(footage, Plan(profile=white_profile(12), steps=steps)), [2]).report
            self.assertEqual([(m.kind, round(m.value, 3)) for m in report.measures if m.value > 5e-4], [])
            self.assertEqual(report.verdict, "fine")

    def test_a_strip_tries_no_setting_that_changes_the_format(self) -> None:
        footage, plan = Footage(MemorySource(odd_clip())), Plan(profile=white_profile(10), steps=[resize(0.5)])
        with self.assertRaisesRegex(BadInput, "step 1 changes the size"):
            strip_at(footage, plan, 0, "factor", 0, footage.whole)

    def test_what_is_asked_for_is_proposed_with_a_reason(self) -> None:
        plan = propose(survey(MemorySource(odd_clip())), scale=(640, 360), space="Linear Rec.2020")
        self.assertEqual([s.kind for s in plan.steps][-2:], ["resize", "convert"])
        self.assertEqual([s.reason for s in plan.steps][-2], "640×360 pixels, as asked.")


class Written(TestCase):
    def test_a_plan_says_where_each_step_works(self) -> None:
        source = Format.of(described(640, 384, 1))
        plan = Plan(profile=white_profile(4), steps=[Step(kind="spatial"), PQ, resize(0.5), Step(kind="grain")])
        told = plan.works_in(source)
        self.assertEqual(told[:2], ["Works in Camera Rec.709, 640×384 px."] * 2)
        self.assertEqual(told[2:], ["Works in Rec.2100-PQ - Display, 640×384 px.",
                                    "Works in Rec.2100-PQ - Display, 320×192 px."])  # fmt: skip
        self.assertEqual(Plan(profile=white_profile(4), steps=[Step(kind="spatial")]).works_in(source), [""])

    def test_files_are_of_the_results_size_and_say_what_it_is(self) -> None:
        source, folder = MemorySource(odd_clip(), chroma="4:2:0"), temporary_folder(self)
        for name, size in (("a.mkv", (302, 194)), ("b_####.tif", (302, 194)), ("c.mov", (302, 194))):
            plan = Plan(profile=white_profile(10), steps=[PQ, resize(2), Step(kind="spatial")])
            target = destination(folder / name)
            render(source, plan, target)
            delivery_report(source, target, range(5), plan)
            written = open_source(target.path)
            self.assertEqual((written.info.width, written.info.height), size)
            if written.info.kind == "video":
                self.assertEqual((written.info.primaries, written.info.transfer), ("bt2020", "smpte2084"))
            result = Pipeline(Footage(source), plan).frame(1)
            self.assertLess(np.abs(written.read(1) - np.clip(result, 0, 1)).mean(), 2 / CV_SCALE)

    def test_a_writer_refuses_frames_of_another_size(self) -> None:
        folder, info = temporary_folder(self), described(64, 48, 2)
        for name in ("a.mkv", "b_####.png"):
            with (
                self.assertRaisesRegex(BadInput, "128×96 pixels cannot be written into a file of 64×48"),
                open_writer(destination(folder / name), info) as writer,
            ):
                writer.write(np.zeros((96, 128, 3), np.float32))
        self.assertEqual(list(folder.iterdir()), [])

    def test_absurd_sizes_and_mixes_are_refused_in_a_line(self) -> None:
        huge = Plan(profile=white_profile(10), steps=[resize(8), resize(8), resize(8)])
        with self.assertRaisesRegex(BadInput, "out of range"):
            Pipeline(Footage(MemorySource(odd_clip())), huge)
        for settings in ({"factor": 0}, {"kernel": "wishful"}, {"linear": "perhaps"}, {"width": 99999}):
            with self.assertRaises(ValueError):
                Step(kind="resize", settings=settings)
        with self.assertRaisesRegex(ValueError, "no Mix"):
            Step(kind="resize", mix=50)
        with self.assertRaises((ValueError, BadPlan)):
            Step(kind="convert", settings={"target": "no such space"})


class Controls(TestCase):
    def test_settings_are_what_their_controls_offer(self) -> None:
        class Odd(Parameters):
            tint: Colour = colour((512, 256, 0), "Tint", "Of the light.")
            sun: Point = point((0, 0), "Sun", "Where it stands.")
            kind: str = choice("plain", "Kind", "Of sun.", options=("plain", "odd"))

        self.assertEqual(Odd(sun=(3, 4.5), kind="odd").sun, (3, 4.5))
        controls = [p["control"] for p in Odd.model_json_schema()["properties"].values()]
        self.assertEqual(controls, ["colour", "point", "choice"])
        for wrong in ({"tint": (1, 2)}, {"sun": (float("nan"), 0)}, {"kind": "none"}, {"sun": "here"}):
            with self.subTest(wrong), self.assertRaises(ValueError):
                Odd(**wrong)


class OneFile(TestCase):
    def test_treatments_of_one_file_each_appear_and_work(self) -> None:
        with treatments.added():
            kinds = plan_schema()["treatments"]
            self.assertLessEqual({"every second", "square root", "dimmed"}, set(kinds))
            steps = [Step(kind="dimmed"), Step(kind="every second"), Step(kind="square root"), Step(kind="spatial")]
            pipeline = Pipeline(Footage(MemorySource(odd_clip())), Plan(profile=white_profile(10), steps=steps))
            self.assertEqual(pipeline.frame(0).shape, (48, 75, 3))
            self.assertEqual(pipeline.format.encoding.space, "Square root")
            region = Region(31, 17, 40, 50)
            np.testing.assert_array_equal(
                pipeline.frame(0, region), pipeline.frame(0)[pipeline.covered(region).slices]
            )
            shown = pipeline.own_view(0, "above", 0)
            self.assertEqual((shown.shape, set(np.unique(shown))), ((97, 151), {0.0, 1.0}))
            with self.assertRaisesRegex(BadInput, "has no view"):
                pipeline.own_view(0, "below", 0)
