"""A whole reel by four commands, and what they refuse."""

from __future__ import annotations

import contextlib
import io
import json
from pathlib import Path
from typing import ClassVar
from unittest import TestCase

import numpy as np

from tests.clips import class_folder, temporary_folder
from yellowclean.cli import main
from yellowclean.engine.media import open_source
from yellowclean.engine.plan import Plan
from yellowclean.engine.reel.finding import found_media
from yellowclean.engine.reel.folder import JobFolder
from yellowclean.engine.reel.taking import taken
from yellowclean.engine.reel.timeline import described, read
from yellowclean.engine.testcamera import shoot_reel

SHARE, HANDLES = 12, 2
"""The demo timeline at a twelfth of its minute."""


def run(*arguments: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(arguments)
    return code, out.getvalue(), err.getvalue()


class DemoReel(TestCase):
    folder: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = class_folder(cls)
        shoot_reel(cls.folder / "media", 160, 96, share=SHARE)

    def test_in_measured_proposed_written_noted_and_out_by_four_commands(self) -> None:
        job, timeline = str(self.folder / "job"), str(self.folder / "media" / "quay_nine.otio")
        commands = (
            ("import", timeline, "--job", job, "--handles", str(HANDLES)),
            ("propose", job),
            ("render", job, "--format", "ffv1", "--format", "prores-hq", "--name", "{event:02}_{shot}_{version}"),
            ("note", job),
        )
        for command in commands:
            code, _, err = run("job", *command)
            self.assertEqual((code, err), (0, ""), command)
        kept = JobFolder(Path(job))
        self.assertEqual([shot.place.number for shot in kept.document.shots if shot.place], list(range(1, 13)))
        self.assertEqual(len({shot.media for shot in kept.document.shots}), 5)
        note = json.loads((Path(job) / "delivery" / "note.json").read_text())
        self.assertEqual([len(shot["files"]) for shot in note["shots"]], [2] * 12)
        self.assertEqual(note["shots"][0]["place"]["comments"], ["COMMENT: keep the grain of the fog"])
        self.assertTrue(all(shot["files"][0]["report"]["checksum"] for shot in note["shots"]))
        self.assertIn("q9_116_figurehead_3", (Path(job) / "delivery" / "note.html").read_text())
        for fmt in ("ffv1", "prores-hq"):
            for ending in ("otio", "edl"):
                self.assert_results(kept, Path(job) / "delivery" / f"job_{fmt}.{ending}")
        code, out, _ = run("job", *commands[2])
        self.assertEqual((code, out.count("is there already")), (0, 24), "nothing is written twice")

    def assert_results(self, job: JobFolder, document: Path) -> None:
        """The events of a written timeline play what was written for them, each its own frames."""
        told = described(read(document.read_bytes(), document.name))
        events, missing = taken(told, found_media(told, [job.root / "renders"]), 0)
        self.assertEqual((len(events), missing), (12, []))
        for event, shot in zip(events, job.document.shots, strict=True):
            assert shot.place
            source = job.opened(shot)
            cut = shot.place.cut(source.info.frames)
            self.assertIn(f"{shot.place.number:02}_{shot.name}", event.path.name)
            self.assertEqual((event.frames.start, len(event.frames)), (shot.place.head, len(cut)), document.name)
            source.close()

    def test_every_first_and_last_frame_is_the_sources_bit_for_bit(self) -> None:
        """With empty plans and a lossless format; the frames of the written timeline beside those that the original
        one names."""
        root = temporary_folder(self) / "job"
        media = self.folder / "media"
        self.assertEqual(
            run("job", "import", str(media / "quay_nine.edl"), "--job", str(root), "--handles", "2")[0], 0
        )
        job = JobFolder(root)
        for shot in job.document.shots:
            job.keep_plan(shot, "A", Plan())
        for cut in ([], ["--cut"]):
            self.assertEqual(run("job", "render", str(root), "--format", "ffv1-source", *cut)[0], 0)
            self.assertEqual(run("job", "note", str(root))[0], 0)
            original = described(read((media / "quay_nine.otio").read_bytes(), "quay_nine.otio"))
            wanted, _ = taken(original, found_media(original, [media]), 0)
            for ending in ("otio", "edl"):
                document = root / "delivery" / f"job_ffv1-source.{ending}"
                told = described(read(document.read_bytes(), document.name))
                got, missing = taken(told, found_media(told, [root / "renders"]), 0)
                self.assertEqual(missing, [])
                for one, other in zip(got, wanted, strict=True):
                    self.assertNotEqual(one.path, other.path)
                    self.assertEqual(len(one.frames), len(other.frames))
                    for k in (0, -1):
                        a, b = open_source(one.path), open_source(other.path)
                        np.testing.assert_array_equal(a.read(one.frames[k]), b.read(other.frames[k]), other.name)
                        a.close()
                        b.close()

    def test_what_is_refused_is_one_line_and_leaves_nothing(self) -> None:
        folder = temporary_folder(self)
        timeline, job = str(self.folder / "media" / "quay_nine.otio"), str(folder / "job")
        (folder / "empty").mkdir()
        (folder / "noise.otio").write_bytes(b"\x00\xff")
        cases: tuple[tuple[str, ...], ...] = (
            ("import", str(folder / "nowhere.otio"), "--job", job),
            ("import", str(folder / "noise.otio"), "--job", job),
            ("import", timeline, "--media", str(folder / "empty"), "--job", job),
            ("import", timeline, "--media", str(folder / "nowhere"), "--job", job),
            ("import", timeline, "--job", job, "--handles", "-3"),
            ("import", str(folder / "empty"), "--job", job),
            ("measure", str(folder)),
            ("propose", job),
            ("note", job),
        )
        for case in cases:
            with self.subTest(case):
                code, _, err = run("job", *case)
                self.assertEqual(code, 2)
                self.assertRegex(err, r"^yellow-clean: [^\n]+\n$")
        self.assertFalse((folder / "job" / "job.json").exists())
        self.assertEqual(run("job", "import", timeline, "--job", job)[0], 0)
        self.assertRegex(run("job", "import", timeline, "--job", job)[2], "holds a job already")
        self.assertRegex(run("job", "note", job)[2], "nothing is written yet")
        self.assertRegex(run("job", "render", job, "--format", "ffv1", "--version", "Z")[2], "has no plan Z")
        self.assertRegex(run("job", "render", job, "--format", "ffv1", "--name", "x")[2], "alike; add")
