"""What is no footage, or was damaged, is told in one line; and what the fuzzer once found stays mended."""

from __future__ import annotations

import contextlib
import io
import os
from fractions import Fraction
from pathlib import Path
from unittest import TestCase, mock

import numpy as np
import OpenImageIO as oiio

from fuzz import attempt, specimens
from tests.clips import class_folder, described, record, smooth_frames, temporary_folder
from yellowclean.engine.errors import BadInput
from yellowclean.engine.media import OUTPUT_FORMATS, destination, open_source, open_writer

FOUND = (29, 35, 38, 43, 51, 83, 87, 114, 131, 179, 182, 209, 279)
"""Mutants of the fuzzer's first seed that gave a traceback, or more than one line."""


class Found(TestCase):
    def test_mutants_that_broke_it_are_refused_or_read(self) -> None:
        folder = class_folder(type(self))
        with contextlib.redirect_stdout(io.StringIO()):
            specimens.make(folder)
        for number in FOUND:
            with self.subTest(number):
                outcome = attempt.attempt(folder, 1, number, temporary_folder(self))
                self.assertIn(outcome.kind, {"done", "refused"}, outcome)


class Boundary(TestCase):
    def setUp(self) -> None:
        self.folder = temporary_folder(self)

    def refused(self, path: Path | str, why: str) -> None:
        with self.assertRaisesRegex(BadInput, why) as caught:
            open_source(path)
        self.assertNotIn("\n", str(caught.exception))

    def test_what_is_no_file(self) -> None:
        os.mkfifo(self.folder / "pipe.mov")
        self.refused(self.folder / "pipe.mov", "a device, a pipe")
        self.refused("/dev/zero", "a device, a pipe")
        self.refused(os.fsdecode(b"\xff.mov"), "not UTF-8")
        self.refused("x" * 5000, "does not exist")
        self.refused("a\0b.mov", "is no path")
        self.refused("https://localhost/x.mov", "does not exist")

    def test_scripts_that_name_other_files_are_not_followed(self) -> None:
        real = self._recorded("real.mkv")
        for name, text in (
            ("x.ffconcat", f"ffconcat version 1.0\nfile '{real}'\n"),
            ("x.m3u8", f"#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\n{real}\n#EXT-X-ENDLIST\n"),
            ("x.sdp", "v=0\no=- 0 0 IN IP4 127.0.0.1\ns=x\nc=IN IP4 127.0.0.1\nm=video 9 RTP/AVP 96\n"),
        ):
            (self.folder / name).write_text(text)
            self.refused(self.folder / name, "cannot be read as video")

    def test_a_picture_beyond_the_limit_is_told_before_it_is_decoded(self) -> None:
        with open_writer(destination(self.folder / "f_#.png"), described(64, 48, 1)) as writer:
            writer.write(np.zeros((48, 64, 3), np.float32))
        with mock.patch.dict(os.environ, YELLOW_CLEAN_MOST_MEGAPIXELS="0.001"):
            for path in (self._recorded("small.mkv"), self.folder / "f_#.png"):
                self.refused(path, "64×48 pixels is out of range: the limit is 0.001 megapixels")

    def test_numbers_with_gaps_and_without_end(self) -> None:
        for name in ("f_8.png", "f_20261125.png", f"f_{'9' * 30}.png"):
            (self.folder / name).touch()
        self.refused(self.folder / "f_####.png", r"lacks frame 9 \(20261116 missing in all\)")

    def test_odd_words_about_a_picture_are_not_believed(self) -> None:
        for value in ((0, 1), (-24, 1), (2**31 - 1, 1)):
            path = self.folder / "f_1.exr"
            spec = oiio.ImageSpec(32, 24, 3, oiio.HALF)
            spec.attribute("FramesPerSecond", oiio.TypeRational, value)
            spec.attribute("PixelAspectRatio", 1e5)
            spec.attribute("Model", "Camera_1")
            out = oiio.ImageOutput.create(str(path))
            assert out
            done = out.open(str(path), spec) and out.write_image(np.zeros((24, 32, 3), np.float32))
            self.assertTrue(done, out.geterror())
            out.close()
            path.write_bytes(path.read_bytes().replace(b"Camera_1", b"Caf\xe9\xff\xfe_1"))
            info = open_source(path).info
            self.assertEqual((info.rate, info.pixel_aspect), ("24", "1"), value)
            info.model_dump_json()

    def test_durations_that_are_no_times_are_not_believed(self) -> None:
        path = self._recorded("x.mkv")
        data = path.read_bytes()
        self.assertIn(b"00:00:00.", data)
        for wrong in (b"ab:cd:ef.", b"99:99:99.", b"00:00:-1."):
            (self.folder / "y.mkv").write_bytes(data.replace(b"00:00:00.", wrong))
            with contextlib.suppress(BadInput):  # a file said to last for days is one that was cut short
                self.assertEqual(open_source(self.folder / "y.mkv").info.frames, 3)

    def test_a_picture_one_line_high_is_refused_or_can_be_read(self) -> None:
        for name, fmt in OUTPUT_FORMATS.items():
            target = destination(
                self.folder / (f"x_####{fmt.ending}" if fmt.is_sequence else f"x{fmt.ending}"), name
            )
            with self.subTest(name), contextlib.suppress(BadInput):
                with open_writer(target, described(64, 1, 1)) as writer:
                    writer.write(np.full((1, 64, 3), 0.5, np.float32))
                self.assertEqual(open_source(target.path).read(0).shape, (1, 64, 3))
            self.assertFalse(target.partial.exists(), name)
            for written in self.folder.iterdir():
                written.unlink()

    def _recorded(self, name: str) -> Path:
        planes = []
        for frame in smooth_frames(64, 48, 3):
            codes = (frame * 255).clip(0, 255).astype("uint8")
            planes.append([codes[..., 0], codes[::2, ::2, 1], codes[::2, ::2, 2]])
        return record(self.folder / name, planes, "yuv420p", rate=Fraction(24))
