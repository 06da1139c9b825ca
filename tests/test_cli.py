"""The command line, run as other programs run it."""

from __future__ import annotations

import contextlib
import io
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from unittest import TestCase

import numpy as np

from tests.clips import psnr, temporary_folder
from yellowclean.cli import main, overview
from yellowclean.cli_verbs import _parser
from yellowclean.engine.media import open_source
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step

PROGRAM = str(Path(sys.executable).parent / "yellow-clean")


def run(*arguments: object) -> subprocess.CompletedProcess[str]:
    command = [PROGRAM, *(str(a) for a in arguments)]
    return subprocess.run(command, capture_output=True, text=True, timeout=180, check=False)


class Overview(TestCase):
    def test_help_is_that_of_the_verbs_and_loads_no_engine(self) -> None:
        self.assertEqual(overview().format_help(), _parser().format_help())
        asked = "import sys, yellowclean.cli as c; c.overview().format_help(); sys.exit('numpy' in sys.modules)"
        self.assertEqual(subprocess.run([sys.executable, "-c", asked], check=False).returncode, 0)


class WholeJob(TestCase):
    def test_from_footage_to_a_cleaner_file(self) -> None:
        folder = temporary_folder(self)
        shot = run(
            "testcamera", "quay", "--out", folder, "--frames", 6, "--size", "320x192", "--stops", 4, "--seed", 5
        )
        self.assertEqual(shot.returncode, 0, shot.stderr)
        footage, plan, out = folder / "quay.mkv", folder / "plan.json", folder / "out.mkv"

        measured = said("measure", footage, "--json", "--profile-out", folder / "profile.json")
        document = json.loads(measured.stdout)
        self.assertEqual(document["schema"], "yellow-clean/survey/1")
        self.assertEqual((document["media"]["width"], document["media"]["frames"]), (320, 6))
        self.assertEqual(len(document["noise"]["by_frame_cv"]), 6)
        self.assertIn("luma", said("measure", footage, "--frames", "2:4").stdout)
        twice = json.loads(said("measure", footage, "--json", "--fields", "measured").stdout)["media"]
        self.assertEqual((twice["frames"], twice["rate"], twice["fields"]), (12, "48", "top"))

        self.assertEqual(
            said("propose", footage, "--profile", folder / "profile.json", "--out", plan).returncode, 0
        )
        rendered = said("render", footage, "--plan", plan, "--out", out, "--report", folder / "report.json")
        self.assertEqual(rendered.returncode, 0, rendered.stderr)
        self.assertEqual(json.loads((folder / "report.json").read_text())["frames"], 6)

        truth, noisy, clean = (open_source(folder / n) for n in ("truth.mkv", "quay.mkv", "out.mkv"))
        self.assertEqual(clean.info.frames, 6)
        gains = [psnr(clean.read(n), truth.read(n)) - psnr(noisy.read(n), truth.read(n)) for n in range(6)]
        self.assertGreater(np.mean(gains), 4.0)
        self.assertIn("linear", json.loads(said("treatments").stdout)["resize"]["properties"])
        hdr, asked = folder / "hdr.mkv", ("--scale", "160x96", "--sharpen", "--to", "Rec.2100-PQ - Display")
        self.assertEqual(said("render", footage, "--plan", "auto", "--out", hdr, *asked).returncode, 0)
        made = open_source(hdr).info
        self.assertEqual((made.width, made.height, made.transfer), (160, 96, "smpte2084"))
        for wrong in (("--scale", 99), ("--to", "nowhere"), ("--scale", 0)):
            refused = said("propose", footage, "--out", folder / "wrong.json", *wrong)
            self.assertEqual((refused.returncode, refused.stderr.count("\n")), (2, 1), refused.stderr)
        self.assertFalse((folder / "wrong.json").exists())
        compared = json.loads(said("compare", folder / "truth.mkv", out, "--json").stdout)
        self.assertAlmostEqual(compared["psnr_db"], psnr(*_all(clean, truth)), places=2)

    def test_ctrl_c_leaves_nothing_broken(self) -> None:
        folder = temporary_folder(self)
        said("testcamera", "dusk", "--out", folder, "--frames", 24, "--size", "480x270")
        plan = Plan(profile=white_profile(5), steps=[Step(kind="temporal"), Step(kind="spatial")])
        (folder / "plan.json").write_text(plan.to_json())
        before = {p.name for p in folder.iterdir()}
        about = ["--plan", str(folder / "plan.json"), "--out", str(folder / "out.mkv")]
        command = [PROGRAM, "render", str(folder / "dusk.mkv"), *about]
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        deadline = time.monotonic() + 60
        while not (folder / ".out.mkv.partial.mkv").exists() and time.monotonic() < deadline:
            time.sleep(0.05)
        os.kill(process.pid, signal.SIGINT)
        _, errors = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 130)
        self.assertNotIn(b"Traceback", errors)
        self.assertEqual({p.name for p in folder.iterdir()}, before)


def said(*arguments: object) -> subprocess.CompletedProcess[str]:
    """`run` in this process, which spares the start of another."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = main([str(a) for a in arguments])
        except SystemExit as ended:
            code = int(ended.code or 0)
    return subprocess.CompletedProcess([], code, out.getvalue(), err.getvalue())


class Refusals(TestCase):
    def test_bad_input_gives_one_line_exit_2_and_no_output(self) -> None:
        folder = temporary_folder(self)
        said("testcamera", "dusk", "--out", folder, "--frames", 2, "--size", "64x48")
        good, out = folder / "dusk.mkv", folder / "out.mkv"
        (folder / "empty.mkv").touch()
        (folder / "short.mkv").write_bytes(good.read_bytes()[:4000])
        (folder / "text.mkv").write_text("no video here")
        (folder / "plan.json").write_text('{"steps": [{"kind": "spatial", "settings": {"luma": 900}}]}')
        cases = [
            ("measure", folder / "absent.mkv"),
            ("measure", folder / "empty.mkv"),
            ("measure", folder / "text.mkv"),
            ("measure", folder / "short.mkv"),
            ("measure", good, "--frames", "1:9"),
            ("measure", good, "--patch", "0,0,400,400@0"),
            ("measure", good, "--patch", "0,0,32,32@7"),
            ("render", good, "--plan", folder / "plan.json", "--out", out),
            ("render", good, "--plan", folder / "absent.json", "--out", out),
            ("render", folder / "text.mkv", "--plan", "auto", "--out", out),
            ("render", good, "--plan", "auto", "--out", folder / "out.doc"),
            ("compare", good, folder / "text.mkv"),
            ("testcamera", "quay", "--out", folder / "big", "--size", "99999x99999"),
            ("testcamera", "quay", "--out", folder / "none", "--frames", "0"),
        ]
        for case in cases:
            with self.subTest(" ".join(str(c) for c in case[:3])):
                done = said(*case)
                self.assertEqual(done.returncode, 2, done.stderr)
                self.assertEqual(len(done.stderr.strip().splitlines()), 1, done.stderr)
                self.assertTrue(done.stderr.startswith("yellow-clean: "), done.stderr)
        self.assertFalse(out.exists())
        self.assertEqual([p for p in folder.iterdir() if "partial" in p.name], [])

    def test_nothing_is_written_over_what_is_read(self) -> None:
        folder = temporary_folder(self)
        said("testcamera", "dusk", "--out", folder, "--frames", 2, "--size", "64x48")
        good, plan = folder / "dusk.mkv", folder / "plan.json"
        plan.write_text('{"schema": "yellow-clean/plan/1"}')
        before = {p: p.read_bytes() for p in folder.iterdir()}
        for case in (
            ("render", good, "--plan", plan, "--out", good),
            ("render", good, "--plan", plan, "--out", folder / "out.mkv", "--report", good),
            ("render", good, "--plan", plan, "--out", folder / "out.mkv", "--report", plan),
            ("render", good, "--plan", plan, "--out", folder / "out.mkv", "--report", folder / "out.mkv"),
            ("measure", good, "--profile-out", good),
            ("propose", good, "--out", good),
        ):
            with self.subTest(" ".join(str(c) for c in case)):
                done = said(*case)
                self.assertEqual(done.returncode, 2)
                self.assertRegex(done.stderr, "would be overwritten|would lie over")
                self.assertEqual({p: p.read_bytes() for p in folder.iterdir()}, before)

    def test_wrong_words_and_help(self) -> None:
        self.assertEqual(said("measure", "a.mkv", "--patch", "1,2,3").returncode, 2)
        for verb in ("measure", "propose", "render", "compare", "testcamera"):
            self.assertIn("usage", said(verb, "--help").stdout)


def _all(*sources: object) -> list[np.ndarray]:
    return [np.array([s.read(n) for n in range(s.info.frames)]) for s in sources]  # type: ignore[attr-defined]
