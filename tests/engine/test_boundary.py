"""What is no footage, or was damaged, is told in one line; and what the fuzzer once found stays mended."""

from __future__ import annotations

import contextlib
import lzma
import os
import re
import signal
import sys
import time
from fractions import Fraction
from multiprocessing.connection import Connection
from pathlib import Path
from unittest import TestCase, mock

import numpy as np
import OpenImageIO as oiio

from fuzz import attempt, watch
from tests.clips import described, record, smooth_frames, temporary_folder
from yellowclean.engine.colour.cdl_files import read_cdls
from yellowclean.engine.colour.look import Look
from yellowclean.engine.errors import BadInput
from yellowclean.engine.media import OUTPUT_FORMATS, destination, open_source, open_writer
from yellowclean.engine.media.names import is_sequence_name

SAMPLES = Path(__file__).parents[1] / "samples"
"""Mutants of the fuzzer that ended in a traceback, or in more lines than one."""


class Found(TestCase):
    def test_what_broke_it_is_refused_in_a_line_or_read(self) -> None:
        wanted = {
            "layout.avi": "of a kind|how its picture is stored", "level.avi": "", "sound.ts": "its sound cannot",
            "stream.png": "is damaged", "text.exr": "of a kind", "text.tif": "",
        }  # fmt: skip
        self.assertEqual({file.stem for file in SAMPLES.iterdir()}, set(wanted))
        for name, why in wanted.items():
            folder = temporary_folder(self)
            shown = folder / (f"x_1{Path(name).suffix}" if is_sequence_name(Path(name)) else name)
            shown.write_bytes(lzma.decompress((SAMPLES / f"{name}.xz").read_bytes()))
            (folder / "plan.json").write_text('{"steps": []}')
            render = ["render", str(shown), "--plan", str(folder / "plan.json"), "--out", str(folder / "out.mp4")]
            kinds = [attempt.run(words) for words in (["measure", str(shown), "--json"], render)]
            with self.subTest(name):
                self.assertLessEqual({kind for kind, _ in kinds}, {"done", "refused"}, kinds)
                self.assertTrue(re.search(why, kinds[1][1]), kinds)


def _serve(specimens: Path, seed: int, pipe: Connection, where: Path) -> None:
    """Four attempts: one that is well, one that kills its process, one that stands still, one well again."""
    while True:
        number = pipe.recv()
        if number == 1:
            os.kill(os.getpid(), signal.SIGSEGV)
        if number == 2:
            where.write_text("here it stands")
            time.sleep(600)
        pipe.send(attempt.Outcome(number, "done", "", ""))


class Watched(TestCase):
    def test_the_fuzzer_notices_what_dies_stands_still_and_tells_too_much(self) -> None:
        folder = temporary_folder(self)
        with mock.patch.object(watch, "_START", 20.0):
            found = watch.outcomes(folder, 1, iter(range(4)), time.monotonic() + 60, _serve, patience=1.0)
            kinds = {outcome.number: (outcome.kind, outcome.told) for outcome in found}
        self.assertEqual(
            {n: kind for n, (kind, _) in kinds.items()}, {0: "done", 1: "crashed", 2: "hung", 3: "done"}
        )
        self.assertIn("here it stands", kinds[2][1])
        with mock.patch("yellowclean.cli.main", side_effect=lambda words: print("a\nb", file=sys.stderr) or 2):
            self.assertEqual(attempt.run(["measure"])[0], "noise")
        with mock.patch("yellowclean.cli.main", side_effect=ZeroDivisionError):
            self.assertEqual(attempt.run(["measure"])[0], "traceback")


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

    def test_luts_and_corrections_that_are_none(self) -> None:
        (self.folder / "x.cube").write_bytes(b"LUT_3D_SIZE 2\n" + bytes(range(256)))
        (self.folder / "x.cdl").write_bytes(bytes(range(256)))
        (self.folder / "endless.cube").symlink_to("/dev/zero")
        (self.folder / "endless.cc").symlink_to("/dev/zero")
        for name in ("x.cube", "endless.cube", ".", "a\nb.cube"):
            with self.subTest(name), self.assertRaises(BadInput):
                Look(lut=str(self.folder / name)).check()
        for name in ("x.cdl", "endless.cc"):
            with self.subTest(name), self.assertRaises(BadInput):
                read_cdls(self.folder / name)

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

    def test_names_that_are_not_utf8_are_not_written(self) -> None:
        for ending in (".mkv", "_#.png"):
            target = destination(self.folder / (os.fsdecode(b"\xff") + ending))
            with self.assertRaisesRegex(BadInput, "not UTF-8"):
                open_writer(target, described(64, 48, 1))

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
