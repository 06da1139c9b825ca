"""Flicker taken out: against the footage before its light was changed, and what has to stay."""

from __future__ import annotations

from collections.abc import Callable
from unittest import TestCase

import numpy as np

from tests.clips import MemorySource, shot_pair
from tests.engine.planted import found
from tests.engine.test_findings_over_time import with_bands
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.measure.lighting import APART, BANDS, Change, level_course, wave, without_drift
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

COUNT = 24


def shot(scene: str = "quay", count: int = COUNT) -> list[Frame]:
    return [np.clip(f, 0, 1) for f in shot_pair(scene, Camera(stops_under=1), 384, 224, count)[0]]


def lit(frames: list[Frame], gain: Callable[[int], float]) -> list[Frame]:
    return [bt709_encoded((bt709_linear(f) * np.float32(gain(n))).astype(np.float32)) for n, f in enumerate(frames)]


def banded(roll: float, noise: float, cycles: float) -> list[Change]:
    """Changes of bands by a wave of light, and by chance, whose mean square is so many times the wave's."""
    rng, down = np.random.default_rng(6), (np.arange(BANDS) + 0.5) / BANDS
    at = np.sin(2 * np.pi * (cycles * down + roll * np.arange(COUNT + 1)[:, None]))
    bands = np.diff(at, axis=0)
    bands += rng.standard_normal(bands.shape) * np.sqrt(noise) * bands.std()
    return [Change(0.0, each) for each in bands]


def pipeline(frames: list[Frame], **settings: object) -> Pipeline:
    plan = Plan(profile=white_profile(3.0), steps=[Step(kind="flicker", settings=settings)])
    return Pipeline(Footage(MemorySource(frames)), plan)


def evened(frames: list[Frame], **settings: object) -> list[Frame]:
    treated = pipeline(frames, **settings)
    return [treated.frame(n) for n in range(len(frames))]


def gain_db(faulty: list[Frame], result: list[Frame], truth: list[Frame]) -> float:
    """By how much nearer the middle of the shot has come."""
    before, after = (
        np.mean([np.mean((a - b) ** 2) for a, b in zip(some[3:-3], truth[3:-3], strict=True)])
        for some in (faulty, result)
    )
    return float(10 * np.log10(before / after))


class Flicker(TestCase):
    def test_bands_that_turn_with_every_picture_or_are_very_wide_need_more_to_be_lamps(self) -> None:
        """A codec's pictures take turns in quality, and a lantern is carried through: both make such waves."""
        for roll, noise, cycles, lamps in (
            (0.13, 2.0, 2.3, True), (0.47, 0.2, 2.3, True), (0.47, 2.0, 2.3, False),
            (0.13, 4.6, 2.3, True), (0.13, 4.6, 0.7, False), (0.13, 2.0, 0.7, True),
        ):  # fmt: skip
            self.assertEqual(wave(banded(roll, noise, cycles), 1) is not None, lamps, (roll, noise, cycles))

    def test_bands_under_mains_go_strong_or_weak_moving_or_still(self) -> None:
        for scene in ("quay", "dusk", "stars"):
            frames = shot(scene)
            for percent in (4, 10):
                faulty = [with_bands(f, percent, 2.3, 0.13, n) for n, f in enumerate(frames)]
                with self.subTest(scene=scene, percent=percent):
                    self.assertGreater(gain_db(faulty, evened(faulty), frames), 10)

    def test_jumps_of_the_whole_frame_go_and_a_meant_ramp_stays(self) -> None:
        jumps = 1 + 0.05 * np.random.default_rng(5).standard_normal(COUNT)
        for scene in ("quay", "basin"):
            frames = shot(scene)
            ramp = lit(frames, lambda n: 1 - 0.02 * n)
            faulty = lit(frames, lambda n: (1 - 0.02 * n) * jumps[n])
            with self.subTest(scene):
                self.assertGreater(gain_db(faulty, evened(faulty), ramp), 6)
                self.assertLess(found("flicker", evened(faulty)).value, found("flicker", faulty).value / 2)

    def test_what_is_meant_is_hardly_touched_with_and_without_flicker(self) -> None:
        """Ramps, fades that begin and end, switched lamps (curves made here; no source)."""
        jumps = np.log(1 + 0.05 * np.random.default_rng(8).standard_normal(40))
        at = np.arange(40.0)
        courses = {
            "level": 0.0 * at, "ramp": -0.03 * at, "fade": -0.06 * np.clip(at - 12, 0, 15), "lamp": 0.5 * (at > 17)
        }  # fmt: skip
        for name, meant in courses.items():
            with self.subTest(name):
                self.assertLess(np.abs(without_drift(meant, 20)).max(), 0.03)
                left = without_drift(meant + jumps, 20) - jumps
                self.assertLess(left[2:-2].std(), 0.5 * jumps.std())

    def test_errors_of_neighbours_do_not_add_up(self) -> None:
        rng, true = np.random.default_rng(4), 0.05 * np.random.default_rng(9).standard_normal(40)
        told = {
            (n - d, n): float(true[n] - true[n - d] + 0.005 * rng.standard_normal())
            for d in APART for n in range(d, 40)
        }  # fmt: skip
        near = {pair: value for pair, value in told.items() if pair[1] - pair[0] == 1}
        left = [np.std(level_course(some, range(40)) - true) for some in (told, near)]
        self.assertLess(left[0], left[1] / 2)

    def test_fades_and_cuts_are_hardly_touched(self) -> None:
        fade = lit(shot("dusk"), lambda n: 1 - 0.03 * n)
        cut = [*shot("quay")[:12], *shot("basin")[:12]]
        for name, frames in (("fade", fade), ("cut", cut)):
            changed = max(float(np.abs(a - b).max()) for a, b in zip(evened(frames), frames, strict=True))
            self.assertLess(changed * 1023, 4.0, name)

    def test_the_judge_tells_a_swell_that_was_evened_from_flicker_that_was(self) -> None:
        frames = shot(count=40)
        swell = lit(frames, lambda n: 1 + 0.25 * np.sin(2 * np.pi * n / 20))
        jumps = 1 + 0.05 * np.random.default_rng(3).standard_normal(40)
        for faulty, slow, far in (
            (swell, 60, True), (swell, 5, False), (lit(frames, jumps.__getitem__), 20, False)
        ):  # fmt: skip
            with self.subTest(slow=slow, far=far):
                report = overwork(pipeline(faulty, slow=slow), [18]).report
                fades = next(m for m in report.measures if m.kind == "fades")
                self.assertEqual(fades.verdict == "too far", far)
                self.assertEqual(report.verdict == "too far", far)

    def test_a_region_is_that_of_the_whole_frame_and_clipped_light_stays(self) -> None:
        frames = [with_bands(np.minimum(1.6 * f, 1), 8, 2.3, 0.13, n) for n, f in enumerate(shot())]
        frames = [np.clip(f, 0, 1) for f in frames]
        treated, place = pipeline(frames), Region(33, 51, 71, 40)
        whole = treated.frame(9)
        np.testing.assert_array_equal(pipeline(frames).frame(9, place), whole[place.slices])
        white = frames[9] >= 1
        self.assertTrue(white.any())
        np.testing.assert_array_equal(whole[white], frames[9][white])

    def test_short_dark_and_tiny_shots_pass(self) -> None:
        for count, value, shape in ((1, 0.4, (40, 60)), (2, 0.0, (40, 60)), (8, 0.5, (1, 1)), (8, 1.0, (33, 21))):
            frames = [np.full((*shape, 3), value, np.float32)] * count
            np.testing.assert_allclose(evened(frames)[-1], frames[-1], atol=1e-6)

    def test_proposed_where_light_flickers_and_not_else(self) -> None:
        frames = shot("dusk")
        faulty = [with_bands(f, 8, 2.3, 0.13, n) for n, f in enumerate(frames)]
        kinds = [[s.kind for s in propose(survey(MemorySource(clip))).steps] for clip in (faulty, frames)]
        self.assertEqual(kinds[0][0], "flicker")
        self.assertNotIn("flicker", kinds[1])
