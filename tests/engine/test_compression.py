"""What codecs left, taken out by their own quantisers: against the pictures before they were coded."""

from __future__ import annotations

from unittest import TestCase

import cv2
import numpy as np
import numpy.typing as npt
from skimage import data

from tests.clips import MemorySource, psnr, record, shot_pair, temporary_folder
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame, Region, luma
from yellowclean.engine.judge.again import due
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.judge.strip import strip_at
from yellowclean.engine.media import Source, open_source
from yellowclean.engine.media.planes import Coding, yuv_from_rgb
from yellowclean.engine.media.quantisers import jpeg_step, of_quantiser, of_step
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.treat import compression
from yellowclean.engine.treat._restoring import missing
from yellowclean.engine.treat._wide_blocks import in_wide_blocks

WIDTH, HEIGHT, COUNT = 384, 216, 7
STEADY = "ipratio=1:pbratio=1:aq-mode=0:mbtree=0:threads=1"

LUMINANCE = (16, 11, 12, 14, 12, 10, 16, 14, 13, 14, 18, 17, 16, 19, 24, 40)
"""ITU-T T.81, table K.1, the first sixteen in zigzag order (from memory)."""


def quay(stops: float = 0, *, noiseless: bool = True, size: tuple[int, int] = (WIDTH, HEIGHT)) -> list[Frame]:
    camera = Camera(noiseless=noiseless, stops_under=stops)
    return [np.clip(f, 0, 1) for f in shot_pair("quay", camera, *size, COUNT, (1.5, 0.3, 0.8))[0]]


def cat() -> list[Frame]:
    return glided_over(data.chelsea())


def coffee() -> list[Frame]:
    return glided_over(data.coffee())


def glided_over(photograph: npt.NDArray[np.uint8]) -> list[Frame]:
    """A photograph under a slow pan."""
    small = cv2.resize(photograph.astype(np.float32) / 255, (WIDTH + 40, 290), interpolation=cv2.INTER_AREA)
    moves = [np.array([[1, 0, -4 - 1.7 * n], [0, 1, -9 - 0.6 * n]], np.float64) for n in range(COUNT)]
    return [np.clip(cv2.warpAffine(small, m, (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC), 0, 1) for m in moves]


def coded(case: TestCase, frames: list[Frame], codec: str, options: dict[str, str], bits: int = 8) -> Source:
    """The frames as a codec keeps them, in 4:2:0."""
    jpeg = codec == "mjpeg"
    path = temporary_folder(case) / ("clip.avi" if jpeg else "clip.mkv")
    coding = Coding("smpte170m" if jpeg else "bt709", bits, jpeg)
    planes = [list(yuv_from_rgb(frame, coding, "4:2:0")) for frame in frames]
    layout = "yuvj420p" if jpeg else "yuv420p" if bits == 8 else "yuv420p10le"
    source = open_source(record(path, planes, layout, codec, options, range=2 if jpeg else 1, threads=1))
    case.addCleanup(source.close)
    return source


def colour_db(frame: Frame, truth: Frame) -> float:
    """PSNR of what is not luma."""
    return psnr(frame - luma(frame)[..., None], truth - luma(truth)[..., None])


def pipeline(source: Source, **settings: object) -> Pipeline:
    plan = Plan(profile=white_profile(1.0), steps=[Step(kind="compression", settings=settings)])
    return Pipeline(Footage(source), plan)


class Quantisers(TestCase):
    def test_every_block_of_h264_and_mpeg2_tells_its_error(self) -> None:
        for codec, options, law in (
            ("libx264", {"qp": "30", "x264-params": STEADY}, of_quantiser(np.array(30.0))),
            ("mpeg2video", {"qmin": "8", "qmax": "8"}, of_step(np.array(16.0))),
        ):
            with self.subTest(codec):
                error = coded(self, quay(), codec, options).coding_error(3)
                assert error is not None
                self.assertEqual(error.shape, (HEIGHT, WIDTH))
                np.testing.assert_allclose(error * 219, law, rtol=1e-3)

    def test_ten_bits_begin_twelve_quantisers_lower(self) -> None:
        """H.264, 7.4.2.1.1: QpBdOffset is six for each bit over eight. One quality is about one error."""
        errors = [coded(self, quay(), "libx264", {"crf": "28"}, bits).coding_error(3) for bits in (8, 10)]
        eight, ten = (float(error.mean()) for error in errors if error is not None)
        self.assertLess(abs(ten / eight - 1), 0.25)

    def test_jpeg_tables_are_read_and_broken_ones_are_nothing(self) -> None:
        table = bytes([0xFF, 0xDB, 0, 67, 0, *LUMINANCE, *[99] * 48])
        whole = bytes([0xFF, 0xD8, 0xFF, 0xE0, 0, 4, 1, 2]) + table + bytes([0xFF, 0xDA, 0, 2])
        self.assertAlmostEqual(jpeg_step(whole) or 0, float(np.mean(LUMINANCE[1:10])))
        for broken in (
            b"",
            b"\xff",
            whole[:3],
            whole[:20],
            whole[8 + len(table) :],
            b"\0" * 90,
            b"\xff\xdb\0\0" * 9,
        ):
            self.assertIsNone(jpeg_step(broken))

    def test_every_opening_tells_the_same(self) -> None:
        """Decoders that work on several frames at once hand them out before their quantisers are whole."""
        source = coded(self, cat() * 2, "libx264", {"crf": "30"})
        told = []
        for _ in range(25):
            again = open_source(source.info.path)
            told.append([again.coding_error(n) for n in range(again.info.frames)])
            again.close()
        for errors in told[1:]:
            np.testing.assert_array_equal(errors, told[0])

    def test_what_is_not_told_is_none(self) -> None:
        self.assertIsNone(coded(self, quay(), "ffv1", {"level": "3"}).coding_error(2))
        self.assertIsNone(MemorySource(quay()).coding_error(0))


class Compressed(TestCase):
    def test_nearer_to_the_picture_before_the_codec(self) -> None:
        """Least gains of luma in dB: half of what prototypes gained."""
        for codec, options, least in (
            ("libx264", {"crf": "34"}, 0.05), ("libx264", {"crf": "34", "x264-params": "no-deblock=1"}, 0.3),
            ("mpeg2video", {"qmin": "8", "qmax": "8"}, 0.5), ("mjpeg", {"qmin": "10", "qmax": "10"}, 1.2),
        ):  # fmt: skip
            for name, frames in (("quay", quay()), ("cat", cat())):
                with self.subTest(codec=codec, scene=name):
                    source = coded(self, frames, codec, options)
                    result, before = pipeline(source).frame(3), source.read(3)
                    gain = psnr(luma(result), luma(frames[3])) - psnr(luma(before), luma(frames[3]))
                    self.assertGreater(gain, least)

    def test_waves_that_narrow_blocks_lose_are_found_in_wide_ones_and_a_star_stays(self) -> None:
        y, x = np.mgrid[:96, :160].astype(np.float32)
        waves = 0.5 + 0.02 * np.sin(2 * np.pi * (x / 3.1 + y / 17)).astype(np.float32)
        error = np.full(waves.shape, 0.02, np.float32)
        noisy = waves + np.random.default_rng(3).normal(0, 0.02, waves.shape).astype(np.float32)
        narrow = compression._shrunk(noisy, error)
        left = [float(np.std(plane - waves)) for plane in (narrow, in_wide_blocks(noisy, error))]
        self.assertLess(left[1], 0.5 * left[0])
        np.testing.assert_allclose(in_wide_blocks(noisy, 0 * error), noisy, atol=1e-5)
        star = np.full_like(waves, 0.1)
        star[40:42, 80:82] += 0.15
        self.assertLess(float(in_wide_blocks(star, error)[40:42, 80:82].mean()), 0.18)
        kept = compression._towards_wide(star, star, in_wide_blocks(star, error), error, 0.5)
        self.assertGreater(float(kept[40:42, 80:82].mean()), 0.24)

    def test_detail_of_colour_comes_from_luma_only_where_the_two_go_together(self) -> None:
        grain = np.random.default_rng(5).normal(0, 0.05, (HEIGHT, WIDTH, 1)).astype(np.float32)
        shifted = [np.roll(grain, n, 1) + np.array([0.3, 0.45, 0.6], np.float32) for n in range(COUNT)]
        for name, frames, least, most in (
            ("quay", quay(), 0.1, 9), ("cat", cat(), 0.1, 9), ("grain on one colour", shifted, -0.05, 0.05),
        ):  # fmt: skip
            with self.subTest(name):
                source = coded(self, frames, "libx264", {"crf": "34", "x264-params": "threads=1"})
                with_luma, without = (pipeline(source, lent=part).frame(3) for part in (100, 0))
                np.testing.assert_allclose(luma(with_luma), luma(without), atol=1e-5)
                gain = colour_db(with_luma, frames[3]) - colour_db(without, frames[3])
                self.assertGreater(gain, least)
                self.assertLess(gain, most)

    def test_learned_detail_is_nearer_to_photographs_and_scenes_than_without(self) -> None:
        """Least gains of luma in dB, about half of what was seen; nothing was taught on these clips."""
        for name, frames, codec, options, least in (
            ("quay", quay(), "libx264", {"crf": "28"}, 0.1), ("coffee", coffee(), "libx264", {"crf": "28"}, 0.1),
            ("coffee", coffee(), "mpeg2video", {"qmin": "8", "qmax": "8"}, 0.2),
            ("quay", quay(), "mjpeg", {"qmin": "10", "qmax": "10"}, 0.4),
            ("coffee", coffee(), "mjpeg", {"qmin": "10", "qmax": "10"}, 0.2),
        ):  # fmt: skip
            with self.subTest(codec=codec, scene=name):
                source = coded(self, frames, codec, options)
                learned, without = (pipeline(source, learned=asked).frame(3) for asked in (True, False))
                gain = psnr(luma(learned), luma(frames[3])) - psnr(luma(without), luma(frames[3]))
                self.assertGreater(gain, least)
                self.assertGreater(colour_db(learned, frames[3]), colour_db(without, frames[3]) - 0.05)

    def test_learned_detail_treats_dark_like_bright_at_any_contrast(self) -> None:
        rng = np.random.default_rng(6)
        decoded, merged, treated = (rng.normal(0, 0.02, (3, 64, 96)).astype(np.float32) for _ in range(3))
        error = np.full((64, 96), 0.01, np.float32)
        far = rng.normal(0, 0.02, (2, 64, 96)).astype(np.float32)
        found = missing(decoded, merged, treated, error, far)
        self.assertGreater(np.abs(found).mean(), 1e-4)
        for part in np.array([-1, 0.5, -3], np.float32):
            again = missing(part * decoded, part * merged, part * treated, abs(part) * error, part * far)
            np.testing.assert_allclose(again, part * found, atol=1e-6)
        flat = np.full((3, 64, 96), 0.4, np.float32)
        self.assertLess(np.abs(missing(flat, flat, flat, error, flat[:2])).max(), 1e-7)

    def test_what_was_coded_well_is_not_touched(self) -> None:
        for codec, options in (("libx264", {"qp": "4", "x264-params": STEADY}), ("ffv1", {"level": "3"})):
            source = coded(self, quay(), codec, options)
            np.testing.assert_array_equal(pipeline(source).frame(3), source.read(3))

    def test_an_error_by_hand_where_the_file_tells_nothing(self) -> None:
        frames = cat()
        source = coded(self, frames, "libx265", {"crf": "34", "x265-params": "log-level=none:pools=1"})
        self.assertIsNone(source.coding_error(0))
        before = source.read(3)
        np.testing.assert_array_equal(pipeline(source).frame(3), before)
        result = pipeline(source, error=12.0).frame(3)
        self.assertGreater(psnr(luma(result), luma(frames[3])), psnr(luma(before), luma(frames[3])) + 0.05)

    def test_a_region_is_that_of_the_whole_frame_at_odd_sizes_too(self) -> None:
        source = coded(self, [f[:201, :333] for f in quay()], "mjpeg", {"qmin": "10", "qmax": "10"})
        for learned in (False, True):
            whole = pipeline(source, learned=learned).frame(3)
            for place in (Region(33, 51, 71, 40), Region(0, 0, 17, 19), Region(300, 170, 33, 31)):
                part = pipeline(source, learned=learned).frame(3, place)
                np.testing.assert_array_equal(part, whole[place.slices])

    def test_one_frame_and_tiny_pictures_pass(self) -> None:
        for shape in ((1, 1), (2, 9), (40, 60)):
            frame = np.full((*shape, 3), 0.4, np.float32)
            result = pipeline(MemorySource([frame]), error=20.0, learned=True).frame(0)
            np.testing.assert_allclose(result, frame, atol=1e-5)


class Judged(TestCase):
    def test_work_by_the_quantisers_is_fine_and_far_beyond_them_is_too_far(self) -> None:
        jpeg, by_hand = {"qmin": "10", "qmax": "10"}, {"told": False, "error": 60.0}
        for codec, options, settings, far in (
            ("libx264", {"crf": "28"}, {}, False), ("mjpeg", jpeg, {}, False), ("mjpeg", jpeg, by_hand, True),
            ("mjpeg", jpeg, {"learned": True}, False),
        ):  # fmt: skip
            for frames in (quay(), cat()):
                report = overwork(pipeline(coded(self, frames, codec, options), **settings), [3]).report
                told = next(m for m in report.measures if m.kind == "errors")
                with self.subTest(codec=codec, far=far, value=told.value):
                    self.assertEqual((told.verdict == "too far", report.verdict == "too far"), (far, far))

    def test_the_strip_never_stops_where_nothing_is_done(self) -> None:
        source = coded(self, quay(), "mjpeg", {"qmin": "10", "qmax": "10"})
        plan = Plan(profile=white_profile(1.0), steps=[Step(kind="compression")])
        strip = strip_at(Footage(source), plan, 0, "luma", 3, Region(60, 20, 200, 140))
        self.assertIn(strip.rungs[strip.stop].value, (65, 100, 135))
        self.assertGreater(strip.rungs[-1].lost, strip.rungs[3].lost)


class Proposed(TestCase):
    def test_where_quantisers_were_coarse_and_noise_is_not_treated(self) -> None:
        for frames, codec, options, wanted in (
            (quay(), "libx264", {"crf": "34"}, True), (quay(), "libx264", {"crf": "10"}, False),
            (quay(), "ffv1", {"level": "3"}, False),
            (quay(4, noiseless=False), "ffv1", {"level": "3"}, False),
        ):  # fmt: skip
            with self.subTest(codec=codec, wanted=wanted):
                report = survey(coded(self, frames, codec, options))
                kinds = [step.kind for step in propose(report).steps]
                self.assertEqual("compression" in kinds, wanted)
                finding = next(f for f in report.findings if f.kind == "coding error")
                self.assertEqual(finding.outside, wanted)
                plan = Plan(profile=report.profile, steps=[Step(kind="compression")])
                self.assertNotIn("coding error", [f.kind for f in due(plan, report)])  # results tell no quantisers

    def test_frames_coded_for_themselves_merge_more_and_meet_no_wide_blocks(self) -> None:
        for codec, options, wanted in (
            ("mjpeg", {"qmin": "10", "qmax": "10"}, (4, 0)), ("libx264", {"crf": "34"}, (3, 50)),
        ):  # fmt: skip
            report = survey(coded(self, quay(), codec, options))
            quiet = [f.model_copy(update={"value": 0.0}) if "noise" in f.kind else f for f in report.findings]
            plan = propose(report.model_copy(update={"findings": quiet, "profile": white_profile(0.5)}))
            step = next(step for step in plan.steps if step.kind == "compression")
            settings = compression.Compression(**step.settings)
            self.assertEqual((settings.frames, settings.wide), wanted)

    def test_the_finding_is_about_as_large_as_the_error(self) -> None:
        """Within a factor of two where there is detail: the law is one for all pictures."""
        frames = cat()
        for crf in ("22", "28", "34", "40"):
            source = coded(self, frames, "libx264", {"crf": crf})
            error = source.coding_error(3)
            assert error is not None
            true = np.sqrt(np.mean((luma(source.read(3)) - luma(frames[3])) ** 2))
            self.assertLess(abs(np.log2(float(error.mean()) / true)), 1, f"{crf}: {true * CV_SCALE:.1f} CV")
