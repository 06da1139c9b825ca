"""Noise measuring against known truth: white noise of stated sigma, and the test camera."""

from __future__ import annotations

import functools
import itertools
import json
from pathlib import Path
from unittest import TestCase

import numpy as np

from benchmarks.clips import Clip
from tests.clips import MemorySource, shot_pair, temporary_folder
from yellowclean.engine.colour.opponent import SIGNAL_MATRIX
from yellowclean.engine.errors import BadInput, BadPlan
from yellowclean.engine.frames import CV_SCALE, Array, Frame
from yellowclean.engine.measure.blocks import block_statistics
from yellowclean.engine.measure.coded import FLOOR_CV, traces
from yellowclean.engine.measure.curve import blind_curve
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.measure.pairs import pairs_at
from yellowclean.engine.measure.patch import Patch, measure_patch
from yellowclean.engine.measure.report import survey_schema
from yellowclean.engine.media import open_source
from yellowclean.engine.media.formats import OUTPUT_FORMATS
from yellowclean.engine.media.planes import Coding, rgb_from_yuv, yuv_from_rgb
from yellowclean.engine.noise.profile import profile_from_json, weighted_median, white_profile
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera, ShotRecipe, expose, shoot, sigma_curve

WHOLE = Patch(x=0, y=0, width=96, height=96, frame=0)


def field(level: float, sigma_cv: float, seed: int = 0, size: int = 96) -> Frame:
    noise = np.random.default_rng(seed).standard_normal((size, size, 3)) * sigma_cv / CV_SCALE
    return (level + noise).astype(np.float32)


class PatchSigma(TestCase):
    def test_white_noise_of_three_levels_and_strengths_within_five_percent(self) -> None:
        for level in (0.15, 0.4, 0.75):
            for sigma in (2.0, 8.0, 25.0):
                with self.subTest(level=level, sigma=sigma):
                    reading = measure_patch(field(level, sigma), WHOLE)
                    self.assertTrue(reading.flat, reading.reason)
                    expected = np.sqrt((SIGNAL_MATRIX**2).sum(axis=1)) * sigma
                    found = [
                        reading.r_cv,
                        reading.g_cv,
                        reading.b_cv,
                        reading.luma_cv,
                        reading.cb_cv,
                        reading.cr_cv,
                    ]
                    np.testing.assert_allclose(found, expected, rtol=0.05)
                    self.assertAlmostEqual(reading.level_cv, level * CV_SCALE, delta=2)

    def test_a_slope_in_the_light_does_not_count_as_noise(self) -> None:
        slope = np.linspace(0, 0.03, 96, dtype=np.float32)[None, :, None]
        reading = measure_patch(field(0.3, 10.0) + slope, WHOLE)
        self.assertTrue(reading.flat, reading.reason)
        self.assertAlmostEqual(reading.g_cv, 10.0, delta=0.5)

    def test_bayer_sensor_within_five_percent_of_the_cameras_own_sigma(self) -> None:
        whole = Patch(x=0, y=0, width=128, height=128, frame=0)
        for curve in ("bt709", "log"):
            for stops in (1.0, 3.0, 5.0):
                camera = Camera(stops_under=stops, curve=curve)  # type: ignore[arg-type]
                for light in (0.12, 0.18, 0.5):
                    with self.subTest(curve=curve, stops=stops, light=light):
                        _, truth = sigma_curve(camera, np.array([light], np.float32))
                        seen = expose(np.full((128, 128, 3), light, np.float32), camera, 7)
                        reading = measure_patch(seen, whole)
                        self.assertTrue(reading.flat, reading.reason)
                        found = np.array([reading.r_cv, reading.g_cv, reading.b_cv])
                        np.testing.assert_allclose(found, truth[0] * CV_SCALE, rtol=0.05)


class Flatness(TestCase):
    def verdict(self, frame: Frame, patch: Patch = WHOLE) -> str:
        return measure_patch(frame, patch).reason

    def test_each_reason_is_found(self) -> None:
        y, x = np.mgrid[:96, :96].astype(np.float32)
        noise = field(0.3, 6.0)
        edge = np.where(x > 40, 0.1, 0.0)[..., None]
        weave = (0.04 * np.sin(x * 0.9) * np.sin(y * 0.9))[..., None]
        blotches = (0.03 * np.sin(x / 7) * np.cos(y / 9))[..., None]
        for name, frame in (("edge", noise + edge), ("stripes", noise + weave), ("blotches", noise + blotches)):
            with self.subTest(name):
                self.assertEqual(self.verdict(frame.astype(np.float32)), "texture")
        self.assertEqual(self.verdict(noise + (0.3 * x / 96)[..., None]), "gradient")
        self.assertEqual(self.verdict(np.clip(field(0.01, 20.0), 0, 1)), "clipped")
        self.assertEqual(self.verdict(np.clip(field(0.99, 20.0), 0, 1)), "clipped")
        self.assertEqual(self.verdict(np.clip(field(0.001, 1.0), 0, 1)), "too dark")
        self.assertEqual(self.verdict(noise, Patch(x=0, y=0, width=12, height=40, frame=0)), "too small")

    def test_texture_of_the_scenes_is_refused_with_the_shots_curve(self) -> None:
        noisy, _ = shot_pair("cloth", Camera(stops_under=2))
        curve = measure_noise(MemorySource(noisy)).profile.curve
        reading = measure_patch(noisy[3], Patch(x=200, y=40, width=64, height=64, frame=3), curve)
        self.assertEqual((reading.flat, reading.reason), (False, "texture"))

    def test_a_patch_outside_the_frame_is_refused(self) -> None:
        with self.assertRaisesRegex(BadInput, "reaches outside the 96×96 frame"):
            measure_patch(field(0.3, 5), Patch(x=60, y=0, width=64, height=64, frame=0))


@functools.cache
def camera_curve(camera: Camera) -> tuple[Array, Array]:
    """The camera's own levels and sigmas."""
    return sigma_curve(camera, (np.geomspace(1e-3, 1.2, 24) - 1e-3).astype(np.float32))


class BlindCurve(TestCase):
    def test_curve_of_textured_moving_footage_within_a_tenth_of_the_cameras(self) -> None:
        """Three stops under; the other exposures, and after H.264, are in the benchmarks."""
        cases = itertools.product(("quay", "cloth", "basin"), (False, True), ("bt709", "log"))
        for scene, bayer, curve in cases:
            with self.subTest(scene=scene, bayer=bayer, curve=curve):
                camera = Camera(stops_under=3, bayer=bayer, curve=curve)  # type: ignore[arg-type]
                source = MemorySource(shot_pair(scene, camera, 640, 360, 8)[0])
                found = blind_curve(pairs_at(source, (2, 4, 6, 7)), source.info.clip_levels).curve
                levels, sigmas = camera_curve(camera)
                at = np.array(found.level_cv)
                present = np.array(found.share) >= 0.01
                for c, name in enumerate("rgb"):
                    truth = np.interp(at, levels[:, c] * CV_SCALE, sigmas[:, c] * CV_SCALE)
                    error = found.signal(name)[present] / truth[present] - 1
                    self.assertLess(float(np.median(np.abs(error))), 0.10, name)

    def test_threads_that_boil_nearly_everywhere_are_not_read_as_noise(self) -> None:
        """A weave finer than the sensor, over nine tenths of the blocks."""
        camera = Camera(stops_under=0.5, full_scale=9000.0, read_noise=3.0, lens_sigma=0.2)
        found = measure_noise(MemorySource(shot_pair("drying", camera, 384, 216, 8)[0])).profile.curve
        levels, sigmas = camera_curve(camera)
        present = np.array(found.share) >= 0.01
        for c, name in enumerate("rgb"):
            truth = np.interp(found.level_cv, levels[:, c] * CV_SCALE, sigmas[:, c] * CV_SCALE)
            self.assertLess(np.abs(found.signal(name) / truth - 1)[present].max(), 0.25, name)

    def test_spectrum_of_white_noise_is_flat_and_of_demosaiced_noise_is_not(self) -> None:
        white = measure_noise(MemorySource(shot_pair("dusk", Camera(stops_under=3, bayer=False))[0])).profile
        bayer = measure_noise(MemorySource(shot_pair("dusk", Camera(stops_under=3, bayer=True))[0])).profile
        np.testing.assert_allclose(white.spectrum_array()[:, 0], 1, atol=0.25)
        np.testing.assert_allclose(white.correlation, np.eye(3), atol=0.12)
        self.assertLess(abs(white.grain_px - 1), 0.15)
        self.assertGreater(bayer.grain_px, 1.6)
        self.assertLess(bayer.spectrum_array()[0, 0, 7, 7], 0.5 * bayer.spectrum_array()[0, 0, 1, 1])

    def test_by_frame_figures_follow_a_change_of_noise(self) -> None:
        rng = np.random.default_rng(2)
        still = np.full((96, 128, 3), 0.3)
        sigmas = [6, 6, 6, 12, 6, 6]
        frames = [(still + rng.standard_normal(still.shape) * s / CV_SCALE).astype(np.float32) for s in sigmas]
        reading = measure_noise(MemorySource(frames))
        self.assertEqual(reading.noisiest, 3)
        self.assertAlmostEqual(reading.by_frame_cv[3] / reading.by_frame_cv[0], 2, delta=0.15)

    def test_user_patches_pull_the_curve_and_unfit_ones_are_refused(self) -> None:
        frames = [np.vstack([field(0.3, 10, s), field(0.3, 10, s + 9)]) for s in range(3)]
        patch = Patch(x=8, y=8, width=64, height=64, frame=1)
        reading = measure_noise(MemorySource(frames), [patch])
        told = reading.patches[0]
        self.assertAlmostEqual(
            float(np.interp(told.level_cv, reading.profile.curve.level_cv, reading.profile.curve.g_cv)),
            told.g_cv,
            places=3,
        )
        with self.assertRaisesRegex(BadInput, r"patch 0,0,10,10@1 is not usable \(too small\)"):
            measure_noise(MemorySource(frames), [Patch(x=0, y=0, width=10, height=10, frame=1)])

    def test_one_frame_repeated_frames_and_black(self) -> None:
        one = measure_noise(MemorySource([field(0.3, 8)]))
        self.assertAlmostEqual(one.profile.typical_cv("g"), 8, delta=0.8)
        frozen = measure_noise(MemorySource([field(0.3, 8)] * 4))
        self.assertAlmostEqual(frozen.profile.typical_cv("g"), 8, delta=0.8)
        with self.assertRaisesRegex(BadInput, "cannot be measured"):
            measure_noise(MemorySource([np.zeros((64, 64, 3), np.float32)] * 2))


class Compressed(TestCase):
    def test_noise_that_a_codec_carries_along_is_told_with_what_it_took(self) -> None:
        """After H.264 neighbours share part of their noise, and lack the same detail: what they differ by is too
        little. The truth is the footage less the clean picture, both as recorded."""
        for rate in (1_200_000, 2_500_000):
            with self.subTest(rate):
                self._told_against_the_truth(rate)

    def _told_against_the_truth(self, rate: int) -> None:
        camera = Camera(stops_under=3)
        recipe = ShotRecipe(
            name="quay", scene="quay", camera=camera, width=480, height=270, frames=18, codec="h264-8bit",
            bit_rate=rate,
        )  # fmt: skip
        folder = temporary_folder(self)
        source, truth = open_source(shoot(recipe, folder)), open_source(folder / "truth.mkv")
        self.addCleanup(source.close)
        self.addCleanup(truth.close)
        coding = Coding("bt709", 8, full_range=False)
        rest = []
        for n in range(4, 18):
            clean = rgb_from_yuv(*yuv_from_rgb(truth.read(n), coding, "4:2:0"), coding)
            everything = (-np.inf, np.inf)
            rest.append(block_statistics(np.ascontiguousarray(source.read(n) - clean), everything).variance)
        expected = np.median(np.sqrt(np.array(rest)[..., 3:]), axis=(0, 1, 2)) * CV_SCALE
        reading = measure_noise(source)
        told, seen = reading.coded, reading.profile
        assert told is not None
        for name, truth in zip(("luma", "cb", "cr"), expected, strict=True):
            self.assertAlmostEqual(told.typical_cv(name) / truth, 1, delta=0.15 if name == "luma" else 0.35)
            if name != "luma" and rate < 2_000_000:
                self.assertLess(seen.typical_cv(name), 0.75 * truth)
        source.info = source.info.model_copy(update={"codec": "ffv1"})
        of_neighbours = measure_noise(source)
        self.assertIsNone(of_neighbours.coded)
        self.assertLess(of_neighbours.profile.typical_cv("luma"), 0.85 * seen.typical_cv("luma"))

    def test_false_colour_is_not_told_for_what_a_codec_did(self) -> None:
        """The sensor's own waves on a fine weave change from frame to frame; ProRes at its rate takes nothing."""
        clip = Clip("drying", Camera(stops_under=1), frames=16, width=640, height=360)
        clip.record(OUTPUT_FORMATS["prores-hq"])
        reading = measure_noise(clip)
        seen, told = reading.profile.curve.luma_cv, (reading.coded or reading.profile.curve).luma_cv
        self.assertLess(float(np.max(np.array(told) / np.array(seen))), 1.2)

    def test_of_plain_noise_every_band_tells_its_deviation(self) -> None:
        """White noise on a ramp, on the same place moved by whole and broken pixels: in itself and in what
        neighbours differ by, at all frequencies, of luma and of colour at half the size."""
        rng = np.random.default_rng(3)
        sigma, moves = 6 / CV_SCALE, ((0, 0), (3, -2.4), (-5.3, 4))
        y, x = np.mgrid[:160, :256].astype(np.float32)
        frames = [
            ((x + dx + 2 * (y + dy)) / 8000 + 0.2)[..., None]
            + rng.normal(0, sigma, (160, 256, 3)).astype(np.float32)
            for dx, dy in moves
        ]
        usable = np.zeros((10, 16), bool)
        usable[1:-1, 1:-1] = True
        compared = [
            (frame, np.broadcast_to(-np.rint((dx, dy)), (10, 16, 2)))
            for frame, (dx, dy) in zip(frames[1:], moves[1:], strict=True)
        ]
        seen = traces(frames[0], compared, usable, np.zeros((10, 16))).seen
        matrix = SIGNAL_MATRIX[3:].astype(float)
        luma, *colours = np.sqrt((matrix**2).sum(axis=1)) * sigma * CV_SCALE
        expected = np.array(3 * [*4 * [luma], *3 * [colours[0] / 2], *3 * [colours[1] / 2]])
        power = np.exp(2 * seen[:, :-2]).mean(axis=0) - FLOOR_CV**2
        np.testing.assert_allclose(np.sqrt(power) / expected, 1, atol=0.08)

    def test_clean_textured_footage_reads_below_half_a_code_value(self) -> None:
        for scene in ("quay", "cloth", "basin"):
            with self.subTest(scene):
                frames = shot_pair(scene, Camera(noiseless=True, bayer=False), 640, 360, 8)[1]
                profile = measure_noise(MemorySource(frames)).profile
                self.assertLess(profile.typical_cv("luma"), 0.5)


class Documents(TestCase):
    def test_a_profile_survives_its_document(self) -> None:
        profile = white_profile((3, 4, 5))
        self.assertEqual(profile_from_json(profile.to_json()), profile)
        self.assertIn('"schema": "yellow-clean/noise-profile/1"', profile.to_json())

    def test_broken_profiles_are_refused_in_one_line(self) -> None:
        good = white_profile(5).to_json()
        for text in ("", "[]", good.replace("noise-profile/1", "noise-profile/9"), good.replace("1023.0", "-3.0")):
            with self.subTest(text[:20]), self.assertRaisesRegex(BadPlan, "^P.json: .+") as caught:
                profile_from_json(text, "P.json")
            self.assertNotIn("\n", str(caught.exception))
        profile = white_profile(5)
        document = json.loads(profile.to_json())
        curve, row = document["curve"], document["spectrum"][0][0]
        for place, key, wrong in (
            (row, 3, -1.0), (row, 3, 1e300), (document["correlation"][0], 1, 5.0), (document, "grain_px", -3),
            (document, "name", "a\x00b"), (document, "name", "x" * 100_000), (curve, "luma_cv", [1e300] * 2),
            (curve, "share", [-1, 2]), (curve, "level_cv", [-1e9, 1e9]), (document, "confidence", 7),
        ):  # fmt: skip
            was, place[key] = place[key], wrong
            with self.subTest(key, wrong=str(wrong)[:20]), self.assertRaisesRegex(BadPlan, "^P.json: "):
                profile_from_json(json.dumps(document), "P.json")
            place[key] = was
        self.assertEqual(profile_from_json(json.dumps(document)), profile)

    def test_a_survey_tells_findings_outside_their_tolerance(self) -> None:
        report = survey(MemorySource(shot_pair("quay", Camera(stops_under=3))[0]))
        self.assertEqual([f.kind for f in report.findings if f.outside], ["noise", "colour noise"])
        quiet = survey(MemorySource([field(0.3, 1.0, s) for s in range(3)]))
        self.assertFalse(any(f.outside for f in quiet.findings))

    def test_the_published_schema_is_that_of_the_survey(self) -> None:
        published = Path(__file__).parents[2] / "docs" / "survey.schema.json"
        self.assertEqual(json.loads(published.read_text()), survey_schema())
        report = survey(MemorySource([field(0.3, 8, s) for s in range(2)]))
        document = json.loads(report.to_json())
        self.assertLessEqual(set(survey_schema()["required"]), set(document))
        wanted = {"kind", "value", "unit", "tolerance", "confidence", "frame", "region"}
        self.assertTrue(all(wanted <= set(f) for f in document["findings"]))
        self.assertLessEqual({"luma_cv", "chroma_cv", "curve", "grain_px", "by_frame_cv"}, set(document["noise"]))

    def test_weighted_median(self) -> None:
        self.assertAlmostEqual(weighted_median(np.array([1.0, 2, 10]), np.array([1.0, 1, 1])), 2)
        self.assertGreater(weighted_median(np.array([1.0, 2, 10]), np.array([1.0, 1, 8])), 8)
