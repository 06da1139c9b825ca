"""Light in which channels are cut off, footage without noise, and pictures of floating point."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import TestCase

import av
import numpy as np

from tests.clips import MemorySource, psnr, shot_pair, temporary_folder
from tests.engine.planted import found
from tests.engine.test_exactness import stored, write_picture
from yellowclean.engine.errors import BadInput
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Array, Frame
from yellowclean.engine.measure.curve import blind_curve
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.measure.pairs import pairs_at
from yellowclean.engine.measure.report import SurveyReport
from yellowclean.engine.media import destination, open_source
from yellowclean.engine.noise.profile import NoiseCurve, white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.propose import propose
from yellowclean.engine.render import render
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera, ShotRecipe, frame_pair, scene_of

LEAST_SHARE = 0.02

ROUNDING_CV = 1023 / 255 / 12**0.5
"""Noise that rounding to 8 bits makes."""


def lit(scene: str, camera: Camera, light: tuple[float, float, float]) -> tuple[list[Frame], list[Frame]]:
    """(footage before it is cut off at black and white, truth)."""
    recipe = ShotRecipe(name=scene, scene=scene, camera=camera, width=480, height=270, frames=8, light=light)  # type: ignore[arg-type]
    seen = scene_of(recipe)
    pairs = [frame_pair(recipe, seen, n) for n in range(8)]
    return [noisy for noisy, _ in pairs], [clean for _, clean in pairs]


def curve_of(noisy: list[Frame], places: tuple[int, ...] = (3, 5, 7)) -> NoiseCurve:
    """The blind curve of footage once it is cut off."""
    source = MemorySource([np.clip(f, 0, 1) for f in noisy])
    return blind_curve(pairs_at(source, places), source.info.clip_levels)[0]


def true_sigma(noisy: list[Frame], clean: list[Frame], c: int, at: Array) -> tuple[Array, Array]:
    """(sigma in CV of a channel's noise before it was cut off, share of the pixels) at levels in CV."""
    level = np.concatenate([f[..., c].ravel() for f in clean]) * 1023
    rest = np.concatenate([(a[..., c] - b[..., c]).ravel() for a, b in zip(noisy, clean, strict=True)]) * 1023
    near = [np.abs(level - centre) <= 8 for centre in at]
    return np.array([rest[m].std() if m.any() else np.nan for m in near]), np.array([m.mean() for m in near])


class SaturatedLight(TestCase):
    def test_every_channel_within_a_tenth_at_four_strengths_of_clipping(self) -> None:
        """A pure light leaves the other channels at black, where half of their noise is cut off; a little of them
        makes in-between cases. Truth: the test camera's noise before it was cut."""
        for bayer, scene in ((False, "cloth"), (True, "quay")):
            for strength in (0.0, 0.003, 0.02, 0.1):
                with self.subTest(scene, bayer=bayer, strength=strength):
                    noisy, clean = lit(scene, Camera(stops_under=3, bayer=bayer), (strength, 1.0, strength))
                    curve = curve_of(noisy)
                    self.assertFalse(curve.dead)
                    for c, name in enumerate("rgb"):
                        truth, share = true_sigma(noisy, clean, c, np.array(curve.level_cv))
                        told = share >= LEAST_SHARE
                        error = np.abs(curve.signal(name)[told] / truth[told] - 1)
                        self.assertLess(float(np.average(error, weights=share[told])), 0.10, name)

    def test_white_cuts_as_black_does(self) -> None:
        noisy, clean = lit("cloth", Camera(stops_under=3, bayer=False), (9.0, 0.5, 0.5))
        curve = curve_of(noisy)
        truth, share = true_sigma(noisy, clean, 1, np.array(curve.level_cv))
        told = share >= LEAST_SHARE
        self.assertLess(float(np.average(np.abs(curve.g_cv / truth - 1)[told], weights=share[told])), 0.10)

    def test_dead_channels_are_named_and_left_and_the_others_cleaned(self) -> None:
        noisy, clean = shot_pair("quay", Camera(stops_under=3), 320, 192, 6)
        for dead in ((0, 2), (0,)):
            with self.subTest(dead):
                living = [c for c in range(3) if c not in dead]
                cut = [np.where(np.isin(np.arange(3), dead), 0, f).astype(np.float32) for f in noisy]
                source = MemorySource(cut)
                report = survey(source)
                self.assertEqual(report.profile.curve.dead, ["rgb"[c] for c in dead])
                noise = next(f for f in report.findings if f.kind == "noise")
                self.assertIn("red is cut off everywhere and left as it is", noise.detail)
                result = Pipeline(Footage(source), propose(report)).frame(3)
                for c in dead:
                    np.testing.assert_array_equal(result[..., c], cut[3][..., c])
                gain = psnr(result[..., living], clean[3][..., living]) - psnr(
                    cut[3][..., living], clean[3][..., living]
                )
                self.assertGreater(gain, 5)

    def test_all_black_is_refused_in_one_line(self) -> None:
        with self.assertRaisesRegex(BadInput, "all of the picture is clipped"):
            measure_noise(MemorySource([np.zeros((64, 96, 3), np.float32)] * 3))


class NoNoise(TestCase):
    """A sky of bands from H.264: nothing in it is noise."""

    def test_still_or_moving_it_reads_nothing_and_every_number_is_finite(self) -> None:
        folder = temporary_folder(self)
        y, x = np.linspace(0, 1, 270)[:, None], np.linspace(0, 1, 480)[None]
        sky = np.stack([0.15 + 0.2 * y + 0 * x, 0.3 + 0.2 * y + 0.05 * x, 0.55 + 0.15 * y + 0 * x], axis=-1)
        sky[180:] = np.random.default_rng(0).random((90, 480, 3)) * 0.3
        for rate, move, frames, most in (
            ({"qp": "18"}, 1, 12, 0.1), ({"qp": "18"}, 0, 8, 0.1),
            ({"qp": "30"}, 1, 3, 0.1), ({"qp": "30"}, 0, 1, 0.1), ({"crf": "18"}, 1, 12, ROUNDING_CV),
        ):  # fmt: skip
            with self.subTest(rate=rate, move=move, frames=frames):
                path = folder / "sky.mkv"
                _h264(path, [np.roll(sky, move * n, axis=1) for n in range(frames)], rate)
                with np.errstate(invalid="raise", divide="raise"):
                    report = survey(open_source(path)) if frames == 12 else None
                    profile = report.profile if report else measure_noise(open_source(path)).profile
                self.assertLess(profile.typical_cv("luma"), most)
                self.assertLess(profile.chroma_cv, most)
                if report:
                    self.assert_finite(report)
                    kinds = {step.kind for step in propose(report).steps}
                    # the sky does step in 8 bits, and what is random below was coarsely coded
                    self.assertLessEqual(kinds, {"bands", "compression"})

    def assert_finite(self, report: SurveyReport) -> None:
        def refused(constant: str) -> None:
            self.fail(f"{constant} left the engine")

        document = json.loads(report.model_dump_json(by_alias=True), parse_constant=refused)
        self.assertNotIn(None, document["noise"]["by_frame_cv"])


class FloatingPoint(TestCase):
    """Half, float and double pictures are measured; one broken pixel is survived, and comes out as it was."""

    def test_every_kind_is_measured_alike(self) -> None:
        folder = temporary_folder(self)
        noisy, _ = shot_pair("quay", Camera(stops_under=3), 320, 192, 4)
        sigma = white_profile(1).model_copy(update={"curve": curve_of(noisy, (1, 2, 3))}).typical_cv("luma")
        for kind, ending in (
            ("float", "exr"),
            ("half", "exr"),
            ("half", "tif"),
            ("float", "tif"),
            ("double", "tif"),
        ):
            with self.subTest(kind, ending=ending):
                for n, frame in enumerate(noisy):
                    write_picture(folder / f"{kind}_{n:04d}.{ending}", frame, kind)
                source = open_source(folder / f"{kind}_####.{ending}")
                frames = [source.read(n) for n in range(4)]
                measured = white_profile(1).model_copy(update={"curve": curve_of(frames, (1, 2, 3))})
                self.assertAlmostEqual(measured.typical_cv("luma") / sigma, 1, delta=0.02)
                about: Any = {"pixel_format": source.info.pixel_format, "bit_depth": source.info.bit_depth}
                self.assertFalse(found("missing codes", frames, **about).outside)

    def test_one_wild_pixel_changes_nothing_around_it(self) -> None:
        folder = temporary_folder(self)
        noisy, clean = shot_pair("quay", Camera(stops_under=3), 320, 192, 4)
        reports: dict[str, Any] = {}
        wild = {1: np.float32(3e38), 2: np.float32(-3e38)}
        for name in ("calm", "wild"):
            for n, frame in enumerate(noisy):
                spoilt = frame.copy()
                if name == "wild" and n in wild:
                    spoilt[90, 160] = wild[n]
                write_picture(folder / f"{name}_{n:04d}.exr", spoilt, "float")
            reports[name] = survey(open_source(folder / f"{name}_####.exr"))
        self.assertAlmostEqual(reports["wild"].noise.luma_cv / reports["calm"].noise.luma_cv, 1, delta=0.05)
        source, plan = open_source(folder / "wild_####.exr"), propose(reports["wild"])
        self.assertTrue(plan.steps)
        render(source, plan, destination(folder / "out_####.exr"))
        away = np.ones(noisy[0].shape[:2], bool)
        away[60:120, 130:190] = False
        for n in range(4):
            _, values = stored(folder / f"out_{n:04d}.exr")
            if n in wild:
                np.testing.assert_array_equal(values[90, 160], wild[n])
            self.assertTrue(np.isfinite(values).all())
            self.assertGreater(psnr(values[away], clean[n][away]), psnr(noisy[n][away], clean[n][away]) + 4)

    def test_values_that_are_no_numbers_are_told(self) -> None:
        folder = temporary_folder(self)
        for value in (np.nan, np.inf):
            spoilt = np.full((32, 32, 3), 0.5, np.float32)
            spoilt[3, 4, 1] = value
            write_picture(folder / "n_0001.exr", spoilt, "float")
            with self.assertRaisesRegex(BadInput, "not numbers"):
                open_source(folder / "n_####.exr")


def _h264(path: Path, frames: list[Array], rate: dict[str, str]) -> None:
    """Encoded alike in each run, which x264's tree of blocks is not. By one quantiser what moves is coded alike
    wherever it is; by `crf` finer in some blocks than in others, so that what moves through them does change."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=24, options=rate | {"x264-params": "threads=1:mbtree=0"})
        assert isinstance(stream, av.VideoStream)
        stream.height, stream.width = frames[0].shape[:2]
        stream.pix_fmt = "yuv420p"
        for n, frame in enumerate(frames):
            picture = av.VideoFrame.from_ndarray((frame * 255).round().astype(np.uint8), format="rgb24")
            picture = picture.reformat(format="yuv420p")
            picture.pts, picture.time_base = n, Fraction(1, 24)
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))
