"""The notices name what is installed, and the licence fits the video library's wheel."""

from __future__ import annotations

import json
import re
from pathlib import Path
from unittest import TestCase

from av._core import library_meta

ROOT = Path(__file__).parents[1]


class Notices(TestCase):
    def test_every_package_is_named_and_no_other(self) -> None:
        told = set(re.findall(r"^\| (\S+) \| ", (ROOT / "THIRD_PARTY_NOTICES.md").read_text(), re.MULTILINE))
        locked = (ROOT / "requirements.lock").read_text().splitlines()
        python = {line.split("==")[0] for line in locked if "==" in line}
        web = set(json.loads((ROOT / "web" / "package.json").read_text())["devDependencies"])
        heads = {"package", "wheel", "---"}
        inside = {"av", "opencv-python-headless", "numpy,", "llvmlite"}
        self.assertEqual(told - heads - inside, (python | web) - inside)

    def test_the_licence_is_one_under_which_the_video_library_may_be_handed_on(self) -> None:
        self.assertIn("--enable-libx264", library_meta["libavcodec"]["configuration"])
        self.assertIn("version 3 or later", library_meta["libavcodec"]["license"])
        self.assertRegex((ROOT / "LICENSE").read_text(), r"GNU GENERAL PUBLIC LICENSE\s+Version 3")
        self.assertIn('license = "GPL-3.0-or-later"', (ROOT / "pyproject.toml").read_text())
