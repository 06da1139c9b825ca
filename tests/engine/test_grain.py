"""Grain against what was asked for: spectrum, variance, size, colour, tones, and repeatability."""

from __future__ import annotations

from unittest import TestCase

import cv2
import numpy as np

from tests.clips import MemorySource, shot_pair, temporary_folder
from yellowclean.engine.errors import BadInput
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, Region
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.measure.spectrum import block_dct
from yellowclean.engine.media import VideoSource, destination
from yellowclean.engine.media.planes import Coding, Plane, yuv_from_rgb
from yellowclean.engine.noise.field import gaussian_filter, grain_field
from yellowclean.engine.noise.grain_table import grain_table
from yellowclean.engine.noise.profile import NoiseProfile, white_profile
from yellowclean.engine.octaves import halved
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.render import render
from yellowclean.engine.testcamera import Camera

PLAIN = np.full((512, 512, 3), 0.4, np.float32)


def grained(frame: Frame = PLAIN, profile: NoiseProfile | None = None, n: int = 0, **settings: float) -> Frame:
    """What grain adds to a frame, in CV."""
    plan = Plan(profile=profile or white_profile(10), steps=[Step(kind="grain", settings=settings)])
    added: Frame = (Pipeline(Footage(MemorySource([frame] * 3)), plan).frame(n) - frame) * np.float32(CV_SCALE)
    return added


def deviations(plane: Array) -> Array:
    """Deviation of each 8×8 DCT coefficient at three octaves, measured as the profile has them."""
    found = []
    for _ in range(3):
        found.append(np.sqrt((block_dct(plane[None])[0] ** 2).mean(axis=0)))
        plane = halved(np.ascontiguousarray(plane, np.float32))
    return np.array(found)


class Matched(TestCase):
    def test_the_spectrum_is_the_shots_own(self) -> None:
        noisy, _ = shot_pair("quay", Camera(stops_under=3, bayer=True))
        profile = measure_noise(MemorySource(noisy)).profile
        wanted = profile.spectrum_array().reshape(3, 3, 64)
        field = grain_field(profile, 1, 0, Region(0, 0, 1024, 1024))
        white_is_far = np.abs(wanted[:, 0, 1:] / np.sqrt((wanted[:, 0] ** 2).mean(axis=1))[:, None] - 1).mean()
        self.assertGreater(white_is_far, 0.3)
        for axis in range(3):
            with self.subTest(axis=axis):
                ratio = deviations(field[axis]) / wanted[axis]
                self.assertLess(np.sqrt(((ratio[0, 1:] - 1) ** 2).mean()), 0.06)
                self.assertLess(np.sqrt(((ratio[1:, 1:] - 1) ** 2).mean()), 0.15)

    def test_sigma_follows_the_shots_curve_and_the_amount_and_the_mean_stays(self) -> None:
        levels = np.linspace(0, 1, 65)
        sigma = np.sqrt(0.002 * levels + 0.008**2) * CV_SCALE
        white = white_profile(1.0)
        lists = {f"{s}_cv": sigma.tolist() for s in ("r", "g", "b", "luma", "cb", "cr")}
        curve = white.curve.model_copy(
            update={"level_cv": (levels * CV_SCALE).tolist(), "share": [1 / 65] * 65, **lists}
        )
        profile = white.model_copy(update={"curve": curve})
        for level in (0.1, 0.3, 0.7):
            for amount in (50, 100):
                added = grained(np.full_like(PLAIN, level), profile, matched=amount)
                expected = amount / 100 * np.sqrt(0.002 * level + 0.008**2) * CV_SCALE
                with self.subTest(level=level, amount=amount):
                    np.testing.assert_allclose(added.std(axis=(0, 1)), expected, rtol=0.03)
                    self.assertLess(np.abs(added.mean(axis=(0, 1))).max(), 0.3)


class Spectra(TestCase):
    def test_white_noise_reads_one_at_every_octave(self) -> None:
        self.assertLess(np.abs(white_profile(10).against_white() - 1).max(), 1e-5)
        field = np.random.default_rng(5).standard_normal((1024, 1024)).astype(np.float32)
        measured = deviations(field) / white_profile(10).spectrum_array().reshape(3, 3, 64)[0]
        self.assertLess(np.abs(measured - 1).max(), 0.15)


class Own(TestCase):
    def test_strength_is_the_deviation_and_size_the_correlation_length(self) -> None:
        for size in (1.0, 1.5, 2.5, 5.0):
            added = grained(matched=0, strength=12, size=size)
            power = np.abs(np.fft.fft2(added[..., 0])) ** 2
            near = np.hypot(*np.meshgrid(*[np.fft.fftfreq(512)] * 2)) < 0.1 / size
            with self.subTest(size=size):
                self.assertAlmostEqual(float(added.std()), 12, delta=0.4)
                self.assertAlmostEqual(float(np.sqrt(power[near].mean() / power.mean())), size, delta=0.09 * size)

    def test_a_filters_response_has_the_variance_and_size_that_were_asked_for(self) -> None:
        """Closed form: noise under a kernel k has variance Σk², and hangs together over (Σk)²/Σk² pixels."""
        for size in (1.0, 3.0, 8.0):
            kernel = np.fft.irfft2(gaussian_filter(size))
            self.assertAlmostEqual(float((kernel**2).sum()), 1, places=4)
            self.assertAlmostEqual(float(kernel.sum()) ** 2, size**2, delta=0.01 * size**2)

    def test_colour_runs_from_monochrome_to_independent_channels(self) -> None:
        for colour, correlation in ((0, 1.0), (50, 0.75), (100, 0.0)):
            added = grained(matched=0, strength=10, colour=colour)
            found = float(np.array(np.corrcoef(added.reshape(-1, 3).T))[0, 1])
            with self.subTest(colour=colour):
                self.assertAlmostEqual(found, correlation, delta=0.02)
                np.testing.assert_allclose(added.std(axis=(0, 1)), 10, rtol=0.04)

    def test_tones_take_their_share(self) -> None:
        frame = PLAIN.copy()
        frame[:170], frame[170:340], frame[340:] = 0.0, 0.5, 1.0
        added = grained(frame, matched=0, strength=10, shadows=20, middle=100, highlights=50)
        found = [float(added[rows].std()) for rows in (slice(0, 170), slice(170, 340), slice(340, 512))]
        np.testing.assert_allclose(found, [2, 10, 5], rtol=0.06)

    def test_it_repeats_by_seed_and_never_by_frame(self) -> None:
        one = grained(strength=10)
        np.testing.assert_array_equal(one, grained(strength=10))
        for other in (grained(strength=10, n=1), grained(strength=10, seed=2)):
            self.assertLess(abs(float(np.array(np.corrcoef(one.ravel(), other.ravel()))[0, 1])), 0.01)
        # nor within a frame: no shift brings it near itself
        plane = one[..., 1] - one[..., 1].mean()
        match = np.array(np.fft.ifft2(np.abs(np.fft.fft2(plane)) ** 2).real / (plane**2).sum())
        match[:16, :16] = match[-16:, :16] = match[:16, -16:] = match[-16:, -16:] = 0
        self.assertLess(np.abs(match).max(), 0.03)

    def test_the_picture_counts_the_grain_as_noise(self) -> None:
        steps = [Step(kind="spatial"), Step(kind="grain", settings={"matched": 60})]
        noisy = np.random.default_rng(3).normal(0.4, 10 / CV_SCALE, (256, 256, 3)).astype(np.float32)
        pipeline = Pipeline(Footage(MemorySource([noisy])), Plan(profile=white_profile(10), steps=steps))
        left = (pipeline.frame(0) @ np.array([0.2126, 0.7152, 0.0722])).std() * CV_SCALE
        of_source = 10 * np.sqrt(0.2126**2 + 0.7152**2 + 0.0722**2)
        self.assertAlmostEqual(pipeline.noise_left(0)[0], float(left / of_source), delta=0.05)


class Beside(TestCase):
    """Grain that travels as a table, laid by an independent player of AV1 (dav1d, inside FFmpeg)."""

    def test_the_player_lays_back_what_was_taken_out(self) -> None:
        noisy, clean = shot_pair("quay", Camera(stops_under=3, bayer=True))
        source = MemorySource(noisy)
        wanted = measure_noise(source).profile
        plan = Plan(profile=wanted, steps=[Step(kind="spatial")])
        path = temporary_folder(self) / "quay.mp4"
        render(source, plan, destination(path, "av1-grain"))
        played, under = VideoSource(path), VideoSource(path, grain=False)
        levels = np.array([0.1, 0.2, 0.3, 0.4], np.float32)
        again, left = (measure_noise(each).profile for each in (played, under))
        ratio = again.curve.sigma_at(levels, "luma") / wanted.curve.sigma_at(levels, "luma")
        np.testing.assert_allclose(ratio, 1, atol=0.08)
        self.assertLess(left.typical_cv("luma"), 0.1 * wanted.typical_cv("luma"))
        coding = Coding("bt709", 10, False)
        frames = (yuv_from_rgb(each[2], coding, "4:2:0") for each in (noisy, clean))
        truth, laid = apart(*frames), apart(played.planes(2), under.planes(2))
        for k, (there, here) in enumerate(zip(truth, laid, strict=True)):
            with self.subTest(plane=k):
                self.assertAlmostEqual(float(here.std() / there.std()), 1, delta=0.12)
                np.testing.assert_allclose(correlations(here), correlations(there), atol=0.13)
                self.assertAlmostEqual(with_luma(laid, k), with_luma(truth, k), delta=0.1)
        other = apart(played.planes(3), under.planes(3))[0]
        self.assertLess(abs(np.corrcoef(other.ravel(), laid[0].ravel())[0, 1]), 0.05, "no two frames are alike")
        for each in (played, under):
            each.close()

    def test_what_the_picture_keeps_is_not_laid_twice(self) -> None:
        profile, told = white_profile(10), MemorySource([PLAIN]).info
        coding = Coding("bt709", 10, False)
        whole, part, none = (
            largest(grain_table(profile, told, coding, lambda rgb: rgb, left=(share, share)))
            for share in (0, 0.6, 1)
        )
        np.testing.assert_allclose(np.array(part) / whole, 0.8, atol=0.02)
        self.assertEqual(none, [0, 0, 0])

    def test_grain_that_nobody_measured_is_refused_and_nothing_is_left(self) -> None:
        folder = temporary_folder(self)
        with self.assertRaisesRegex(BadInput, "no noise profile"):
            render(MemorySource([PLAIN]), Plan(), destination(folder / "a.mp4", "av1-grain"))
        self.assertEqual(list(folder.iterdir()), [])


def apart(one: tuple[Plane, ...], other: tuple[Plane, ...]) -> list[Array]:
    return [np.subtract(a, b, dtype=np.float32) for a, b in zip(one, other, strict=True)]


def with_luma(planes: list[Array], k: int) -> float:
    """How a plane hangs together with luma in its place."""
    luma = cv2.resize(planes[0], planes[k].shape[::-1], interpolation=cv2.INTER_AREA)
    return float(np.corrcoef(luma.ravel(), planes[k].ravel())[0, 1])


def largest(table: str) -> list[int]:
    """The largest scale of each plane."""
    rows = [line.split()[2:] for line in table.splitlines() if line.startswith("\ts")]
    return [max((int(word) for word in row[1::2]), default=0) for row in rows]


def correlations(plane: Array) -> Array:
    """With the neighbours across, down and on the diagonal, and with the second ones across and down."""
    power = np.abs(np.fft.fft2(plane - plane.mean())) ** 2
    covariance = np.fft.ifft2(power).real
    return np.array([covariance[y, x] for y, x in ((0, 1), (1, 0), (1, 1), (0, 2), (2, 0))]) / covariance[0, 0]
