"""Reach: mattes against geometry and arithmetic, and effects that fade with them."""

from __future__ import annotations

import json
from unittest import TestCase

import numpy as np

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.errors import BadInput, BadPlan
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, Region
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import ChannelMix, Plan, Step, plan_from_json
from yellowclean.engine.reach import Cleanup, Detail, HueSample, Reach, Shape, ShapeKey, Tones, matte, sampled_hue
from yellowclean.engine.testcamera import Camera

PROFILE = white_profile(8)


def matte_of(reach: Reach, frame: Frame, n: int = 0) -> Array:
    return matte(reach, frame, PROFILE.curve, n, 0, 0)


def ramp() -> Frame:
    """Level rises from 0 to 1 over 512 columns."""
    return np.broadcast_to(np.linspace(0, 1, 512, dtype=np.float32)[None, :, None], (32, 512, 3)).copy()


def patches() -> Frame:
    """Red, green, blue and grey side by side, 64 pixels each."""
    colours = np.array([[0.6, 0.2, 0.2], [0.2, 0.5, 0.2], [0.2, 0.2, 0.6], [0.4, 0.4, 0.4]], np.float32)
    return np.broadcast_to(colours.repeat(64, axis=0)[None], (64, 256, 3)).copy()


def ellipse(a: float, b: float, *keys: tuple[int, float, float], **more: float | bool) -> Shape:
    made = [ShapeKey(frame=n, points=[[x, y], [x + a, y], [x, y + b]]) for n, x, y in keys]
    return Shape(kind="ellipse", keys=made, soft_px=1, **more)  # type: ignore[arg-type]


class Mattes(TestCase):
    def test_tones_are_full_inside_half_on_the_middle_of_a_shoulder_and_nothing_beyond(self) -> None:
        found = matte_of(Reach(tones=Tones(low_cv=400, high_cv=600, soft_cv=100)), ramp())[16]
        level = ramp()[16, :, 0] * CV_SCALE
        self.assertEqual(set(found[(level > 405) & (level < 595)].tolist()), {1.0})
        self.assertEqual(found[(level < 295) | (level > 705)].max(), 0)
        for middle in (350, 650):
            self.assertAlmostEqual(float(np.interp(middle, level, found)), 0.5, delta=0.02)
        open_ended = matte_of(Reach(tones=Tones(high_cv=256)), ramp() - 0.1)
        self.assertEqual(open_ended[16, 0], 1)

    def test_a_sampled_hue_takes_its_patch_and_no_other(self) -> None:
        frame = patches()
        for k in range(3):
            hue = sampled_hue(frame[20:33, 64 * k + 20 : 64 * k + 33])
            found = matte_of(Reach(hues=[hue]), frame)
            inside = [float(found[8:-8, 64 * j + 8 : 64 * j + 56].mean()) for j in range(4)]
            self.assertEqual(inside, [float(j == k) for j in range(4)])
        both = [sampled_hue(frame[20:33, 64 * k + 20 : 64 * k + 33]) for k in (0, 1)]
        less = matte_of(Reach(hues=[*both, both[1].model_copy(update={"remove": True})]), frame)
        self.assertEqual((less[32, 32], less[32, 96]), (1, 0))

    def test_hue_angles_are_those_of_cb_and_cr(self) -> None:
        """BT.709-6: pure red lies at Cb -0.1146, Cr 0.5: 102.9 degrees from Cb towards Cr."""
        red = np.broadcast_to(np.array([1, 0, 0], np.float32), (13, 13, 3)).copy()
        self.assertAlmostEqual(sampled_hue(red).hue_deg, np.degrees(np.arctan2(0.5, -0.1146)), delta=0.1)

    def test_grey_has_no_hue(self) -> None:
        with self.assertRaisesRegex(BadInput, "grey"):
            sampled_hue(patches()[20:33, 212:225])

    def test_shapes_have_the_area_of_their_geometry(self) -> None:
        blank = np.zeros((200, 300, 3), np.float32)
        oval = matte_of(Reach(shapes=[ellipse(80, 40, (0, 150, 100))]), blank)
        self.assertAlmostEqual(float(oval.sum()) / (np.pi * 80 * 40), 1, delta=0.005)
        corners = [[20.0, 20.0], [220.0, 40.0], [120.0, 180.0]]
        shape = Shape(kind="polygon", keys=[ShapeKey(frame=0, points=corners)], soft_px=1)
        self.assertAlmostEqual(float(matte_of(Reach(shapes=[shape]), blank).sum()) / 15000, 1, delta=0.005)
        soft = shape.model_copy(update={"soft_px": 40.0})
        self.assertAlmostEqual(float(matte_of(Reach(shapes=[soft]), blank)[30, 120]), 0.5, delta=0.02)

    def test_keys_move_a_shape_along_straight_lines_and_rest_beyond(self) -> None:
        shape = ellipse(10, 10, (4, 40, 50), (8, 80, 90))
        for n, middle in ((0, (40, 50)), (4, (40, 50)), (5, (50, 60)), (8, (80, 90)), (20, (80, 90))):
            self.assertEqual(tuple(shape.points_at(n)[0]), middle)
        found = matte_of(Reach(shapes=[shape]), np.zeros((120, 120, 3), np.float32), n=6)
        y, x = (np.average(axis, weights=found) for axis in np.indices(found.shape))
        self.assertAlmostEqual(float(x), 59.5, delta=0.1)
        self.assertAlmostEqual(float(y), 69.5, delta=0.1)

    def test_shapes_unite_keep_out_and_turn_round(self) -> None:
        blank = np.zeros((100, 200, 3), np.float32)
        left, right = ellipse(20, 20, (0, 50, 50)), ellipse(20, 20, (0, 150, 50))
        hole = ellipse(5, 5, (0, 50, 50), invert=True)
        found = matte_of(Reach(shapes=[left, right, hole]), blank)
        self.assertEqual([found[50, 150], found[50, 38], found[50, 50], found[50, 100]], [1, 1, 0, 0])
        turned = matte_of(Reach(shapes=[left, right, hole], invert=True), blank)
        np.testing.assert_allclose(turned, 1 - found, atol=1e-6)

    def test_edges_and_flats_are_complements_and_noise_is_no_edge(self) -> None:
        frame = np.full((96, 192, 3), 0.3, np.float32)
        frame[:, 96:] = 0.5
        frame += np.random.default_rng(0).normal(0, 8 / CV_SCALE, frame.shape).astype(np.float32)
        edges = matte_of(Reach(detail=Detail(where="edges")), frame)
        flats = matte_of(Reach(detail=Detail(where="flats")), frame)
        np.testing.assert_allclose(edges + flats, 1, atol=1e-6)
        self.assertEqual(edges[20:-20, 95:97].min(), 1)
        self.assertLess(edges[20:-20, 20:80].mean(), 0.01)

    def test_clean_up_drops_specks_fills_holes_and_stretches(self) -> None:
        frame = np.zeros((80, 160, 3), np.float32)
        frame[:, :80] = 0.8
        frame[36:44, 30:38] = 0.0  # a hole
        frame[36:44, 120:128] = 0.8  # a speck
        tones = Tones(low_cv=500, soft_cv=50)
        raw = matte_of(Reach(tones=tones), frame)
        clean = matte_of(Reach(tones=tones, cleanup=Cleanup(specks_px=6, holes_px=6)), frame)
        self.assertEqual((raw[40, 34], raw[40, 124]), (0, 1))
        self.assertEqual((clean[40, 34], clean[40, 124]), (1, 0))
        stretched = matte_of(Reach(tones=tones, cleanup=Cleanup(floor=40, ceiling=60)), frame)
        self.assertEqual(stretched[raw < 0.4].max(), 0)
        self.assertEqual(stretched[raw > 0.6].min(), 1)
        soft = matte_of(Reach(tones=tones, cleanup=Cleanup(soften_px=4)), frame)
        self.assertAlmostEqual(float(soft[10, 60:100].mean()), float(raw[10, 60:100].mean()), delta=0.01)


EVERYTHING = Reach(
    tones=Tones(low_cv=40, high_cv=500),
    hues=[HueSample(hue_deg=110, width_deg=60)],
    shapes=[ellipse(90, 60, (0, 150, 90), (4, 170, 100))],
    detail=Detail(where="flats", growth_px=2),
    cleanup=Cleanup(specks_px=1, holes_px=2, floor=5, ceiling=90, soften_px=1.5),
)


class Fading(TestCase):
    def setUp(self) -> None:
        self.noisy, _ = shot_pair("quay", Camera(stops_under=3))

    def pipeline(self, *steps: Step) -> Pipeline:
        return Pipeline(Footage(MemorySource(self.noisy)), Plan(profile=PROFILE, steps=list(steps)))

    def test_a_regions_matte_and_result_are_those_of_the_whole_frame(self) -> None:
        pipeline = self.pipeline(Step(kind="temporal"), Step(kind="spatial", reach=EVERYTHING))
        whole, result = pipeline.matte(1, 2), pipeline.frame(2)
        self.assertGreater(whole.max(), 0.9)
        for region in (Region(0, 0, 50, 40), Region(101, 57, 83, 61), Region(270, 150, 50, 42)):
            fresh = self.pipeline(Step(kind="temporal"), Step(kind="spatial", reach=EVERYTHING))
            np.testing.assert_array_equal(fresh.matte(1, 2, region), whole[region.slices])
            np.testing.assert_array_equal(fresh.frame(2, region), result[region.slices])

    def test_the_effect_fades_exactly_with_matte_mix_and_channels(self) -> None:
        source, full = self.noisy[2], self.pipeline(Step(kind="spatial")).frame(2)
        step = Step(kind="spatial", reach=EVERYTHING, mix=80, channels=ChannelMix(r=50, b=0))
        pipeline = self.pipeline(step)
        share = pipeline.matte(0, 2)[..., None] * np.array([0.4, 0.8, 0], np.float32)
        np.testing.assert_allclose(pipeline.frame(2), source + share * (full - source), atol=1e-6)
        whole = self.pipeline(step.model_copy(update={"mix": 100.0, "channels": ChannelMix()}))
        matte, result = whole.matte(0, 2), whole.frame(2)
        np.testing.assert_array_equal(result[matte == 0], source[matte == 0])
        np.testing.assert_array_equal(result[matte == 1], full[matte == 1])

    def test_where_nothing_is_reached_nothing_is_computed(self) -> None:
        source = MemorySource(self.noisy)
        away = Reach(shapes=[ellipse(20, 20, (0, 40, 40))])
        steps = [Step(kind="temporal", reach=away)]
        pipeline = Pipeline(Footage(source), Plan(profile=PROFILE, steps=steps))
        np.testing.assert_array_equal(pipeline.frame(2, Region(200, 100, 60, 60)), self.noisy[2][100:160, 200:260])
        self.assertEqual(source.reads, 1)

    def test_a_step_that_does_not_exist_has_no_matte(self) -> None:
        with self.assertRaisesRegex(BadInput, "step 3 does not exist"):
            self.pipeline(Step(kind="spatial")).matte(3, 0)

    def test_wrong_reaches_are_refused_in_one_line(self) -> None:
        profile = json.loads(PROFILE.to_json())
        point = {"frame": 0, "points": [[1, 2], [3, 4]]}
        cases: dict[str, dict[str, object]] = {
            "low_cv must not lie above": {"tones": {"low_cv": 9, "high_cv": 5}},
            "three points": {"shapes": [{"kind": "ellipse", "keys": [point]}]},
            "3 to 64 points": {"shapes": [{"kind": "polygon", "keys": [point]}]},
            "must rise": {"shapes": [{"kind": "polygon", "keys": [{"frame": 4, "points": [[0, 0]] * 3}] * 2}]},
            "floor must lie below": {"cleanup": {"floor": 50, "ceiling": 40}},
            "Extra inputs": {"tone": {}},
        }
        for words, reach in cases.items():
            text = json.dumps({"profile": profile, "steps": [{"kind": "spatial", "reach": reach}]})
            with self.subTest(words), self.assertRaisesRegex(BadPlan, words) as caught:
                plan_from_json(text)
            self.assertNotIn("\n", str(caught.exception))
