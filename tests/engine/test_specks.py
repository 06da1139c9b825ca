"""Specks taken out: against the footage without them, with every star kept, and all else untouched."""

from __future__ import annotations

import functools
from unittest import TestCase, mock

import cv2
import numpy as np
from skimage import data

from tests.clips import MemorySource, shot_pair
from tests.engine.planted import noisy
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Array, Frame, Region, luma
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.measure.outliers import specks_in
from yellowclean.engine.noise.profile import NoiseProfile, white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.treat._patching import Filling, _fitted, fillings
from yellowclean.engine.treat._predicting import predicted, ringed

CAMERA = Camera(stops_under=2)
SIZE = 640, 360


@functools.cache
def profile_of(scene: str) -> NoiseProfile:
    return white_profile(6.0).model_copy(update={"curve": noisy(scene, CAMERA, SIZE)[1]})


def shot(scene: str) -> list[Frame]:
    return [np.clip(f, 0, 1) for f in noisy(scene, CAMERA, SIZE)[0]]


def pipeline(frames: list[Frame], scene: str, **settings: object) -> Pipeline:
    plan = Plan(profile=profile_of(scene), steps=[Step(kind="specks", settings=settings)])
    return Pipeline(Footage(MemorySource(frames)), plan)


def dusty(frame: Frame, seed: int) -> Frame:
    """Ten dark and bright grains of 3 to 9 pixels."""
    rng, marked = np.random.default_rng(seed), frame.copy()
    for _ in range(10):
        x, y = int(rng.integers(20, SIZE[0] - 20)), int(rng.integers(20, SIZE[1] - 20))
        around = frame[y - 5 : y + 6, x - 5 : x + 6]
        shade = min(float(around.max()) + 0.3, 1.0) if rng.random() < 0.5 or around.min() < 0.3 else 0.0
        axes = int(rng.integers(1, 5)), int(rng.integers(1, 4))
        cv2.ellipse(marked, (x, y), axes, float(rng.integers(0, 180)), 0, 360, (shade,) * 3, -1, cv2.LINE_AA)
    return marked


def trailed(frame: Frame) -> Frame:
    """A satellite over the whole sky."""
    marked = frame.copy()
    cv2.line(marked, (30, 40), (600, 170), (0.42, 0.42, 0.44), 1, cv2.LINE_AA)
    return np.maximum(marked, frame)


def upright(rng: np.random.Generator) -> Frame:
    """A soft line from top to bottom that wobbles, H×W."""
    line = np.zeros((SIZE[1], SIZE[0]), np.float32)
    top, bottom = (round(16 * (200 + rng.normal(0, 1))) for _ in range(2))
    cv2.line(line, (top, 0), (bottom, 16 * (SIZE[1] - 1)), (1.0,), 1, cv2.LINE_AA, 4)
    return cv2.GaussianBlur(line, (0, 0), 0.6)


def glided(picture: Frame, across: float) -> Frame:
    """The part of a picture that a camera sees that glided so far."""
    at = np.float32([[1, 0, -across], [0, 1, 0]])  # type: ignore[arg-type]
    return np.asarray(cv2.warpAffine(picture, at, SIZE, flags=cv2.INTER_CUBIC), np.float32)


def grey(plane: Array) -> Frame:
    return np.repeat(plane[..., None], 3, axis=2)


def gain_db(faulty: Frame, result: Frame, truth: Frame) -> float:
    """By how much nearer the fault has come to the truth."""
    fault = (np.abs(faulty - truth) > 0.01).any(axis=2)
    before, after = (float(np.mean((some - truth)[fault] ** 2)) for some in (faulty, result))
    return 10 * np.log10(before / after)


class Specks(TestCase):
    def test_dust_goes_and_all_else_stays_to_the_last_bit(self) -> None:
        """At the ends of a shot as well, where on the restless quay one of ten is not told."""
        for scene, at in (("stars", 4), ("quay", 4), ("cloth", 4), ("stars", 0), ("quay", 0), ("cloth", 7)):
            frames = shot(scene)
            faulty = [dusty(f, 4) if n == at else f for n, f in enumerate(frames)]
            result = pipeline(faulty, scene).frame(at)
            with self.subTest(scene, at=at):
                self.assertGreater(gain_db(faulty[at], result, frames[at]), 8 if at == 4 else 7)
                near = cv2.dilate((faulty[at] != frames[at]).any(axis=2).astype(np.uint8), np.ones((15, 15))) > 0
                changed = (result != faulty[at]).any(axis=2)
                self.assertLess(changed[~near].mean(), 2e-4)
                np.testing.assert_array_equal(pipeline(faulty, scene).frame(2), faulty[2])

    def test_dirt_is_covered_whole_on_sparkling_water_and_among_moving_edges(self) -> None:
        large = cv2.resize(data.astronaut().astype(np.float32) / 255, (SIZE[0] + 40, SIZE[1] + 20))
        panned = [glided(large, 2.3 * n).clip(0, 1) for n in range(8)]
        for scene, frames, seed, count, top, least in (
            ("basin", shot("basin"), 4, 6, 180, 5),
            ("quay", panned, 11, 12, 24, 2),
        ):
            rng, marked = np.random.default_rng(seed), frames[4].copy()
            for _ in range(count):
                x, y, across, down = (int(v) for v in rng.integers((24, top, least, least), (616, 336, 10, 10)))
                brighter = float(frames[4][y - 12 : y + 13, x - 12 : x + 13].max()) + 0.25
                cv2.ellipse(marked, (x, y), (across, down), 0, 0, 360, (min(brighter, 1.0),) * 3, -1)
            works = pipeline([marked if n == 4 else f for n, f in enumerate(frames)], scene)
            apart = np.abs(marked - frames[4]).max(axis=2) > 0.1
            with self.subTest(scene):
                self.assertGreater((works.frame(4) != marked).any(axis=2)[apart].mean(), 0.98)

    def test_grey_dust_on_water_is_no_glint_of_coloured_lamps_and_makes_no_dust_of_them(self) -> None:
        clean = shot("basin")
        frames = [dusty(f, 30 + n) for n, f in enumerate(clean)]
        works, grains, others = pipeline(frames, "basin"), 0, 0
        for n in range(2, 6):
            dust = (np.abs(frames[n] - clean[n]) > 0.01).any(axis=2)
            for mark in works.marks(0, n):
                place = slice(mark.y, mark.y + mark.height), slice(mark.x, mark.x + mark.width)
                grains, others = grains + bool(dust[place].any()), others + (not dust[place].any())
        self.assertGreaterEqual(grains, 39)
        self.assertLessEqual(others, 2)

    def test_a_trail_goes_and_every_star_keeps_its_peak(self) -> None:
        frames, truth = shot("stars"), shot_pair("stars", CAMERA, *SIZE, 8)[1]
        faulty = [trailed(f) if n == 4 else f for n, f in enumerate(frames)]
        result = pipeline(faulty, "stars").frame(4)
        self.assertGreater(gain_db(faulty[4], result, frames[4]), 12)
        light = luma(truth[4])
        stars = (light >= cv2.dilate(light, np.ones((5, 5)))) & (light > np.median(light) + 0.12)
        kept = luma(result)[stars] > 0.7 * luma(frames[4])[stars]
        self.assertGreater(int(stars.sum()), 20)
        self.assertGreater(kept.mean(), 0.97)

    def test_a_trail_goes_on_behind_what_hides_it(self) -> None:
        rng = np.random.default_rng(1)
        scene = np.full(SIZE[::-1], 0.2, np.float32)
        scene[:, 330:354] = np.kron(rng.choice([0.2, 1.0], (SIZE[1] // 3, 8)), np.ones((3, 3)))
        before, here, after = (
            (scene + 0.004 * rng.standard_normal(scene.shape)).astype(np.float32) for _ in range(3)
        )
        cv2.line(here, (30, 60), (500, 64), (0.6,), 1, cv2.LINE_AA)
        [trail] = specks_in(grey(here), before, after, np.full_like(scene, 0.004)).specks
        self.assertLess(trail.x, 34)
        self.assertGreater(trail.x + trail.mask.shape[1], 496)

    def test_a_scratch_that_stands_goes_and_what_moves_with_the_picture_is_none(self) -> None:
        """The posts of the quay are upright and thin too, but pass by."""
        frames = shot("quay")
        works = pipeline(frames, "quay")
        self.assertFalse([mark for mark in works.marks(0, 4) if mark.kind == "scratch"])
        rng = np.random.default_rng(11)
        for strength in (0.06, 0.1, 0.2):
            faulty = [np.clip(f + strength * upright(rng)[..., None], 0, 1) for f in frames]
            with self.subTest(strength):
                works = pipeline(faulty, "quay")
                found = [mark for mark in works.marks(0, 4) if mark.kind == "scratch"]
                self.assertEqual(len(found), 1)
                self.assertGreater(found[0].height, 0.8 * SIZE[1])
                self.assertGreater(gain_db(faulty[4], works.frame(4), frames[4]), 3)
        left = pipeline(faulty, "quay", scratches=False)
        np.testing.assert_array_equal(left.frame(4), faulty[4])

    def test_a_scratch_over_photographs_is_found_still_and_in_texture_and_a_post_is_none(self) -> None:
        """Natural pictures: a rocket on its pad, which stands still, and fur, over which a camera glides."""
        for picture, speed in ((data.rocket(), 0.0), (data.chelsea(), 2.3)):
            large = cv2.resize(picture.astype(np.float32) / 255, (SIZE[0] + 40, SIZE[1] + 20))
            post = large.copy()
            cv2.line(post, (220, 0), (221, SIZE[1] + 20), (0.7, 0.7, 0.65), 3, cv2.LINE_AA)
            for scene, scratch in ((large, True), (post, False)):
                rng = np.random.default_rng(11)
                frames = [
                    glided(scene, speed * n) + 0.004 * rng.standard_normal((*SIZE[::-1], 3)) for n in range(8)
                ]
                clean = [f.clip(0, 1).astype(np.float32) for f in frames]
                if scratch:
                    frames = [f + 0.15 * upright(rng)[..., None] for f in frames]
                held = MemorySource([f.clip(0, 1).astype(np.float32) for f in frames])
                works = Pipeline(Footage(held), Plan(profile=white_profile(4.0), steps=[Step(kind="specks")]))
                found = [mark for mark in works.marks(0, 4) if mark.kind == "scratch"]
                with self.subTest(speed=speed, scratch=scratch):
                    self.assertEqual(sum(mark.height for mark in found) > 0.9 * SIZE[1], scratch)
                    self.assertTrue(all(abs(mark.x + mark.width / 2 - 200) < 6 for mark in found))
                    if scratch and speed:  # it has moved on by less than its width in the frames beside
                        self.assertGreater(gain_db(held.read(4), works.frame(4), clean[4]), 6)

    def test_hot_pixels_go_behind_a_moving_picture_and_before_a_still_one(self) -> None:
        for scene in ("quay", "stars"):
            clean = shot(scene)
            hot = [
                np.clip(f, 0, 1)
                for f in shot_pair(scene, CAMERA.model_copy(update={"hot_pixels": 40}), *SIZE, 8)[0]
            ]
            result = pipeline(hot, scene).frame(3)
            with self.subTest(scene):
                self.assertGreater(gain_db(hot[3], result, clean[3]), 9)

    def test_dust_on_every_frame_is_found_and_what_was_right_stays_right_for_the_judge(self) -> None:
        frames = [dusty(f, 60 + n) for n, f in enumerate(shot("quay"))]
        works = pipeline(frames, "quay")
        self.assertGreaterEqual(sum(mark.taken for mark in works.marks(0, 4)), 9)
        self.assertNotEqual(overwork(works, [4]).report.verdict, "too far")

    def test_the_judge_sees_stars_that_went_and_repairs_that_fit_nothing(self) -> None:
        frames = shot("stars")
        light = luma(frames[4])
        stars = (light >= cv2.dilate(light, np.ones((5, 5)))) & (light > np.median(light) + 0.12)
        drawn = [[4, int(x), int(y)] for y, x in np.argwhere(stars)[:60]]
        blank = lambda frame, holes, beside, sigma: [  # noqa: E731
            Filling(Region(0, 0, *SIZE), holes, np.full_like(frame, 0.5), 1.0)
        ]
        with mock.patch("yellowclean.engine.treat.specks.fillings", blank):
            report = overwork(pipeline(frames, "stars", drawn=drawn), [4]).report
        self.assertLessEqual({"points", "ghosts"}, {m.kind for m in report.measures if m.verdict == "too far"})

    def test_where_no_frame_beside_fits_a_place_that_looks_alike_fills_better_than_the_border(self) -> None:
        """By far where threads repeat, and on a photograph of a face no worse."""
        threads = np.clip(shot_pair("cloth", CAMERA, *SIZE, 8)[1][4], 0, 1)
        for picture, least in ((threads, 0.5), (data.astronaut().astype(np.float32) / 255, 1.0)):
            holes = np.zeros(picture.shape[:2], bool)
            for x, y in np.random.default_rng(3).integers(20, (460, 300), (30, 2)):
                holes[y : y + 9, x : x + 7] = True
            errors = []
            for alike in (_fitted, lambda *_: None):
                with mock.patch("yellowclean.engine.treat._patching._fitted", alike):
                    found = fillings(picture, holes, [], 0.003)
                errors.append(sum(float(((f.rgb - picture[f.region.slices])[f.mask] ** 2).sum()) for f in found))
            self.assertLess(errors[0], least * errors[1])

    def test_a_hot_pixel_at_the_rim_is_not_filled_with_itself(self) -> None:
        ramp = np.repeat(np.linspace(0.2, 0.4, 64, dtype=np.float32)[None, :, None], 48, axis=0).repeat(3, axis=2)
        places = np.array([(0, 0), (0, 63), (47, 30), (20, 0)])
        holes = np.zeros((4, 3, 3, 3), bool)
        holes[:, 1, 1, 0] = True
        hot = ramp.copy()
        hot[places[:, 0], places[:, 1], 0] = 0.9
        filled = predicted(ringed(hot, places, holes), places, holes, [])[:, 1, 1]
        np.testing.assert_allclose(filled, ramp[places[:, 0], places[:, 1]], atol=0.005)

    def test_clean_footage_is_left_alone(self) -> None:
        for scene in ("stars", "quay", "cloth"):
            frames = shot(scene)
            changed = (pipeline(frames, scene).frame(4) != frames[4]).any(axis=2)
            self.assertLess(changed.mean(), 1e-3, scene)

    def test_a_detail_that_falls_between_pixels_in_the_frames_beside_is_none(self) -> None:
        """Dots of a pixel under a picture that moves by half of one."""
        rng = np.random.default_rng(4)
        fine = np.full((400, 600), 0.8, np.float32)
        for y, x in rng.integers(20, (380, 580), (40, 2)) // 2 * 2:
            fine[y : y + 2, x : x + 2] = 0.3
        moved = [np.roll(fine, (k, k), (0, 1)).reshape(200, 2, 300, 2).mean(axis=(1, 3)) for k in (1, 0, -1)]
        before, here, after = (
            (plane + 0.002 * rng.standard_normal(plane.shape)).astype(np.float32) for plane in moved
        )
        sigma = np.full(here.shape, 0.002, np.float32)
        self.assertEqual(specks_in(grey(here), before, after, sigma).specks, [])
        marked = here.copy()
        marked[100, 150:152] = 0.3
        self.assertEqual(len(specks_in(grey(marked), before, after, sigma).specks), 1)

    def test_what_a_codec_errs_by_from_frame_to_frame_is_none(self) -> None:
        rng, error = np.random.default_rng(12), 0.015
        scene = luma(cv2.resize(data.coffee(), (480, 320), interpolation=cv2.INTER_AREA).astype(np.float32) / 510)

        def erring() -> Array:
            blotches = cv2.GaussianBlur(rng.standard_normal(scene.shape).astype(np.float32), (0, 0), 3)
            return scene + np.float32(0.6 * error) * blotches / blotches.std()

        before, here = erring(), erring()
        after = before  # skipped blocks stay as they were
        sigma = np.full_like(scene, 0.002)
        self.assertGreater(len(specks_in(grey(here), before, after, sigma).specks), 10)
        self.assertEqual(specks_in(grey(here), before, after, sigma, coding_error=error).specks, [])
        cv2.circle(here, (240, 160), 3, (0.9,), -1)
        [grain] = specks_in(grey(here), before, after, sigma, coding_error=error).specks
        np.testing.assert_allclose(grain.centre, (240.5, 160.5), atol=1)

    def test_a_region_is_that_of_the_whole_frame_and_kinds_can_be_left(self) -> None:
        faulty = [trailed(dusty(f, n)) if n == 4 else f for n, f in enumerate(shot("stars"))]
        whole = pipeline(faulty, "stars").frame(4)
        place = Region(101, 37, 210, 133)
        np.testing.assert_array_equal(pipeline(faulty, "stars").frame(4, place), whole[place.slices])
        left = pipeline(faulty, "stars", dust=False, trails=False, lines=False, hot=False).frame(4)
        np.testing.assert_array_equal(left, faulty[4])

    def test_short_and_small_shots_pass(self) -> None:
        for count, shape in ((1, (40, 60)), (2, (40, 60)), (9, (5, 7)), (9, (33, 32))):
            frames = [np.full((*shape, 3), 0.4, np.float32)] * count
            np.testing.assert_array_equal(pipeline(frames, "quay").frame(count // 2), frames[0])

    def test_proposed_for_what_is_outside_its_tolerance(self) -> None:
        frames = shot("stars")
        plan = propose(survey(MemorySource([dusty(f, n) for n, f in enumerate(frames)])))
        self.assertEqual(plan.steps[0].kind, "specks")
        self.assertFalse(plan.steps[0].settings["hot"])
        self.assertNotIn("specks", [s.kind for s in propose(survey(MemorySource(frames))).steps])
