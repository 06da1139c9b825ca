"""Moiré of the test camera's own colour filter, treated, against a camera with a sensor for each colour."""

from __future__ import annotations

from unittest import TestCase, mock

import cv2
import numpy as np
from skimage import data

from tests.clips import MemorySource, psnr, shot_pair
from yellowclean.engine.colour.opponent import colour_difference
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Array, Frame, Region, luma
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.judge.strip import strip_at
from yellowclean.engine.measure import false_colour as false_colours
from yellowclean.engine.measure.false_colour import false_colour
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.testcamera.sensor import expose, sigma_curve

WIDTH, HEIGHT, FINER = 330, 250, 4
Y, X = ((np.mgrid[: HEIGHT * FINER, : WIDTH * FINER] + 0.5) / FINER).astype(np.float32)
WORN = slice(60, 190), slice(70, 260)
"""Where the cloth lies."""

FILTERED = Camera(stops_under=0, lens_sigma=0.0)
APART = FILTERED.model_copy(update={"bayer": False, "noiseless": True})


def cloth(n: int, tint: Array) -> Array:
    """Linear light of a shirt of fine threads, moving, before a smooth wall that is warm on one side."""
    across, down = 2 * np.pi * (X - 0.8 * n + 2 * np.sin(Y / 40)) / 2.6, 2 * np.pi * Y / 2.5
    threads = 0.3 + 0.12 * np.cos(across) + 0.09 * np.cos(down)
    wall = np.stack([0.2 + 0.2 * X / WIDTH, 0.2 + 0 * X, 0.25 - 0.1 * X / WIDTH], axis=-1)
    rows, columns = (slice(part.start * FINER, part.stop * FINER) for part in WORN)
    wall[rows, columns] = (threads[..., None] * tint)[rows, columns]
    small: Array = cv2.resize(wall, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA)
    return cv2.GaussianBlur(small, (0, 0), 0.3).astype(np.float32)


def shot(tint: Array | None = None, count: int = 3) -> tuple[list[Frame], list[Frame]]:
    """The shirt as the sensor gives it, and as it is."""
    lights = [cloth(n, np.array([0.8, 0.9, 1.1]) if tint is None else tint) for n in range(count)]
    seen, true = ([np.clip(expose(x, c, n), 0, 1) for n, x in enumerate(lights)] for c in (FILTERED, APART))
    return seen, true


def pipeline(frames: list[Frame], **settings: object) -> Pipeline:
    plan = Plan(profile=white_profile(1.0), steps=[Step(kind="moire", settings=settings)])
    return Pipeline(Footage(MemorySource(frames)), plan)


class Treated(TestCase):
    def test_colour_goes_threads_stay_and_all_around_is_left(self) -> None:
        seen, true = shot()
        result = pipeline(seen).frame(1)
        for part, least in ((colour_difference, 9.0), (lambda f: (luma(f),), 0.1)):
            before, after = (
                np.mean([psnr(a[WORN], b[WORN]) for a, b in zip(part(frame), part(true[1]), strict=True)])
                for frame in (seen[1], result)
            )
            self.assertGreater(after, before + least)
        elsewhere = np.ones((HEIGHT, WIDTH), bool)
        elsewhere[52:198, 62:268] = False
        self.assertGreater(psnr(result[elsewhere], seen[1][elsewhere]), 50)

    def test_by_its_own_detector_nothing_is_left_and_overwork_is_fine(self) -> None:
        seen, _ = shot()
        before, after = false_colour(seen[1]), false_colour(pipeline(seen).frame(1))
        self.assertGreater(before.inside.sum(), 60)
        self.assertEqual(after.inside.sum(), 0)
        self.assertEqual(overwork(pipeline(seen), [1]).report.verdict, "fine")

    def test_patches_of_colour_that_are_averaged_away_are_too_far(self) -> None:
        quilt = np.where((X // 28 + Y // 28)[..., None] % 2 > 0, [0.75, 0.9, 1.15], [1.1, 0.9, 0.75])
        seen, _ = shot(quilt)
        drained = {}
        for reach in (4, 32):
            report = overwork(pipeline(seen, reach=reach), [1]).report
            drained[reach] = next(m.value for m in report.measures if m.kind == "drained")
        self.assertLess(drained[4], drained[32] / 2)
        self.assertGreater(drained[32], 2)

    def test_the_strip_reads_what_is_left_and_stops_where_it_is_gone(self) -> None:
        plan = Plan(profile=white_profile(1.0), steps=[Step(kind="moire")])
        strip = strip_at(Footage(MemorySource(shot()[0])), plan, 0, "colour", 1, Region(60, 60, 200, 120))
        left = [rung.left for rung in strip.rungs]
        self.assertEqual(left, sorted(left, reverse=True))
        self.assertGreater(left[0], 40)
        self.assertEqual((left[strip.stop], strip.rungs[strip.stop].lost), (0, 0))

    def test_what_is_found_does_not_depend_on_the_windows_that_are_passed_over(self) -> None:
        """Every window looked at, against every fourth and those near what is found."""
        look, seen = false_colours._look, shot()[0][1]

        def at_all(views: list[Array], chosen: false_colours.Mask, waves: false_colours._Waves) -> None:
            look(views, np.ones_like(chosen), waves)

        few = false_colour(seen)
        with mock.patch.object(false_colours, "_look", at_all):
            every = false_colour(seen)
        self.assertTrue(few.inside.any() and not few.inside.all())
        np.testing.assert_array_equal(few.inside, every.inside)
        np.testing.assert_array_equal(few.period, every.period)

    def test_amounts(self) -> None:
        seen, _ = shot()
        np.testing.assert_allclose(pipeline(seen, colour=0, luma=0).frame(1), seen[1], atol=1e-6)
        colour_only = pipeline(seen, luma=0).frame(1)
        np.testing.assert_allclose(luma(colour_only), luma(seen[1]), atol=1e-5)
        np.testing.assert_array_equal(pipeline(seen, least=64).frame(1), seen[1])

    def test_a_region_is_that_of_the_whole_frame_at_odd_sizes_too(self) -> None:
        seen = [f[:241, :317] for f in shot()[0]]
        whole = pipeline(seen).frame(1)
        for place in (Region(83, 71, 71, 40), Region(0, 0, 117, 109), Region(240, 150, 77, 91)):
            np.testing.assert_allclose(pipeline(seen).frame(1, place), whole[place.slices], atol=1e-6)

    def test_one_frame_tiny_and_broken_pictures_pass(self) -> None:
        for shape in ((1, 1), (2, 9), (40, 60)):
            frame = np.full((*shape, 3), 0.4, np.float32)
            np.testing.assert_array_equal(pipeline([frame]).frame(0), frame)
        seen = shot(count=1)[0]
        seen[0][100, 100] = np.nan
        result = pipeline(seen).frame(0)
        self.assertEqual(np.isnan(result).sum(), 3)
        self.assertLess(false_colour(result).inside.sum(), 3)


class Told(TestCase):
    def test_proposed_where_it_is_and_nowhere_else(self) -> None:
        for frames, wanted in zip(shot(), (True, False), strict=True):
            report = survey(MemorySource(frames))
            finding = next(f for f in report.findings if f.kind == "moiré")
            self.assertEqual(finding.outside, wanted, finding)
            self.assertEqual("moire" in [step.kind for step in propose(report).steps], wanted)

    def test_waves_that_boil_are_not_taken_for_noise(self) -> None:
        """Green at the level of the cloth, against the test camera's own curve."""
        frames = shot(count=5)[0]
        level = float(frames[2][WORN][..., 1].mean())
        levels, sigmas = sigma_curve(FILTERED, np.linspace(0.02, 0.6, 8).astype(np.float32))
        true = float(np.interp(level, levels[:, 1], sigmas[:, 1]))
        told = float(survey(MemorySource(frames)).profile.curve.sigma_at(np.array([level], np.float32), "g")[0])
        self.assertLess(abs(told / true - 1), 0.35)

    def test_natural_pictures_and_true_threads_are_left_bit_for_bit(self) -> None:
        """scikit-image's pictures: faces, fur, lattices, brick, grass, gravel, in two sizes, and true threads."""
        names = ["astronaut", "coffee", "chelsea", "rocket", "brick", "grass", "gravel", "hubble_deep_field"]
        pictures = {name: np.atleast_3d(getattr(data, name)()).astype(np.float32) / 255 for name in names}
        for name, picture in pictures.items():
            colour = np.ascontiguousarray(np.broadcast_to(picture, (*picture.shape[:2], 3)))
            for scale in (1.0, 0.5):
                with self.subTest(name, scale=scale):
                    small = cv2.resize(colour, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
                    np.testing.assert_array_equal(pipeline([small, small]).frame(0), small)
        brick = shot_pair("basin", Camera(stops_under=3, bayer=False), 960, 540, 1)[0][0]
        self.assertFalse(false_colour(brick).inside.any())
        true = shot()[1]
        np.testing.assert_array_equal(pipeline(true).frame(1), true[1])
