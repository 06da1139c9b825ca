"""Footage in and out: exactness, order, tags, and refusals."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from unittest import TestCase

import av
import colour
import numpy as np
import OpenImageIO as oiio

from tests.clips import described, record, smooth_frames, temporary_folder, with_tone
from yellowclean.engine.errors import BadInput
from yellowclean.engine.frames import Frame, luma
from yellowclean.engine.media import destination, open_source, open_writer, probe
from yellowclean.engine.media.names import sequence_files, shots_in
from yellowclean.engine.media.planes import Coding, rgb_from_yuv, yuv_from_rgb
from yellowclean.engine.media.timecode import frames_between, shifted
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan
from yellowclean.engine.render import render


def write(path: Path, frames: list[Frame], form: str | None = None, **about: object) -> None:
    info = described(frames[0].shape[1], frames[0].shape[0], len(frames), **about)
    with open_writer(destination(path, form), info) as writer:
        for frame in frames:
            writer.write(frame)


class RoundTrips(TestCase):
    def setUp(self) -> None:
        self.folder = temporary_folder(self)

    def test_ffv1_is_bit_exact_at_16_bits_and_at_odd_sizes(self) -> None:
        rng = np.random.default_rng(3)
        whole = [rng.integers(0, 65536, (37, 53, 3)) for _ in range(5)]
        write(self.folder / "a.mkv", [(f / 65535).astype(np.float32) for f in whole])
        source = open_source(self.folder / "a.mkv")
        for n, frame in enumerate(whole):
            np.testing.assert_array_equal(np.rint(source.read(n) * 65535).astype(int), frame)

    def test_sequences_are_exact_and_carry_their_rate(self) -> None:
        frames = smooth_frames(40, 30, 3)
        for name, error in (("p_####.png", 1 / 65535), ("t_%04d.tif", 1 / 65535), ("e_####.exr", 0.0005)):
            with self.subTest(name):
                write(self.folder / name, frames, rate="24000/1001")
                source = open_source(self.folder / name)
                self.assertEqual(source.info.frames, 3)
                for n in (2, 0, 1):
                    self.assertLessEqual(np.abs(source.read(n) - frames[n]).max(), error)
        self.assertEqual(probe(self.folder / "e_####.exr").rate, "24000/1001")

    def test_delivery_codecs_carry_rate_tags_and_timecode(self) -> None:
        frames = smooth_frames(64, 48, 12)
        cases = {
            "prores-hq": ("a.mov", 10, "4:2:2"),
            "prores-4444": ("b.mov", 12, "4:4:4"),
            "h264": ("c.mp4", 10, "4:2:0"),
        }
        for form, (name, bits, chroma) in cases.items():
            with self.subTest(form):
                about = {
                    "rate": "24000/1001",
                    "timecode": "01:00:00:00",
                    "primaries": "bt2020",
                    "matrix": "bt2020nc",
                }
                write(self.folder / name, frames, form, **about, transfer="smpte2084")
                source = open_source(self.folder / name)
                info = source.info
                self.assertEqual((info.bit_depth, info.chroma, info.frames), (bits, chroma, 12))
                self.assertEqual((info.primaries, info.transfer, info.matrix), ("bt2020", "smpte2084", "bt2020nc"))
                self.assertEqual((info.rate, info.timecode, info.range), ("24000/1001", "01:00:00:00", "limited"))
                self.assertLess(np.abs(source.read(7) - frames[7]).mean(), 0.004)

    def test_sound_is_carried_over_and_cut_with_the_frames(self) -> None:
        with_sound = self.folder / "sound.mkv"
        with_tone(with_sound, seconds=2)
        info = probe(with_sound)
        self.assertEqual([track.codec for track in info.audio], ["pcm_s16le"])
        for name in ("s.mkv", "s.mov", "s.mp4"):
            with self.subTest(name):
                told = info.model_copy(update={"frames": 12})
                with open_writer(destination(self.folder / name), told, first=12, audio_from=with_sound) as writer:
                    for frame in smooth_frames(64, 48, 12):
                        writer.write(frame)
                with av.open(str(self.folder / name)) as container:
                    samples = sum(f.samples for f in container.decode(audio=0))
                self.assertAlmostEqual(samples / 48000, 0.5, delta=0.06)

    def test_the_sound_of_an_excerpt_is_that_of_its_frames(self) -> None:
        with_sound = self.folder / "sound.mkv"
        with_tone(with_sound, seconds=2)
        whole = heard(with_sound)
        for name, fmt in (("e.mov", "prores-hq"), ("e.mkv", "ffv1")):
            with self.subTest(name):
                piece = open_source(with_sound, frames=range(12, 40))
                render(piece, Plan(), destination(self.folder / name, fmt), frames=range(6, 24))
                piece.close()
                got = heard(self.folder / name)
                self.assertAlmostEqual(len(got) / 48000, 18 / 24, delta=0.03)
                begin = 18 * 2000  # samples a frame
                np.testing.assert_array_equal(got[: 15 * 2000], whole[begin : begin + 15 * 2000])
        for name, fmt in (("e.mp4", "av1-grain"), ("x.mp4", "hevc")):
            piece = open_source(with_sound, frames=range(12, 40))
            render(piece, Plan(profile=white_profile(1)), destination(self.folder / name, fmt))
            piece.close()
            with self.subTest(name), av.open(str(self.folder / name)) as container:
                samples = sum(f.samples for f in container.decode(audio=0))
                self.assertAlmostEqual(samples / 48000, 28 / 24, delta=0.06)

    def test_one_and_two_pictures_in_hevc_have_times_of_decoding(self) -> None:
        """x265 leaves out theirs, and what lay in memory there is right at times: so each is tried again."""
        for count in (1, 2) * 15:
            path = temporary_folder(self) / "few.mp4"
            with open_writer(destination(path, "hevc"), described(64, 48, count)) as writer:
                for frame in smooth_frames(64, 48, count):
                    writer.write(frame)
            with av.open(str(path)) as container:
                packets = [packet for packet in container.demux(video=0) if packet.size]
            self.assertEqual([packet.dts for packet in packets], [packet.pts for packet in packets])
            self.assertEqual(len(packets), count)

    def test_a_failed_write_leaves_nothing(self) -> None:
        for name in ("a.mkv", "a_####.png"):
            with self.subTest(name):
                folder = temporary_folder(self)
                with (
                    self.assertRaises(RuntimeError),
                    open_writer(destination(folder / name), described(16, 16, 2)) as w,
                ):
                    w.write(smooth_frames(16, 16, 1)[0])
                    raise RuntimeError
                self.assertEqual(list(folder.iterdir()), [])


class RandomAccess(TestCase):
    def test_seeking_equals_reading_in_order_with_b_frames_and_open_groups(self) -> None:
        folder = temporary_folder(self)
        options = {"bf": "3", "g": "10", "x264-params": "open-gop=1:b-pyramid=normal", "crf": "8"}
        for name, first in (("b.mp4", 0), ("b.mkv", 0), ("late.mkv", 31)):
            with self.subTest(name):
                _encode(folder / name, smooth_frames(64, 48, 47), options, first)
                ordered = open_source(folder / name)
                self.assertEqual(ordered.info.frames, 47)
                expected = [ordered.read(n) for n in range(47)]
                means = [float(frame.mean()) for frame in expected]
                self.assertEqual(means, sorted(means))
                seeking = open_source(folder / name)
                for n in np.random.default_rng(1).permutation(47):
                    np.testing.assert_array_equal(seeking.read(int(n)), expected[n])

    def test_program_streams_are_read_from_their_first_frame_on(self) -> None:
        """MPEG-2's own container, whose demuxer lands behind the frame that is sought."""
        path, pictures = temporary_folder(self) / "b.mpg", smooth_frames(160, 96, 31)
        coding = Coding("bt709", 8, False)
        planes = [list(yuv_from_rgb(frame, coding, "4:2:0")) for frame in pictures]
        source = open_source(record(path, planes, "yuv420p", "mpeg2video", {"g": "10", "bf": "2", "qmax": "4"}))
        expected = [source.read(n) for n in range(31)]
        for n in np.random.default_rng(1).permutation(31):
            np.testing.assert_array_equal(source.read(int(n)), expected[n])
            self.assertLess(abs(float(expected[n].mean() - pictures[n].mean())), 0.004)

    def test_uneven_times_are_flagged(self) -> None:
        path = temporary_folder(self) / "v.mkv"
        _encode(path, smooth_frames(64, 48, 20), {}, times=[n + (n // 4) * 3 for n in range(20)])
        self.assertTrue(probe(path).variable_rate)


class Matrices(TestCase):
    def test_yuv_agrees_with_colour_science(self) -> None:
        """Independent reference: colour-science's YCbCr_to_RGB, itself after the ITU texts."""
        rng = np.random.default_rng(5)
        names = {"bt709": "ITU-R BT.709", "smpte170m": "ITU-R BT.601", "bt2020nc": "ITU-R BT.2020"}
        for matrix, name in names.items():
            for bits, full in ((8, False), (10, False), (10, True), (16, False)):
                with self.subTest(matrix, bits=bits, full=full):
                    planes = [rng.integers(0, 1 << bits, (6, 8)).astype(np.uint16) for _ in range(3)]
                    luma, cb, cr = planes
                    ours = rgb_from_yuv(luma, cb, cr, Coding(matrix, bits, full))
                    theirs = colour.YCbCr_to_RGB(
                        np.stack(planes, axis=-1), K=colour.WEIGHTS_YCBCR[name], in_bits=bits, in_int=True,
                        in_legal=not full, out_bits=bits, out_legal=False,
                    )  # fmt: skip
                    if full:  # colour-science divides by 2^bits - 1 around 2^(bits-1), as H.273 does
                        np.testing.assert_allclose(ours, theirs, atol=2e-3)
                    else:
                        np.testing.assert_allclose(ours, theirs, atol=2e-5)

    def test_both_directions_agree_with_subsampled_chroma(self) -> None:
        frame = smooth_frames(65, 47, 1)[0]
        for chroma, error in (("4:4:4", 0.002), ("4:2:2", 0.006), ("4:2:0", 0.009)):
            with self.subTest(chroma):
                coding = Coding("bt709", 10, False)
                back = rgb_from_yuv(*yuv_from_rgb(frame, coding, chroma), coding)
                self.assertLess(np.abs(back - frame).max(), error)

    def test_untagged_video_takes_its_matrix_from_the_size_and_says_so(self) -> None:
        folder = temporary_folder(self)
        for size, matrix in (((720, 480), "smpte170m"), ((1280, 720), "bt709")):
            path = folder / f"{size[0]}.mkv"
            _encode(path, [np.full((size[1], size[0], 3), 0.4, np.float32)], {})
            info = probe(path)
            self.assertEqual(info.matrix, matrix)
            self.assertTrue(any("assumed" in note for note in info.notes))


class Numbered(TestCase):
    def test_numbers_that_grow_a_digit_are_one_sequence_and_twins_are_refused(self) -> None:
        folder = temporary_folder(self)
        for n in range(8, 12):
            (folder / f"f_{n}.png").touch()
        (folder / "q9_031.mov").touch()
        self.assertEqual([p.name for p in shots_in(folder)], ["f_#.png", "q9_031.mov"])
        self.assertEqual([p.name for p in sequence_files(folder / "f_#.png")], [f"f_{n}.png" for n in range(8, 12)])
        (folder / "f_08.png").touch()
        with self.assertRaisesRegex(BadInput, r"frame 8 is there twice \(f_08\.png, f_8\.png\)"):
            sequence_files(folder / "f_#.png")


class Excerpts(TestCase):
    def test_a_piece_counts_from_its_own_first_frame_and_keeps_its_timecode(self) -> None:
        folder, frames = temporary_folder(self), smooth_frames(48, 32, 12)
        told = described(48, 32, 12, timecode="01:00:59:20", chroma="rgb", matrix="rgb")
        path = folder / "whole.mkv"
        with open_writer(destination(path), told) as writer:
            for frame in frames:
                writer.write(frame)
        whole, piece = open_source(path), open_source(path, frames=range(5, 9))
        self.assertEqual((piece.info.frames, piece.info.timecode, piece.info.skipped), (4, "01:01:00:01", 5))
        for n in range(4):
            np.testing.assert_array_equal(piece.read(n), whole.read(n + 5))
            np.testing.assert_array_equal(piece.luma(n), whole.luma(n + 5))
        with self.assertRaises(BadInput):
            piece.read(4)
        for wrong in (range(9, 13), range(3, 3)):
            with self.assertRaisesRegex(BadInput, "are not all in it"):
                open_source(path, frames=wrong)


class Timecode(TestCase):
    def test_drop_frame_skips_two_numbers_a_minute_but_not_every_tenth(self) -> None:
        """SMPTE ST 12-1: counts 00 and 01 are dropped at each minute except every tenth."""
        rate = Fraction(30000, 1001)
        self.assertEqual(shifted("00:00:59;29", 1, rate), "00:01:00;02")
        self.assertEqual(shifted("00:09:59;29", 1, rate), "00:10:00;00")
        self.assertEqual(shifted("00:00:00;00", 17982, rate), "00:10:00;00")
        self.assertEqual(shifted("01:00:00:23", 2, Fraction(24)), "01:00:01:01")
        for frames in (0, 1, 1799, 1800, 17982, 123456):
            later = shifted("09:58:00;02", frames, rate)
            self.assertEqual(frames_between("09:58:00;02", later, rate), frames)
        for wrong in ("1:2", "01:00:00:24", "01:60:00:00", "frame 3"):
            with self.assertRaisesRegex(BadInput, "timecode"):
                frames_between("01:00:00:00", wrong, Fraction(24))


class Refusals(TestCase):
    """Every unusable input is refused by one line that names it."""

    def setUp(self) -> None:
        self.folder = temporary_folder(self)

    def refused(self, path: Path, words: str) -> None:
        with self.assertRaisesRegex(BadInput, words) as caught:
            open_source(path)
        self.assertIn(path.name.split("#")[0], str(caught.exception))
        self.assertNotIn("\n", str(caught.exception))

    def test_missing_empty_and_foreign_files(self) -> None:
        (self.folder / "empty.mkv").touch()
        (self.folder / "text.mov").write_text("a shopping list\n" * 50)
        (self.folder / "noise.mp4").write_bytes(np.random.default_rng(0).bytes(50_000))
        (self.folder / "text_0001.png").write_text("not a picture")
        self.refused(self.folder / "absent.mkv", "does not exist")
        self.refused(self.folder / "absent_####.png", "no file of that sequence")
        self.refused(self.folder / "empty.mkv", "is empty")
        self.refused(self.folder / "text.mov", "cannot be read")
        self.refused(self.folder / "noise.mp4", "cannot be read|no video|not a video")
        self.refused(self.folder / "text_####.png", "cannot be read as a picture")

    def test_files_cut_short(self) -> None:
        for name in ("a.mkv", "a.mov", "a.mp4"):
            write(self.folder / name, smooth_frames(96, 64, 30))
            whole = (self.folder / name).read_bytes()
            (self.folder / name).write_bytes(whole[: len(whole) * 6 // 10])
            self.refused(self.folder / name, "cut short|damaged")
        write(self.folder / "p_####.png", smooth_frames(96, 64, 1))
        picture = self.folder / "p_0000.png"
        picture.write_bytes(picture.read_bytes()[:3000])
        self.refused(picture, "damaged|cannot be read")

    def test_sound_without_picture(self) -> None:
        with_tone(self.folder / "tone.mkv", seconds=1, picture=False)
        self.refused(self.folder / "tone.mkv", "no video stream")

    def test_values_that_are_not_numbers(self) -> None:
        pixels = np.full((8, 8, 3), 0.5, np.float32)
        pixels[3, 4] = np.nan
        output = oiio.ImageOutput.create(str(self.folder / "n_0001.exr"))
        assert output is not None
        output.open(str(self.folder / "n_0001.exr"), oiio.ImageSpec(8, 8, 3, "float"))
        output.write_image(pixels)
        output.close()
        self.refused(self.folder / "n_0001.exr", "not numbers")

    def test_gaps_and_changing_sizes_in_a_sequence(self) -> None:
        write(self.folder / "g_####.png", smooth_frames(20, 20, 4))
        write(self.folder / "h_####.png", smooth_frames(24, 20, 1))
        (self.folder / "h_0000.png").rename(self.folder / "g_0004.png")
        with self.assertRaisesRegex(BadInput, "24×20"):
            open_source(self.folder / "g_####.png").read(4)
        (self.folder / "g_0002.png").unlink()
        self.refused(self.folder / "g_####.png", "lacks frame 2")

    def test_absurd_sizes(self) -> None:
        header = bytearray((self.folder / "b.png").write_bytes(b"") or b"")
        header += b"\x89PNG\r\n\x1a\n" + _png_chunk(b"IHDR", (90_000).to_bytes(4, "big") * 2 + b"\x10\x02\0\0\0")
        (self.folder / "b.png").write_bytes(bytes(header) + _png_chunk(b"IEND", b""))
        self.refused(self.folder / "b.png", "out of range|cannot be read")

    def test_names_that_cannot_be_written(self) -> None:
        for name, form, words in (
            ("a.xyz", None, "no format"), ("a.mp4", "ffv1", "ends in .mkv"),
            ("no/a.mkv", None, "folder does not exist"),
            ("a.png", None, "no frame number"),
        ):  # fmt: skip
            with self.subTest(name), self.assertRaisesRegex(BadInput, words):
                destination(self.folder / name, form)
        with self.assertRaisesRegex(BadInput, "even width"):
            open_writer(destination(self.folder / "odd.mp4"), described(33, 20, 1))


def _png_chunk(kind: bytes, data: bytes) -> bytes:
    import zlib  # noqa: PLC0415

    return len(data).to_bytes(4, "big") + kind + data + zlib.crc32(kind + data).to_bytes(4, "big")


def _encode(
    path: Path, frames: list[Frame], options: dict[str, str], first: int = 0, times: list[int] | None = None
) -> None:
    """8-bit H.264 with any options, beginning at any time, without colour tags."""
    height, width = frames[0].shape[:2]
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=24, options=options)
        stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
        stream.codec_context.time_base = Fraction(1, 24)
        for n, frame in enumerate(frames):
            picture = av.VideoFrame.from_ndarray((frame * 255).round().astype(np.uint8), format="rgb24")
            picture = picture.reformat(format="yuv420p")
            picture.pts, picture.time_base = first + (times[n] if times else n), Fraction(1, 24)
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))


def heard(path: Path) -> np.ndarray:
    """The left channel's samples."""
    with av.open(str(path)) as container:
        return np.concatenate([f.to_ndarray().reshape(-1, 2)[:, 0] for f in container.decode(audio=0)])


class WrongTimes(TestCase):
    def test_a_file_that_lost_the_order_of_its_b_frames_is_read_as_it_decodes(self) -> None:
        """Some recorders write decoding times for presentation times; such files decode, and must be usable."""
        path = temporary_folder(self) / "shuffled.mp4"
        frames = smooth_frames(64, 48, 30)
        with av.open(str(path), "w") as container:
            stream = container.add_stream("libx264", rate=24, options={"bf": "2", "g": "12", "crf": "4"})
            stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"  # type: ignore[union-attr]
            packets = []
            for frame in frames:
                picture = av.VideoFrame.from_ndarray((frame * 255).round().astype(np.uint8), format="rgb24")
                packets += stream.encode(picture)  # type: ignore[union-attr]
            packets += stream.encode(None)  # type: ignore[union-attr]
            for n, packet in enumerate(packets):
                packet.pts = packet.dts = n * int(1 / 24 / packet.time_base)
                container.mux(packet)
        source = open_source(path)
        self.assertEqual(source.info.frames, 30)
        self.assertTrue(any("times in the file are wrong" in note for note in source.info.notes))
        for n in (17, 0, 29, 12, 13):
            self.assertLess(np.abs(source.read(n) - frames[n]).mean(), 0.02, n)
        np.testing.assert_allclose(source.luma(5), luma(source.read(5)), atol=2e-3)

    def test_luma_alone_and_the_cameras_tags_survive(self) -> None:
        folder = temporary_folder(self)
        frames = smooth_frames(96, 64, 4)
        for form, name in (("prores-hq", "a.mov"), ("h264", "b.mp4"), ("ffv1", "c.mkv")):
            with self.subTest(form):
                write(folder / name, frames, form, camera="Test camera", gain="ISO 3200")
                source = open_source(folder / name)
                self.assertEqual((source.info.camera, source.info.gain), ("Test camera", "ISO 3200"))
                np.testing.assert_allclose(source.luma(2), luma(source.read(2)), atol=2e-6)
