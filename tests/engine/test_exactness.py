"""True to the pixel: an empty plan gives back every sample that a format can hold, both ways of rendering."""

from __future__ import annotations

import json
import os
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import TestCase

import av
import numpy as np
import OpenImageIO as oiio

from tests.clips import described, record, smooth_frames, temporary_folder
from tests.engine.planted import found_in
from yellowclean.engine.errors import BadInput
from yellowclean.engine.footage import Footage
from yellowclean.engine.media import OUTPUT_FORMATS, VideoSource, destination, open_source, open_writer
from yellowclean.engine.media.planes import HALVED, SITINGS, Coding, Plane, rgb_from_yuv, yuv_from_rgb
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.render import assemble, render, render_segment, segment_file, segments

FRAMES, WIDTH, HEIGHT = 3, 46, 38


def finest(shape: tuple[int, int], bits: int, seed: int) -> Any:
    """The finest patterns there are: checks, lines, noise, from black's foot to white's top."""
    rng = np.random.default_rng(seed)
    low, high = 1 << (bits - 8), 254 << (bits - 8)
    y, x = np.indices(shape)
    pattern = np.where((x + y) % 2, low, high)
    pattern = np.where(y > shape[0] // 3, np.where(x % 2, high, low), pattern)
    pattern = np.where(y > 2 * shape[0] // 3, rng.integers(low, high + 1, shape), pattern)
    return pattern.astype(np.uint8 if bits == 8 else np.uint16)


def planes_of(chroma: str, bits: int, n: int) -> list[Plane]:
    across, down = HALVED[chroma]
    small = -(-HEIGHT // (2 if down else 1)), -(-WIDTH // (2 if across else 1))
    return [finest((HEIGHT, WIDTH), bits, n), finest(small, bits, n + 50), finest(small, bits, n + 90)]


class EmptyPlans(TestCase):
    """An empty plan, each layout of samples into each format, in one go and in segments."""

    def setUp(self) -> None:
        self.folder = temporary_folder(self)

    def both_ways(self, source: Any, form: str) -> tuple[Path, Path]:
        """The file rendered in one go, and the one joined from segments."""
        ending = ("_####" if OUTPUT_FORMATS[form].is_sequence else "") + OUTPUT_FORMATS[form].ending
        one, parts = (destination(self.folder / f"{way}_{form}{ending}", form) for way in ("one", "parts"))
        render(source, Plan(), one)
        self.pieces = self.folder / f"pieces_{form}"
        self.pieces.mkdir()
        for piece in segments(range(FRAMES)):
            render_segment(Pipeline(Footage(source), Plan()), parts, self.pieces, piece)
        assemble(parts, source, Plan(), range(FRAMES), self.pieces)
        return one.path, parts.path

    def test_the_very_samples_reach_every_encoder_and_both_ways_give_one_file(self) -> None:
        """Samples of luma and chroma, overshoots with them, in the depth and sampling of the delivery."""
        layouts = {"yuv420p": ("4:2:0", 8), "yuv422p10le": ("4:2:2", 10), "yuv444p10le": ("4:4:4", 10)}
        for pixel_format, (chroma, bits) in layouts.items():
            frames = [planes_of(chroma, bits, n) for n in range(FRAMES)]
            source = open_source(record(self.folder / f"{pixel_format}.mkv", frames, pixel_format))
            for form in ("prores-hq", "prores-4444", "h264", "ffv1-source", "ffv1"):
                with self.subTest(pixel_format, form=form):
                    self.folder = temporary_folder(self)
                    one, parts = self.both_ways(source, form)
                    kept = VideoSource(segment_file(self.pieces, range(FRAMES)))
                    a, b = VideoSource(one), VideoSource(parts)
                    for n in range(FRAMES):
                        for mine, other in zip(a.planes(n), b.planes(n), strict=True):
                            np.testing.assert_array_equal(mine, other)
                        fmt = OUTPUT_FORMATS[form].for_source(source.info)
                        if fmt.chroma == "rgb":
                            continue
                        self.assert_same_samples(frames[n], bits, kept.planes(n), fmt.bits, chroma, fmt.chroma)
                        if form == "ffv1-source":
                            self.assert_same_samples(frames[n], bits, a.planes(n), 16, chroma, chroma)

    def assert_same_samples(
        self, was: list[Plane], bits: int, now: tuple[Plane, ...], now_bits: int, chroma: str, now_chroma: str
    ) -> None:
        """As far as the delivery's depth and sampling reach: luma always, chroma where it is as fine."""
        shift = float(1 << abs(now_bits - bits))
        scaled = [p.astype(float) * shift if now_bits >= bits else np.rint(p / shift) for p in was]
        np.testing.assert_array_equal(now[0], scaled[0])
        if now_chroma == chroma:
            np.testing.assert_array_equal(now[1], scaled[1])
            np.testing.assert_array_equal(now[2], scaled[2])

    def test_rgb_comes_back_from_every_lossless_format(self) -> None:
        rng = np.random.default_rng(4)
        whole = [rng.integers(0, 65536, (HEIGHT, WIDTH, 3)).astype(np.uint16) for _ in range(FRAMES)]
        frames = [[np.ascontiguousarray(f[..., c]) for c in (1, 2, 0)] for f in whole]
        source = open_source(record(self.folder / "rgb.mkv", frames, "gbrp16le"))
        for form in ("ffv1", "ffv1-source", "png", "tiff"):
            for path in self.both_ways(source, form):
                for n in range(FRAMES):
                    back = np.rint(open_source(path).read(n) * 65535).astype(int)
                    np.testing.assert_array_equal(back, whole[n], form)
        for path in self.both_ways(source, "exr"):
            expected = (whole[0] / np.float32(65535)).astype(np.float16)
            np.testing.assert_array_equal(open_source(path).read(0), expected.astype(np.float32))

    def test_overshoots_reach_the_files_that_can_hold_them(self) -> None:
        """Whites above 100 % and blacks below 0 % of limited range, as frame values."""
        y = np.tile(np.linspace(4, 1019, WIDTH).astype(np.uint16), (HEIGHT, 1))
        grey = np.full((HEIGHT, WIDTH // 2), 512, np.uint16)
        source = open_source(record(self.folder / "over.mkv", [[y, grey, grey]] * FRAMES, "yuv422p10le"))
        self.assertGreater(source.read(0).max(), 1.08)
        for form, error in (("prores-hq", 0.004), ("ffv1-source", 1e-5), ("exr", 5e-4)):
            for path in self.both_ways(source, form):
                np.testing.assert_allclose(open_source(path).read(1), source.read(1), atol=error, err_msg=form)


class Chroma(TestCase):
    def test_chroma_goes_down_as_it_came_up(self) -> None:
        """Every depth, sampling, siting and odd size: finest patterns come back to the code."""
        for bits in (8, 10, 12, 16):
            for chroma, (across, down) in HALVED.items():
                for siting in SITINGS:
                    for height, width in ((38, 46), (37, 45), (1, 1), (2, 3)):
                        small = -(-height // (2 if down else 1)), -(-width // (2 if across else 1))
                        coding = Coding("bt709", bits, False)
                        planes = finest((height, width), bits, 1), finest(small, bits, 2), finest(small, bits, 3)
                        rgb = rgb_from_yuv(*planes, coding, siting)
                        back = yuv_from_rgb(rgb, coding, chroma, siting=siting, came_from=chroma)
                        for was, now in zip(planes, back, strict=True):
                            np.testing.assert_array_equal(now, was, f"{bits} {chroma} {siting} {height}x{width}")

    def test_edges_of_chroma_that_was_never_halved_do_not_overshoot(self) -> None:
        rgb = np.zeros((24, 24, 3), np.float32)
        rgb[:, 11:, 0] = rgb[9:, :, 2] = 1
        coding = Coding("bt709", 10, False)
        whole = yuv_from_rgb(rgb, coding, "4:4:4")
        for siting in SITINGS:
            half = yuv_from_rgb(rgb, coding, "4:2:0", siting=siting)
            for fine, coarse in zip(whole[1:], half[1:], strict=True):
                self.assertGreaterEqual(int(coarse.min()), int(fine.min()))
                self.assertLessEqual(int(coarse.max()), int(fine.max()))

    def test_the_siting_is_read_used_and_written_on(self) -> None:
        """ITU-T H.273, figure 7: types 0, 1 and 2; x264 counts them alike."""
        folder = temporary_folder(self)
        for number, siting in enumerate(("left", "center", "topleft")):
            frames = [planes_of("4:2:0", 8, n) for n in range(FRAMES)]
            options = {"crf": "1", "chroma_sample_location": str(number + 1)}
            path = record(folder / f"{siting}.mp4", frames, "yuv420p", "libx264", options)
            source = open_source(path)
            self.assertEqual(source.info.siting, siting)
            render(source, Plan(), destination(folder / f"again_{siting}.mp4"))
            self.assertEqual(open_source(folder / f"again_{siting}.mp4").info.siting, siting)
            render(source, Plan(), destination(folder / f"kept_{siting}.mkv", "ffv1-source"))
            again = open_source(folder / f"kept_{siting}.mkv")
            np.testing.assert_allclose(again.read(1), source.read(1), atol=1e-5)


class Shape(TestCase):
    """Pixel aspect, rotation and rate."""

    def test_pixel_aspect_and_rotation_are_carried_and_pictures_stand_upright(self) -> None:
        folder = temporary_folder(self)
        frames = [planes_of("4:2:0", 8, n) for n in range(FRAMES)]
        for rotation in (0, 90, 180, 270):
            path = record(
                folder / f"turned_{rotation}.mp4", frames, "yuv420p", "libx264", {"crf": "1"},
                rotation=rotation, aspect=Fraction(4, 3),
            )  # fmt: skip
            source = open_source(path)
            aside = rotation in {90, 270}
            info = source.info
            self.assertEqual((info.width, info.height), (HEIGHT, WIDTH) if aside else (WIDTH, HEIGHT))
            self.assertEqual((info.rotation, info.pixel_aspect), (rotation, "3/4" if aside else "4/3"))
            for form, name in (
                ("prores-hq", "p.mov"),
                ("h264", "h.mp4"),
                ("hevc", "x.mp4"),
                ("av1-grain", "g.mp4"),
                ("ffv1", "f.mkv"),
                ("ffv1-source", "s.mkv"),
            ):
                with self.subTest(form, rotation=rotation):
                    render(source, Plan(profile=white_profile(1)), destination(folder / name, form))
                    again = open_source(folder / name)
                    told = (again.info.width, again.info.height, again.info.rotation, again.info.pixel_aspect)
                    self.assertEqual(told, (info.width, info.height, info.rotation, info.pixel_aspect))
                    if form == "ffv1-source":
                        np.testing.assert_allclose(again.read(1), source.read(1), atol=1e-5)
                    # an independent reader of the tags: the library's own summary of the file
                    with av.open(str(folder / name)) as container:
                        self.assertEqual(container.streams.video[0].sample_aspect_ratio, Fraction(4, 3))
                        self.assertEqual(next(container.decode(video=0)).rotation % 360, rotation)

    def test_rates_that_milliseconds_rounded_are_the_standards(self) -> None:
        folder = temporary_folder(self)
        for rate in (
            Fraction(60000, 1001),
            Fraction(30000, 1001),
            Fraction(24000, 1001),
            Fraction(24),
            Fraction(25, 2),
        ):
            path = record(folder / "r.mkv", [planes_of("4:2:0", 8, n) for n in range(9)], "yuv420p", rate=rate)
            self.assertEqual(open_source(path).info.fps, rate)


def write_picture(path: Path, values: Any, kind: str, **about: Any) -> None:
    """One picture with whatever attributes, channel names and windows."""
    height, width, channels = values.shape
    spec = oiio.ImageSpec(width, height, channels, kind)
    for name in ("channelnames", "alpha_channel", "x", "y", "full_x", "full_y", "full_width", "full_height"):
        if name in about:
            setattr(spec, name, about.pop(name))
    for name, (form, value) in about.items():
        spec.attribute(name.replace("__", ":"), form, value)
    output = oiio.ImageOutput.create(str(path))
    assert output and output.open(str(path), spec) and output.write_image(values) and output.close()


def stored(path: Path) -> tuple[oiio.ImageSpec, Any]:
    """A picture as the library reads it with alpha as stored."""
    asked = oiio.ImageSpec()
    asked.attribute("oiio:UnassociatedAlpha", 1)
    picture = oiio.ImageInput.open(str(path), asked)
    assert picture is not None
    return picture.spec(), picture.read_image(0, 0, 0, picture.spec().nchannels, oiio.FLOAT)


class Plates(TestCase):
    """Numbered pictures: their numbers, channels, windows and tags."""

    def setUp(self) -> None:
        self.folder = temporary_folder(self)
        self.rng = np.random.default_rng(8)

    def test_numbers_are_those_of_the_source(self) -> None:
        for n in range(3):
            write_picture(
                self.folder / f"plate.{1001 + n}.tif", self.rng.random((8, 8, 3)).astype(np.float32), "uint16"
            )
        source = open_source(self.folder / "plate.####.tif")
        render(source, Plan(), destination(self.folder / "clean.####.exr"), frames=range(1, 3))
        self.assertEqual(sorted(p.name for p in self.folder.glob("clean*")), ["clean.1002.exr", "clean.1003.exr"])

    def test_what_a_killed_render_left_is_not_published(self) -> None:
        frames = smooth_frames(16, 12, 2)
        target = destination(self.folder / "a_####.png")
        target.partial.mkdir()
        (target.partial / "a_0077.png").write_bytes(b"half a picture")
        with open_writer(target, described(16, 12, 2)) as writer:
            for frame in frames:
                writer.write(frame)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["a_0000.png", "a_0001.png"])

    def test_alpha_follows_a_resize(self) -> None:
        values = np.full((96, 128, 4), 0.4, np.float32)
        values[..., 3] = np.arange(128) >= 64
        write_picture(
            self.folder / "a_0001.exr", values, "half", channelnames=("R", "G", "B", "A"), alpha_channel=3
        )
        for factor in (0.5, 2.0):
            step = Step(kind="resize", settings={"factor": factor})
            target = destination(self.folder / f"times{factor:g}_####.exr")
            render(open_source(self.folder / "a_####.exr"), Plan(profile=white_profile(10), steps=[step]), target)
            alpha = stored(self.folder / f"times{factor:g}_0001.exr")[1][..., 3]
            self.assertEqual(alpha.shape, (round(96 * factor), round(128 * factor)))
            edge = round(64 * factor)
            self.assertEqual((alpha[:, : edge - 1].max(), alpha[:, edge + 1 :].min()), (0, 1))

    def test_colours_under_alpha_are_as_stored_and_alpha_is_carried(self) -> None:
        values = np.rint(self.rng.random((9, 7, 4)) * 65535).astype(np.float32) / 65535
        values[2, 3] = (0.8, 0.4, 0.2, 0.0)  # colour where nothing covers
        unassociated = {"oiio__UnassociatedAlpha": ("int", 1), "alpha_channel": 3}
        for ending in ("png", "tif"):
            with self.subTest(ending):
                write_picture(
                    self.folder / f"u_0001.{ending}",
                    values,
                    "uint16",
                    channelnames=("R", "G", "B", "A"),
                    **unassociated,
                )
                source = open_source(self.folder / f"u_####.{ending}")
                np.testing.assert_allclose(source.read(0), values[..., :3], atol=1e-7)
                render(source, Plan(), destination(self.folder / f"v_####.{ending}"))
                _, back = stored(self.folder / f"v_0001.{ending}")
                np.testing.assert_array_equal(np.rint(back * 65535), np.rint(values * 65535))

    def test_openexr_keeps_windows_channels_and_depth(self) -> None:
        """A data window about a display window of 10×6: frames are the display, all else is kept."""
        values = self.rng.normal(0.4, 0.5, (8, 12, 6)).astype(np.float16).astype(np.float32)
        windows = {"x": -1, "y": -1, "full_x": 0, "full_y": 0, "full_width": 10, "full_height": 6}
        names = ("R", "G", "B", "A", "Z", "mask.id")
        write_picture(self.folder / "w_1001.exr", values, "half", channelnames=names, alpha_channel=3, **windows)
        source = open_source(self.folder / "w_####.exr")
        self.assertEqual((source.info.width, source.info.height), (10, 6))
        np.testing.assert_array_equal(source.read(0), values[1:7, 1:11, :3])
        render(source, Plan(), destination(self.folder / "out_####.exr"))
        spec, back = stored(self.folder / "out_1001.exr")
        self.assertEqual((spec.x, spec.y, spec.full_width, spec.full_height), (-1, -1, 10, 6))
        self.assertEqual(sorted(spec.channelnames), sorted(names))
        for k, name in enumerate(names):
            np.testing.assert_array_equal(back[..., spec.channelnames.index(name)], values[..., k], name)
        small = {"x": 2, "y": 1, "full_x": 0, "full_y": 0, "full_width": 16, "full_height": 12}
        write_picture(self.folder / "s_0001.exr", values[..., :3], "half", **small)
        frame = open_source(self.folder / "s_0001.exr").read(0)
        np.testing.assert_array_equal(frame[1:9, 2:14], values[..., :3])
        self.assertEqual(float(np.abs(frame).sum()), float(np.abs(values[..., :3]).sum()))

    def test_tags_outlive_every_picture_format(self) -> None:
        about = {
            "rate": "24000/1001", "timecode": "01:00:00:22", "camera": "Test camera", "gain": "ISO 3200",
            "primaries": "bt709", "transfer": "bt709", "matrix": "rgb", "pixel_aspect": "2", "kind": "sequence",
        }  # fmt: skip
        for ending in ("png", "tif", "exr"):
            with self.subTest(ending):
                with open_writer(
                    destination(self.folder / f"t_####.{ending}"), described(16, 12, 3, **about)
                ) as writer:
                    for frame in smooth_frames(16, 12, 3):
                        writer.write(frame)
                info = open_source(self.folder / f"t_####.{ending}").info.model_dump()
                self.assertEqual({key: info[key] for key in about}, about)
                last = open_source(self.folder / f"t_0002.{ending}")
                self.assertEqual(last.info.timecode, "01:00:00:22")  # a member stands for its sequence

    def test_openexr_of_an_unknown_curve_is_not_read_back_as_linear(self) -> None:
        for transfer in ("unknown", "bt709", "linear"):
            with open_writer(
                destination(self.folder / "l_####.exr"), described(16, 12, 1, transfer=transfer)
            ) as writer:
                writer.write(smooth_frames(16, 12, 1)[0])
            self.assertEqual(open_source(self.folder / "l_####.exr").info.transfer, transfer)

    def test_the_timecode_of_a_picture_is_that_of_its_frame(self) -> None:
        with open_writer(
            destination(self.folder / "t_####.exr"), described(16, 12, 3, timecode="01:00:00:22")
        ) as writer:
            for frame in smooth_frames(16, 12, 3):
                writer.write(frame)
        spec, _ = stored(self.folder / "t_0002.exr")
        bits: Any = next(a.value for a in spec.extra_attribs if a.name == "smpte:TimeCode")
        self.assertEqual(bits[0], 0x01000100)


class Sources(TestCase):
    def test_a_render_never_lies_over_what_it_reads(self) -> None:
        folder = temporary_folder(self)
        path = record(folder / "a.mkv", [planes_of("4:2:0", 8, n) for n in range(FRAMES)], "yuv420p")
        before = path.read_bytes()
        os.link(path, folder / "hard.mkv")
        (folder / "soft.mkv").symlink_to(path)
        (folder / "sub").mkdir()
        for name in ("a.mkv", "hard.mkv", "soft.mkv", "sub/../a.mkv"):
            with self.subTest(name), self.assertRaisesRegex(BadInput, "would be overwritten"):
                render(open_source(path), Plan(), destination(folder / name))
            self.assertEqual(path.read_bytes(), before)
        with open_writer(destination(folder / "p_####.png"), described(16, 12, 3)) as writer:
            for frame in smooth_frames(16, 12, 3):
                writer.write(frame)
        kept = [p.read_bytes() for p in sorted(folder.glob("p_*.png"))]
        with self.assertRaisesRegex(BadInput, "would be overwritten"):
            render(open_source(folder / "p_####.png"), Plan(), destination(folder / "p_%04d.png"))
        self.assertEqual([p.read_bytes() for p in sorted(folder.glob("p_*.png"))], kept)

    def test_the_index_is_kept_and_made_anew_when_the_file_changes(self) -> None:
        folder = temporary_folder(self)
        path = record(folder / "a.mkv", [planes_of("4:2:0", 8, n) for n in range(FRAMES)], "yuv420p")
        kept = folder / "indexes" / "a.json"
        self.assertEqual(open_source(path, kept).info.frames, FRAMES)
        document = json.loads(kept.read_text())
        document["index"]["times"].pop()  # shows that the kept one is used, not a new one
        kept.write_text(json.dumps(document))
        self.assertEqual(open_source(path, kept).info.frames, FRAMES - 1)
        record(path, [planes_of("4:2:0", 8, n) for n in range(5)], "yuv420p")
        self.assertEqual(open_source(path, kept).info.frames, 5)
        kept.write_text("{")
        self.assertEqual(open_source(path, kept).info.frames, 5)


class Damage(TestCase):
    def test_frames_that_the_decoder_makes_up_are_told(self) -> None:
        """Bytes of one packet changed: the frame is told, and those predicted from it, not those before."""
        folder = temporary_folder(self)
        rng = np.random.default_rng(2)
        base = rng.integers(16, 235, (192, 320)).astype(np.uint8)
        grey = np.full((96, 160), 128, np.uint8)
        frames = [[np.roll(base, 3 * n, axis=1).copy(), grey, grey] for n in range(24)]
        ten = [[(p.astype(np.uint16) << 2) for p in (f[0], *[np.full((192, 160), 128)] * 2)] for f in frames]
        predicted = {"g": "12", "bf": "0"}
        for codec, name, layout, options, until in (
            ("libx264", "a.mp4", "yuv420p", predicted | {"crf": "20"}, 12),
            ("mpeg2video", "b.mkv", "yuv420p", predicted | {"b": "6000000"}, 12),
            ("prores_ks", "c.mov", "yuv422p10le", {"profile": "hq"}, 6),
        ):
            with self.subTest(codec):
                path = record(folder / name, ten if codec == "prores_ks" else frames, layout, codec, options)
                _spoil(path, packet=5)
                source = open_source(path)
                for n in range(24):
                    source.read(n)
                told = [n for n in range(24) if source.damage(n)]
                self.assertIn(5, told)
                self.assertEqual(found_in(source, "damaged frames").value, len(told))
                self.assertFalse(set(told) - set(range(5, until)), told)


def _spoil(path: Path, packet: int) -> None:
    """Change a few bytes late in one packet of a file."""
    with av.open(str(path)) as container:
        found = [p for p in container.demux(video=0) if p.size][packet]
        start = int(found.pos or 0) + int(found.size * 0.7)
    data = bytearray(path.read_bytes())
    for k in range(6):
        data[start + 3 * k] ^= 0x5A
    path.write_bytes(bytes(data))
