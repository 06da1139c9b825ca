"""One's own colour configuration beside the library's, by the environment: in processes, as it is used."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any
from unittest import TestCase

import numpy as np

HOUSE = """ocio_profile_version: 2
name: house
search_path: luts
roles: {default: House Raw, scene_linear: House Linear, aces_interchange: House AP0}
file_rules:
  - !<Rule> {name: Default, colorspace: House Raw}
displays:
  House Monitor:
    - !<View> {name: Plain, colorspace: House Log}
colorspaces:
  - !<ColorSpace> {name: House Raw, isdata: true}
  - !<ColorSpace> {name: House AP0, encoding: scene-linear}
  - !<ColorSpace>
    name: House Linear
    encoding: scene-linear
    to_scene_reference: !<MatrixTransform> {matrix: [0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 1]}
  - !<ColorSpace>
    name: House Log
    encoding: log
    to_scene_reference: !<GroupTransform>
      children:
        - !<FileTransform> {src: curve.cube}
        - !<MatrixTransform> {matrix: [0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 1]}
"""

ASKED = """
import json
import numpy as np
from yellowclean.engine.colour.conversion import Conversion
from yellowclean.engine.colour.encodings import encoding_named
from yellowclean.engine.colour.management import spaces
picture = np.full((1, 1, 3), 0.5, np.float32)
print(json.dumps({
    "halved": Conversion("House Linear", "ACES2065-1").applied(picture).tolist()[0][0],
    "curved": Conversion("House Log", "House Linear").applied(picture).tolist()[0][0],
    "shown": Conversion("House Log", "Rec.2100-PQ - Display").told(),
    "own": Conversion("Camera Rec.709", "sRGB - Display").told(),
    "tag": encoding_named("House Log").transfer,
    "displays": list(spaces().displays),
}))
"""


class Own(TestCase):
    def run_with(self, config: Path, *command: str) -> subprocess.CompletedProcess[str]:
        environment = os.environ | {"OCIO": str(config)}
        return subprocess.run(
            [sys.executable, *command], env=environment, capture_output=True, text=True, check=False, timeout=120
        )

    def test_its_spaces_stand_beside_the_others_with_their_luts(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "luts").mkdir()
            (folder / "luts" / "curve.cube").write_text("LUT_1D_SIZE 3\n0 0 0\n0.2 0.2 0.2\n1 1 1\n")
            (folder / "house.ocio").write_text(HOUSE)
            done = self.run_with(folder / "house.ocio", "-c", ASKED)
        self.assertEqual(done.returncode, 0, done.stderr)
        told: dict[str, Any] = json.loads(done.stdout)
        np.testing.assert_allclose(told["halved"], 0.25, atol=1e-6)
        np.testing.assert_allclose(told["curved"], 0.2, atol=1e-5)
        self.assertIn("OOTF", told["shown"][0])
        self.assertIn("white 1023.0", told["own"][1])
        self.assertEqual(told["tag"], "unknown")
        self.assertIn("House Monitor", told["displays"])

    def test_one_that_is_none_is_refused_in_a_line_by_the_command_line_and_at_the_servers_start(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            bad = Path(folder) / "bad.ocio"
            bad.write_text("no configuration")
            for config in (bad, Path(folder) / "gone.ocio"):
                done = self.run_with(config, "-m", "yellowclean.cli", "measure", "shot.mov")
                self.assertEqual(done.returncode, 2)
                self.assertEqual(len(done.stderr.strip().splitlines()), 1, done.stderr)
                self.assertIn(f"OCIO={config}", done.stderr)
            root = Path(__file__).parents[2]
            started = self.run_with(bad, str(root / "manage.py"), "check")
            self.assertNotEqual(started.returncode, 0)
            self.assertIn("is no colour configuration that can be used", started.stderr)
