"""Tags of every format and target, read back by FFmpeg's libraries and OpenImageIO; dither; light of HDR."""

from __future__ import annotations

import io
import struct
import tempfile
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import TestCase

import av
import colour
import numpy as np
import OpenImageIO as oiio
from av.bitstream import BitStreamFilterContext
from PIL import Image, ImageCms

from tests.clips import MemorySource, described
from yellowclean.engine.colour.encodings import TAGGED, Encoding, encoding_named
from yellowclean.engine.colour.input_space import input_space
from yellowclean.engine.errors import BadInput
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame
from yellowclean.engine.media import OUTPUT_FORMATS, MediaInfo, destination, open_source
from yellowclean.engine.media.dither import Dither, ranks, triangular
from yellowclean.engine.media.formats import OutputFormat
from yellowclean.engine.media.icc import icc_profile
from yellowclean.engine.media.light import LightLevel, pq_light
from yellowclean.engine.media.tags import MATRICES, PRIMARIES, TRANSFERS, UNKNOWN, code_of
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.render import render
from yellowclean.engine.survey import survey

TARGETS = (
    "Rec.1886 Rec.709 - Display", "sRGB Encoded Rec.709 (sRGB)", "Camera Rec.2020", "Rec.2100-PQ - Display",
    "Rec.2100-HLG - Display", "Display P3 - Display", "ST2084-P3-D65 - Display", "Linear Rec.2020", "ACEScg",
    "ACEScct",
)  # fmt: skip

FAMILIES = {"ffv1", "ffv1-source", "prores-hq", "dnxhr-hqx", "h264", "png", "tiff", "dpx", "exr"}
"""One format of each kind, checked with every target; the others with SDR and HDR."""

FLAT: Frame = np.full((128, 256, 3), 0.4, np.float32)
"""No smaller: a codec here takes no less."""


class Files(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def written(self, name: str, plan: Plan, frames: list[Frame], **about: Any) -> Path:
        fmt = OUTPUT_FORMATS[name]
        path = self.folder / f"{name}_{len(list(self.folder.iterdir()))}{'_####' * fmt.is_sequence}{fmt.ending}"
        told = {
            "chroma": "4:2:0",
            "range": "limited",
            "primaries": "bt709",
            "transfer": "bt709",
            "matrix": "bt709",
        } | about
        render(MemorySource(frames, **told), plan, destination(path, name))
        return path


def wanted_info(encoding: Encoding) -> MediaInfo:
    return described(64, 48, 2, primaries=encoding.primaries, transfer=encoding.transfer)


class Tags(Files):
    def test_every_format_says_what_its_values_are(self) -> None:
        for target in TARGETS:
            few = target not in {"Rec.1886 Rec.709 - Display", "Rec.2100-PQ - Display"}
            plan = Plan(profile=white_profile(1), steps=[Step(kind="convert", settings={"target": target})])
            wanted = encoding_named(target)
            for name, fmt in OUTPUT_FORMATS.items():
                if few and name not in FAMILIES:
                    continue  # the others of a family are told by the same code
                path = self.written(name, plan, [FLAT] * 2)
                with self.subTest(name, target=target):
                    if fmt.is_sequence:
                        self.assert_picture(path, fmt.ending, target)
                    else:
                        transfer = wanted.transfer if fmt.names(wanted_info(wanted)) else UNKNOWN
                        self.assert_video(path, wanted.primaries, transfer, fmt.matrix or wanted.matrix)
                    source = open_source(path)
                    space, told = input_space(source.info).space, source.info
                    source.close()
                    nameless = not fmt.names(wanted_info(wanted)) and wanted.transfer != UNKNOWN
                    self.assertEqual(told.transfer, UNKNOWN if nameless else wanted.transfer)
                    self.assertEqual(nameless, any("stand for" in lost for lost in fmt.lost(wanted_info(wanted))))
                    self.assert_values(fmt, path, plan)
                    tagged = next((e for e in TAGGED if e[1:] == wanted[1:]), None)
                    if tagged and (told.primaries, told.transfer) == wanted[1:3]:
                        self.assertEqual(space, tagged.space, "of several, the first")

    def assert_values(self, fmt: OutputFormat, path: Path, plan: Plan) -> None:
        """Levels come back within what the format's bits and codec leave of them."""
        wanted = Pipeline(Footage(MemorySource([FLAT] * 2)), plan).frame(1)
        source = open_source(path)
        apart = np.abs(source.read(1) - wanted).mean() * CV_SCALE
        self.assertEqual(source.info.frames, 2)
        source.close()
        of_code = 1023 / 2 ** (10 if fmt.ending == ".exr" else fmt.bits)  # half float has eleven bits
        self.assertLess(apart, of_code if fmt.codec in {"", "ffv1"} else max(of_code, 2.5))

    def assert_video(self, path: Path, primaries: str, transfer: str, matrix: str) -> None:
        """By FFmpeg: container and stream alike, on the codec context and on a decoded frame."""
        with av.open(str(path)) as container:
            stream = container.streams.video[0]
            frame = next(container.decode(video=0))
            for told in (stream.codec_context, frame):
                self.assertEqual(int(told.color_primaries), code_of(PRIMARIES, primaries))
                self.assertEqual(int(told.color_trc), code_of(TRANSFERS, transfer))
            in_rgb = str(stream.codec_context.pix_fmt).startswith("gbr")
            self.assertEqual(int(frame.colorspace), 0 if in_rgb else code_of(MATRICES, matrix))
            self.assertEqual(int(frame.color_range), 2 if in_rgb else 1)

    def assert_picture(self, pattern: Path, ending: str, target: str) -> None:
        """By OpenImageIO, in the place that each format has for it."""
        wanted = encoding_named(target)
        picture = oiio.ImageInput.open(str(pattern).replace("####", "0000"))
        assert picture is not None
        told: dict[str, Any] = {a.name: a.value for a in picture.spec().extra_attribs}
        picture.close()
        codes = code_of(PRIMARIES, wanted.primaries), code_of(TRANSFERS, wanted.transfer)
        if ending == ".png" and 2 not in codes:
            self.assertEqual(tuple(told["CICP"]), (*codes, 0, 1))
        if ending == ".exr" and wanted.primaries != UNKNOWN:
            xy = colour.RGB_COLOURSPACES["ACEScg"].primaries if "ACES" in target else None
            if xy is not None:
                np.testing.assert_allclose(told["chromaticities"][:6], np.ravel(xy), atol=1e-4)
            self.assertEqual(len(told["chromaticities"]), 8)
        has_place = ending == ".tif" or (ending == ".png" and 2 in codes)
        if has_place and UNKNOWN not in (wanted.primaries, wanted.transfer):
            self.assertEqual(bytes(told["ICCProfile"]), icc_profile(wanted.primaries, wanted.transfer))
        if ending == ".dpx":
            names = {"bt709": "ITU-R 709-4", "linear": "Linear"}
            self.assertEqual(told["dpx:Transfer"], names.get(wanted.transfer, "User defined"))

    def test_a_size_that_a_codec_does_not_take_is_told_in_a_line(self) -> None:
        with self.assertRaisesRegex(BadInput, "DNxHR HQX .* does not take a picture of 64×48"):
            self.written("dnxhr-hqx", Plan(), [FLAT[:48, :64]] * 2)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_profile_is_what_a_colour_engine_takes_it_for(self) -> None:
        """LittleCMS, by way of Pillow: BT.709 greens of an sRGB picture, shown in P3, against colour-science."""
        made = {
            key: ImageCms.ImageCmsProfile(io.BytesIO(icc_profile(*key) or b""))
            for key in (("bt709", "srgb"), ("smpte432", "srgb"), ("bt2020", "bt709"))
        }
        picture = Image.new("RGB", (1, 1), (60, 180, 90))
        linear = colour.models.eotf_sRGB(np.array([60, 180, 90]) / 255)
        for key, space, back in (
            (("smpte432", "srgb"), "P3-D65", colour.models.eotf_inverse_sRGB),
            (("bt2020", "bt709"), "ITU-R BT.2020", lambda v: v ** (1 / 2.4)),
        ):
            shown = ImageCms.profileToProfile(
                picture, made["bt709", "srgb"], made[key], ImageCms.Intent.RELATIVE_COLORIMETRIC
            )
            assert shown is not None
            wanted = back(colour.RGB_to_RGB(linear, "ITU-R BT.709", space, chromatic_adaptation_transform=None))
            np.testing.assert_allclose(np.asarray(shown)[0, 0], np.asarray(wanted) * 255, atol=1.2)

    def test_every_format_counts_as_its_source_does(self) -> None:
        """Frames, rate and start timecode, read by FFmpeg's probe and by OpenImageIO."""
        frames = [FLAT] * 5
        for rate, timecode in (("30000/1001", "00:00:59;28"), ("24000/1001", "01:02:03:20")):
            about = {"rate": rate, "timecode": timecode}
            for name, fmt in OUTPUT_FORMATS.items():
                path = self.written(name, Plan(profile=white_profile(1)), frames, **about)
                with self.subTest(name, rate=rate):
                    if fmt.is_sequence:
                        self.assert_numbered(path, fmt.ending, rate)
                        continue
                    with av.open(str(path)) as container:
                        stream = container.streams.video[0]
                        times = [packet.pts for packet in container.demux(stream) if packet.pts is not None]
                        tags = {k.lower(): v for k, v in (container.metadata | stream.metadata).items()}
                        tracks = [s.metadata.get("timecode") for s in container.streams if s.type == "data"]
                        self.assertEqual(stream.average_rate, Fraction(rate))
                        self.assertEqual(len(times), 5)
                        steps = np.diff(sorted(times)) * float((stream.time_base or 0) * Fraction(rate))
                        np.testing.assert_allclose(steps, 1, atol=0.03)
                        self.assertIn(timecode, [tags.get("timecode"), *tracks])

    def assert_numbered(self, pattern: Path, ending: str, rate: str) -> None:
        members = sorted(pattern.parent.glob(pattern.name.replace("####", "*")))
        self.assertEqual(len(members), 5)
        picture = oiio.ImageInput.open(str(members[0]))
        assert picture is not None
        told: dict[str, Any] = {a.name: a.value for a in picture.spec().extra_attribs}
        picture.close()
        if ending in {".exr", ".dpx"}:
            found = told.get("FramesPerSecond", told.get("dpx:FrameRate"))
            value = found[0] / found[1] if isinstance(found, tuple | list) else float(found or 0)
            self.assertAlmostEqual(value, float(Fraction(rate)), delta=0.001)
            self.assertTrue(any("timecode" in key.lower() for key in told), told.keys())

    def test_light_of_hdr_stands_in_the_container_and_comes_out_of_the_library(self) -> None:
        frames = [np.full((48, 64, 3), 0.3, np.float32) for _ in range(3)]
        frames[1][8:24, 8:24] = 0.7518  # 1000 cd/m² (by the formula of ITU-R BT.2100-2, table 4)
        average = float(pq_light(frames[1].astype(np.float64)).mean())
        hdr = {"primaries": "bt2020", "transfer": "smpte2084", "matrix": "bt2020nc"}
        for name in ("ffv1", "ffv1-source", "prores-hq", "h264", "hevc"):
            path = self.written(name, Plan(), frames, pixel_aspect="4/3" if name == "ffv1" else "1", **hdr)
            with self.subTest(name), av.open(str(path)) as container:
                side: Any = next(container.decode(video=0)).side_data
                data = {str(d.type).split(".")[-1].split(":")[0]: bytes(d) for d in side}
                light = struct.unpack("2I", data["CONTENT_LIGHT_LEVEL"][:8])
                self.assertAlmostEqual(light[0], 1000, delta=45)
                self.assertAlmostEqual(light[1], average, delta=0.02 * average + 1)
                told = struct.unpack("20i", data["MASTERING_DISPLAY_METADATA"][:80])
                ratios = np.array(told[0::2]) / np.array(told[1::2])
                np.testing.assert_allclose(ratios[:6], (0.708, 0.292, 0.170, 0.797, 0.131, 0.046), atol=1e-4)
                np.testing.assert_allclose(ratios[8:], (0.0001, 1000), rtol=1e-2)
            source = open_source(path)
            self.assertEqual(source.info.frames, 3)
            self.assertLess(np.abs(source.read(1) - frames[1])[12:20, 12:20].max() * CV_SCALE, 4)
            source.close()

    def test_light_of_hdr_stands_in_the_stream_of_h264_and_hevc_too(self) -> None:
        """The bare stream, without its container, through the library; content of 256 cd/m² over next to none makes
        bytes that would look like a start code."""
        hdr = {"primaries": "bt2020", "transfer": "smpte2084", "matrix": "bt2020nc"}
        bright = [np.full((128, 256, 3), 0.3, np.float32) for _ in range(3)]
        bright[1][16:64, 16:64] = 0.7518
        dark = [np.full((128, 256, 3), 0.0, np.float32) for _ in range(3)]
        dark[1][16:20, 16:20] = float(colour.models.eotf_inverse_ST2084(256.0))
        for name, frames in (
            ("h264", bright),
            ("h264-8bit", bright),
            ("h264", dark),
            ("hevc", bright),
            ("hevc", dark),
        ):
            path = self.written(name, Plan(dither="none"), frames, **hdr)
            kind = name.split("-")[0]
            bare = self.folder / f"bare.{kind}"
            with av.open(str(path)) as container:
                stream = container.streams.video[0]
                split = BitStreamFilterContext(f"{kind}_mp4toannexb", stream)
                packets = [packet if packet.dts is not None else None for packet in container.demux(stream)]
                bare.write_bytes(b"".join(bytes(part) for packet in packets for part in split.filter(packet)))
            found = []
            for file in (path, bare):
                with av.open(str(file)) as container:
                    side: Any = next(container.decode(video=0)).side_data
                    data = {str(d.type).split(".")[-1].split(":")[0]: bytes(d) for d in side}
                light = struct.unpack("2I", data["CONTENT_LIGHT_LEVEL"][:8])
                display = struct.unpack("20i", data["MASTERING_DISPLAY_METADATA"][:80])
                found.append((*light, round(display[18] / display[19])))
            with self.subTest(name, light=found[0]):
                self.assertLess(abs(found[0][0] - found[1][0]), 2)
                self.assertEqual(found[0][1:], found[1][1:])

    def test_the_curve_of_pq(self) -> None:
        signal = np.linspace(0, 1, 50)
        np.testing.assert_allclose(pq_light(signal), colour.models.eotf_ST2084(signal), rtol=1e-6, atol=1e-9)
        level = LightLevel()
        level.add(np.array([[[0.5, 0.2, 0.1], [0, 0, np.nan]]], np.float32))
        self.assertAlmostEqual(level.content, 92.2, delta=0.1)


class Depth(Files):
    RAMP: Frame = np.linspace(0.2, 0.35, 640, dtype=np.float32)[None, :, None].repeat(180, axis=0).repeat(3, axis=2)

    def test_a_smooth_ramp_in_eight_bits_has_no_bands_and_keeps_its_mean(self) -> None:
        for name in ("png-8bit", "h264-8bit"):
            for how, banded in (("moving", False), ("still", False), ("none", True)):
                source = open_source(self.written(name, Plan(dither=how), [self.RAMP] * 3))  # type: ignore[arg-type]
                frames = [source.read(n) for n in range(3)]
                source.close()
                found = next(f for f in survey(MemorySource(frames)).findings if f.kind == "banding")
                with self.subTest(name, dither=how):
                    self.assertEqual(found.outside, banded, found)
                    apart = float(np.mean(frames) - self.RAMP.mean()) * 255
                    self.assertLess(abs(apart), 0.05)
                    if name == "png-8bit" and not banded:
                        same = [np.array_equal(frames[0], frame) for frame in frames[1:]]
                        self.assertEqual(same, [how == "still"] * 2)

    def test_what_fits_is_written_as_it_was(self) -> None:
        codes = np.random.default_rng(1).integers(0, 256, (48, 64, 3))
        exact = (codes / 255).astype(np.float32)
        source = open_source(self.written("png-8bit", Plan(), [exact], bit_depth=8))
        np.testing.assert_array_equal(np.rint(source.read(0) * 255), codes)
        source.close()

    def test_ten_bits_of_a_sequence_are_ten(self) -> None:
        codes = np.random.default_rng(1).integers(0, 1024, (48, 64, 3))
        exact = (codes / 1023).astype(np.float32)
        source = open_source(self.written("dpx", Plan(), [exact], bit_depth=10))
        self.assertEqual(source.info.bit_depth, 10)
        np.testing.assert_array_equal(np.rint(source.read(0) * 1023), codes)
        source.close()

    def test_the_pattern_is_blue_and_even(self) -> None:
        """Each rank once; mean 0, variance 1/6 of a triangle of ±1; below a quarter of the frequencies of its ring
        (void and cluster: no power at low frequencies) almost nothing."""
        np.testing.assert_array_equal(np.sort(ranks().ravel()), np.arange(4096))
        pattern = triangular()
        self.assertAlmostEqual(float(pattern.mean()), 0, delta=1e-6)
        self.assertAlmostEqual(float(pattern.var()), 1 / 6, delta=1e-3)
        power = np.abs(np.fft.fft2(pattern)) ** 2
        away = np.minimum(np.arange(64), 64 - np.arange(64))
        ring = np.hypot(away[:, None], away)
        self.assertLess(power[(ring > 0) & (ring < 10)].mean(), 0.05 * power[ring > 20].mean())

    def test_a_mean_between_two_codes_stays_and_ends_are_left_alone(self) -> None:
        for value in (0.1, 100.3, 254.9):
            plane = np.full((128, 128), value, np.float32)
            rounded: list[Array] = [np.rint(Dither(n).on(plane, 255)) for n in range(2)]
            for frame in rounded:
                self.assertLess(abs(float(frame.mean()) - value), 0.11 if value in (0.1, 254.9) else 0.01)
        black = np.zeros((16, 16), np.float32)
        np.testing.assert_array_equal(Dither(0).on(black, 255), black)


class Proposed(TestCase):
    def test_a_proposal_names_the_numbers_of_its_conversion(self) -> None:
        rng = np.random.default_rng(0)
        noisy = [(FLAT + rng.normal(0, 2e-3, FLAT.shape)).astype(np.float32) for _ in range(4)]
        report = survey(MemorySource(noisy))
        plan = propose(report, space="Rec.2100-PQ - Display")
        self.assertIn("white 1023.0 → 594.0 CV", plan.steps[-1].reason)
