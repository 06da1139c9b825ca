"""Findings within a frame: each rises with its planted fault, keeps still on clean footage, and tells where."""

from __future__ import annotations

from typing import Any
from unittest import TestCase

import cv2
import numpy as np
from scipy.stats import norm
from skimage import data

from tests.clips import MemorySource, shot_pair
from tests.engine.planted import chart, clean, findings, found, grained, rising
from tests.engine.test_sharpness import slanted_edge
from yellowclean.engine.frames import CV_SCALE, Frame
from yellowclean.engine.measure.findings import DETECTORS, Place
from yellowclean.engine.measure.findings.banding import bands_of
from yellowclean.engine.measure.findings.blocking import grid_of
from yellowclean.engine.measure.findings.softness import blur_of
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.measure.report import finding_kinds
from yellowclean.engine.plan import Plan
from yellowclean.engine.propose import offered, propose, untreated
from yellowclean.engine.survey import monochrome_share, survey
from yellowclean.engine.testcamera import Camera, expose


def ramp(levels: int | None) -> Frame:
    """A dusk-like ramp, smooth or in whole steps of the given number of levels over full scale."""
    y, x = np.mgrid[:224, :384].astype(np.float32)
    plane = 0.15 + 0.25 * y / 224 + 0.08 * x / 384
    if levels:
        plane = np.round(plane * levels) / levels
    return np.repeat(plane[..., None], 3, axis=2).astype(np.float32)


class Banding(TestCase):
    def test_step_size_within_a_fifth_over_five_depths(self) -> None:
        for levels in (409, 255, 205, 146, 102):
            step = CV_SCALE / levels
            with self.subTest(step_cv=step):
                finding = found("banding", grained([ramp(levels)] * 2, 0.05))
                self.assertAlmostEqual(finding.value / step, 1, delta=0.2)
                self.assertTrue(finding.outside)
                self.assertGreater(bands_of(ramp(levels)[..., 1]).area, 50)

    def test_smooth_ramps_edges_and_grain_are_no_bands(self) -> None:
        self.assertEqual(found("banding", [ramp(None)] * 2).value, 0)
        dithered = [np.round(f * 255) / 255 for f in grained([ramp(None)] * 3, 3.0)]
        self.assertEqual(found("banding", [f.astype(np.float32) for f in dithered]).value, 0)
        for scene in ("quay", "cloth", "stars", "basin", "dusk"):
            with self.subTest(scene):
                self.assertFalse(found("banding", clean(scene, 3)).outside)

    def test_bands_are_found_where_they_are(self) -> None:
        frame = grained([ramp(None)], 4.0)[0]
        frame[100:200, 40:200] = ramp(128)[100:200, 40:200]
        place = found("banding", [frame, frame]).region
        assert place is not None
        self.assertTrue(0 <= place.x <= 110 and 60 <= place.y <= 140, place)


class Blocking(TestCase):
    @staticmethod
    def blocky(strength_cv: float, offset: tuple[int, int] = (0, 0)) -> list[Frame]:
        rng = np.random.default_rng(1)
        base = np.roll(ramp(None), 0, axis=0)
        height, width = base.shape[:2]
        blocks = rng.standard_normal((height // 8 + 2, width // 8 + 2)).astype(np.float32) * strength_cv / CV_SCALE
        grid = cv2.resize(blocks, None, fx=8, fy=8, interpolation=cv2.INTER_NEAREST)
        moved = grid[8 - offset[1] :, 8 - offset[0] :][:height, :width, None]
        return grained([(base + moved).astype(np.float32)] * 2, 1.0)

    def test_rises_with_the_strength(self) -> None:
        rising(self, self.blocky, "blocking", [0, 1, 2, 4, 8, 16])

    def test_the_offset_is_exact(self) -> None:
        for offset in ((0, 0), (3, 5), (7, 1), (4, 4)):
            with self.subTest(offset):
                self.assertEqual(grid_of(self.blocky(6, offset)[0][..., 1]).offset, offset)

    def test_clean_scenes_have_no_grid(self) -> None:
        for scene in ("quay", "cloth", "basin", "dusk"):
            with self.subTest(scene):
                self.assertFalse(found("blocking", grained(clean(scene, 2))).outside)


class Limits(TestCase):
    def test_clipping_and_crush_are_the_share_of_pixels(self) -> None:
        for percent in (0.0, 1.0, 4.0, 9.0, 25.0):
            frame = grained([ramp(None)], 2.0)[0]
            rows = round(224 * percent / 100)
            frame[:rows] = 1.0
            frame[224 - rows :] = 0.0
            clipping, crush = (found(kind, [frame, frame.copy()]) for kind in ("clipping", "crush"))
            with self.subTest(percent):
                self.assertAlmostEqual(clipping.value, 100 * rows / 224, delta=0.01)
                self.assertAlmostEqual(crush.value, 100 * rows / 224, delta=0.01)
                self.assertIn(f"R {100 * rows / 224:.2f} %", clipping.detail)

    def test_a_saturated_colour_that_clips_alone_is_told_but_is_no_fault(self) -> None:
        frame = grained([ramp(None)], 2.0)[0] * np.float32(0.8)
        frame[:112, :, 0] = 1.0
        clipping = found("clipping", [frame, frame.copy()])
        self.assertEqual(clipping.value, 0)
        self.assertIn("R 50.00 %", clipping.detail)

    def test_headroom_of_limited_range_is_not_clipping(self) -> None:
        frame = grained([ramp(None)], 2.0)[0]
        frame[:40] = -0.03
        self.assertEqual(found("crush", [frame, frame], range="limited").value, 0)


class Softness(TestCase):
    def test_edge_width_is_that_of_the_blur_and_rises_with_it(self) -> None:
        """10-90 % of a Gaussian edge is 2.563 deviations; the pixel's own width adds 1/12 to the variance."""
        for blur in (0.6, 1.0, 1.5, 2.0, 3.0):
            with self.subTest(blur):
                finding = found("softness", grained([chart(blur)] * 2))
                self.assertAlmostEqual(finding.value / (2.563 * np.sqrt(blur**2 + 1 / 12)), 1, delta=0.06)
                self.assertAlmostEqual(blur_of(finding), blur, delta=0.08 * blur)
                self.assertEqual(finding.outside, blur > 1.1)
        rising(self, lambda blur: grained([chart(blur)] * 2), "softness", [0.6, 1.0, 1.5, 2.0, 3.0])

    def test_clean_scenes_are_inside(self) -> None:
        for scene in ("quay", "cloth", "dusk", "stars"):
            with self.subTest(scene):
                frames = shot_pair(scene, Camera(noiseless=True), 640, 360, 2)[1]
                self.assertFalse(found("softness", frames).outside)

    def test_a_sharp_subject_before_a_soft_background_is_sharp(self) -> None:
        """Fine texture tells of it where nearly all edges are the background's."""
        frames = []
        for n, frame in enumerate(shot_pair("cloth", Camera(noiseless=True), 640, 360, 2)[1]):
            soft = cv2.GaussianBlur(frame, (0, 0), 2.5)
            cv2.circle(soft, (320, 180), 150, (0.8, 0.7, 0.6), 3)
            soft = cv2.GaussianBlur(soft, (0, 0), 2)
            sharp = soft.copy()
            sharp[120:250, 180 + n : 330 + n] = frame[120:250, 180 + n : 330 + n]
            frames.append((soft, sharp))
        self.assertTrue(found("softness", [soft for soft, _ in frames]).outside)
        self.assertLess(blur_of(found("softness", [sharp for _, sharp in frames])), 0.8)

    def test_says_when_there_is_nothing_to_measure_on(self) -> None:
        finding = found("softness", [ramp(None)] * 2)
        self.assertEqual((finding.value, finding.confidence), (0, 0))
        self.assertIn("no edge to measure on", finding.detail)


class Ringing(TestCase):
    @staticmethod
    def rung(strength: float) -> list[Frame]:
        """The chart with part of a sharp-edged low-pass, which ripples beside every edge (Gibbs)."""
        frame = chart()
        spectrum = np.fft.fft2(frame, axes=(0, 1))
        fy, fx = np.fft.fftfreq(frame.shape[0]), np.fft.fftfreq(frame.shape[1])
        cut = (np.hypot(fy[:, None], fx[None, :]) < 0.2)[..., None]
        low = np.fft.ifft2(spectrum * cut, axes=(0, 1)).real
        return grained([(frame + strength * (low - frame)).astype(np.float32)] * 2, 0.5)

    def test_rises_with_planted_ripples(self) -> None:
        values = rising(self, self.rung, "ringing", [0, 0.25, 0.5, 0.75, 1.0])
        self.assertLess(values[0], 2)

    def test_clean_scenes_are_inside(self) -> None:
        for scene in ("quay", "cloth", "dusk", "stars"):
            with self.subTest(scene):
                frames = shot_pair(scene, Camera(noiseless=True), 640, 360, 2)[1]
                self.assertFalse(found("ringing", frames).outside)


class BlurUnderNoise(TestCase):
    def test_is_told_of_pale_gravel_that_one_frame_hides_in_noise(self) -> None:
        """A photograph that glides by, at three tenths of its contrast."""
        pale = 0.25 + 0.3 * np.repeat(data.gravel()[..., None].astype(np.float32) / 255 - 0.5, 3, axis=2)
        soft = cv2.GaussianBlur(pale, (0, 0), 1.2)
        frames = [soft[2 * n : 2 * n + 352, 3 * n : 3 * n + 480] for n in range(8)]
        reports = [survey(MemorySource(grained(frames, noise))) for noise in (1, 12)]
        still, noisy = (next(f for f in report.findings if f.kind == "softness") for report in reports)
        self.assertGreater(noisy.confidence, 0.5)
        self.assertAlmostEqual(noisy.value / still.value, 1, delta=0.1)


class Overshoot(TestCase):
    @staticmethod
    def masked(blur: float, degrees: float, radius: float, amount: float) -> list[Frame]:
        plane = slanted_edge(blur, degrees, size=200, contrast=0.3)
        plane += np.float32(amount) * (plane - cv2.GaussianBlur(plane, (0, 0), radius))
        return grained([np.repeat(plane[..., None], 3, axis=2)] * 2, 0.5)

    def test_an_unsharp_mask_overshoots_as_its_closed_form_says(self) -> None:
        """A Gaussian edge and a Gaussian mask are normal distributions; a quarter of it is told too low, since
        the plain sides begin where a wide halo still ends, and of both sides the lesser counts."""
        away = np.linspace(0, 8, 4000)
        for blur, radius, amount in ((1.0, 1.0, 1.0), (1.2, 1.5, 2.0), (1.0, 2.0, 1.0), (1.5, 2.0, 1.5)):
            edge, mask = norm.cdf(away / blur), norm.cdf(away / np.hypot(blur, radius))
            planted = 100 * ((edge + amount * (edge - mask)).max() - 1)
            for degrees in (8, 31):
                with self.subTest(blur=blur, radius=radius, amount=amount, degrees=degrees):
                    finding = found("overshoot", self.masked(blur, degrees, radius, amount))
                    self.assertTrue(0.7 < finding.value / planted < 1.05, (finding, planted))
                    self.assertEqual(finding.outside, planted > 6)

    def test_scenes_and_photographs_are_inside(self) -> None:
        for scene in ("quay", "cloth", "dusk", "stars", "figurehead"):
            with self.subTest(scene):
                finding = found("overshoot", shot_pair(scene, Camera(), 640, 360, 2)[1])
                self.assertGreater(finding.confidence, 0.3)
                self.assertFalse(finding.outside, finding)
        for load in (data.astronaut, data.coffee):
            with self.subTest(load.__name__):
                self.assertFalse(found("overshoot", [load().astype(np.float32) / 255] * 2).outside)

    def test_a_line_that_goes_beyond_one_side_only_is_of_the_scene(self) -> None:
        frame = self.masked(1.2, 8, 1.5, 0)[0]
        dark = np.clip((frame - 0.2) / 0.3, 0, 1) ** 4  # a rim along the bright side
        frame += np.float32(0.1) * np.clip(dark - cv2.GaussianBlur(dark, (0, 0), 2), 0, 1)
        self.assertFalse(found("overshoot", [frame] * 2).outside)

    def test_footage_that_was_sharpened_is_not_sharpened_again_and_the_step_advised_against(self) -> None:
        report = survey(MemorySource(self.masked(1.8, 8, 2.0, 3.0)))
        plan = propose(report, sharpen=True)
        self.assertNotIn("sharpen", [step.kind for step in plan.steps])
        self.assertIn(
            "sharpened already", next(u for u in untreated(report, plan) if u.kind == "overshoot").instead
        )
        added = Plan(profile=report.profile, steps=[offered(report, "sharpen")])
        outside = [finding.kind for finding in report.findings if finding.outside]
        self.assertIn("sharpened already", added.advice(outside)[0])
        self.assertEqual(added.advice(), [""])


class Moire(TestCase):
    PLACE = (64, 32, 192, 128)

    def fringed(self, amplitude_cv: float, period: float = 9.0) -> list[Frame]:
        """Coloured waves of an RMS chroma amplitude on a grey ramp, in one region."""
        frame = grained([ramp(None)], 2.0)[0]
        x, y, width, height = self.PLACE
        rows, columns = np.mgrid[:height, :width].astype(np.float32)
        wave = np.sin(2 * np.pi * (columns * 0.8 + rows * 0.6) / period) * np.sqrt(2) * amplitude_cv / CV_SCALE
        cb, cr = wave * 0.8, wave * 0.6
        frame[y : y + height, x : x + width, 0] += 1.5748 * cr
        frame[y : y + height, x : x + width, 1] -= 0.1873 * cb + 0.4681 * cr
        frame[y : y + height, x : x + width, 2] += 1.8556 * cb
        return [frame, frame.copy()]

    def test_strength_period_and_place(self) -> None:
        for amplitude in (4.0, 8.0, 16.0, 32.0, 64.0):
            for period in (5.0, 9.0, 16.0):
                with self.subTest(amplitude=amplitude, period=period):
                    finding = found("moiré", self.fringed(amplitude, period))
                    self.assertAlmostEqual(finding.value / amplitude, 1, delta=0.25)
                    self.assertRegex(finding.detail, r"waves of \d+\.\d px")
                    assert finding.region is not None
                    self.assertGreater(overlap(finding.region, self.PLACE), 0.5)

    def test_rises_and_clean_scenes_are_inside(self) -> None:
        rising(self, self.fringed, "moiré", [0, 4, 8, 16, 32])
        for scene in ("quay", "cloth", "basin", "stars"):
            with self.subTest(scene):
                self.assertFalse(found("moiré", clean(scene, 2)).outside)
        lone, *_ = self.fringed(16)
        for others, outside in ((1, True), (7, False)):  # a codec's leavings wave in one frame alone
            self.assertEqual(found("moiré", [lone] + others * self.fringed(0)[:1]).outside, outside)

    def test_fine_cloth_through_a_colour_filter_is_found(self) -> None:
        """Real moiré of the test camera: black-and-white threads near the limit of its colour filter."""
        y, x = np.mgrid[:224, :384].astype(np.float32)
        threads = 0.25 + 0.2 * np.sin(2 * np.pi * x / 2.3) * (y > 60)
        light = np.repeat(threads[..., None], 3, axis=2).astype(np.float32)
        seen = expose(light, Camera(noiseless=True, lens_sigma=0.0), 0)
        finding = found("moiré", [seen, seen.copy()])
        self.assertTrue(finding.outside, finding)


def overlap(place: Place, planted: tuple[int, int, int, int]) -> float:
    """Intersection over union of two rectangles."""
    x, y, width, height = planted
    across = min(place.x + place.width, x + width) - max(place.x, x)
    down = min(place.y + place.height, y + height) - max(place.y, y)
    shared = max(across, 0) * max(down, 0)
    return shared / (place.width * place.height + width * height - shared)


class Grain(TestCase):
    @staticmethod
    def grainy(blur: float, shared: float) -> list[Frame]:
        """Noise of 8 CV on grey, blurred to a size, of which a share of the power is the same in R'G'B'."""
        frames = []
        for n in range(4):
            rng = np.random.default_rng(n)
            own, common = rng.standard_normal((192, 256, 3)), rng.standard_normal((192, 256, 1))
            noise = np.sqrt(1 - shared) * own + np.sqrt(shared) * common
            noise = cv2.GaussianBlur(noise, (0, 0), blur) if blur else noise
            frames.append((0.3 + noise / noise.std() * 8 / CV_SCALE).astype(np.float32))
        return frames

    def test_size_rises_and_the_monochrome_share_is_told(self) -> None:
        profiles = [measure_noise(MemorySource(self.grainy(blur, 0.0))).profile for blur in (0, 0.4, 0.6, 0.9)]
        coarse = findings(self.grainy(1.4, 0.0))["grain"]
        sizes = [*(profile.grain_px for profile in profiles), coarse.value]
        self.assertEqual(sizes, sorted(sizes))
        self.assertAlmostEqual(sizes[0], 1, delta=0.1)
        self.assertTrue(coarse.outside)
        self.assertLess(sizes[3], coarse.tolerance)
        self.assertAlmostEqual(int(coarse.detail.split(" %")[0]), 0, delta=8)
        for shared in (0.5, 1.0):
            profile = measure_noise(MemorySource(self.grainy(0.4, shared))).profile
            self.assertAlmostEqual(monochrome_share(profile), shared, delta=0.08)


class Source(TestCase):
    """What the container promises against what the picture holds."""

    def test_eight_bits_in_ten(self) -> None:
        """Codes of 8-bit content in 10 bits are multiples of four: two bits are missing."""
        noisy = grained(clean("dusk", 3), 3.0)
        for bits, missing in ((10, 0.0), (9, 1.0), (8, 2.0), (7, 3.0), (6, 4.0)):
            frames = [(np.round(f * 2**bits) / 2**bits * 1024 / 1023).astype(np.float32) for f in noisy]
            with self.subTest(bits):
                finding = found("missing codes", frames, bit_depth=10)
                self.assertAlmostEqual(finding.value, missing, delta=0.3)
                self.assertEqual(finding.outside, missing > 0)

    def test_combs_of_a_stretch_in_whole_steps(self) -> None:
        noisy = grained(clean("dusk", 3), 6.0)
        eight = [np.round(np.clip(f, 0, 1) * 255) for f in noisy]

        def stretched(gain: float) -> list[Frame]:
            return [(np.round(np.clip(f * gain, 0, 255)) / 255).astype(np.float32) for f in eight]

        self.assertFalse(found("combed histogram", stretched(1.0), bit_depth=8).outside)
        for gain in (1.1, 1.2, 1.3, 0.85, 0.9):
            with self.subTest(gain):
                self.assertTrue(found("combed histogram", stretched(gain), bit_depth=8).outside)

    def test_upscaled_pictures_fall_off_a_cliff_and_others_do_not(self) -> None:
        for scene in ("quay", "dusk", "stars"):
            frames = shot_pair(scene, Camera(stops_under=3), 640, 360, 8)[0][:2]
            self.assertFalse(found("upscaling", frames).outside, scene)
            for factor in (1.5, 2.0, 3.0):
                size = round(640 / factor), round(360 / factor)
                small = [cv2.resize(f, size, interpolation=cv2.INTER_AREA) for f in frames]
                # bilinear by one half leaves no cliff: it is known to be missed
                for how in (cv2.INTER_LINEAR, cv2.INTER_CUBIC)[factor < 2 :]:
                    large = [cv2.resize(f, (640, 360), interpolation=how) for f in small]
                    with self.subTest(scene=scene, factor=factor, how=how):
                        self.assertTrue(found("upscaling", large).outside)

    def test_ghost_grid_low_rate_and_proxy_names(self) -> None:
        shifted = Blocking.blocky(6, (3, 5))
        ghost = found("earlier compression", shifted, codec="h264")
        self.assertTrue(ghost.outside)
        self.assertIn("blocks of 8 px from x 3, y 5", ghost.detail)
        self.assertFalse(found("earlier compression", Blocking.blocky(6), codec="h264").outside)
        told: dict[str, Any] = {"codec": "h264", "bit_depth": 8, "chroma": "4:2:0"}
        rates = (50e6, 10e6, 2e6, 0.2e6)
        ratios = [found("compression", [ramp(None)] * 2, bit_rate=int(r), **told).value for r in rates]
        self.assertEqual(ratios, sorted(ratios))
        self.assertAlmostEqual(ratios[0], 12 / (50e6 / 24 / (384 * 224)), places=4)
        self.assertTrue(found("proxy signs", [ramp(None)] * 2, path="a/Q9_012_proxy.mov").outside)
        self.assertFalse(found("proxy signs", [ramp(None)] * 2, path="a/approximately.mov").outside)

    def test_the_verdict_asks_for_the_original_with_the_evidence(self) -> None:
        report = survey(MemorySource([ramp(None)] * 2, path="Q9_proxy.mov"))
        self.assertFalse(report.source.original)
        self.assertIn("Ask for the camera original", report.source.verdict)
        self.assertEqual(report.source.evidence, ["proxy signs: the name says proxy; the picture is only 384×224"])
        lenient = report.with_tolerances({"proxy signs": 5})
        self.assertTrue(lenient.source.original)


class Registry(TestCase):
    def test_every_detector_has_a_unit_a_tolerance_and_an_own_place_in_the_order(self) -> None:
        self.assertEqual(len({d.order for d in DETECTORS}), len(DETECTORS))
        self.assertTrue(all(d.unit and d.tolerance >= 0 for d in DETECTORS))
        one = findings([ramp(None)])
        self.assertEqual(list(one), [kind.kind for kind in finding_kinds()])
        order = list(one)
        self.assertLess(order.index("missing codes"), order.index("specks"))
        self.assertLess(order.index("specks"), order.index("noise"))
        self.assertLess(order.index("noise"), order.index("banding"))
