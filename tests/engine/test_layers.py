"""The engine's layers: no module imports from one above it."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path
from unittest import TestCase

from yellowclean import engine

ROOT = Path(engine.__file__).parent

LAYERS = (
    ("errors", "disk", "bounded", "release", "parallel", "simd", "frames", "tables", "octaves", "cache", "learned"),
    ("shrinking",),
    ("parameters", "primaries"),
    ("media",),
    ("colour", "camera", "motion"),
    ("format", "noise", "footage"),
    ("measure", "reach"),
    ("treat",),
    ("plan",),
    ("chain", "pipeline"),
    ("judge",),
    ("survey", "cost"),
    ("propose", "render"),
    ("delivery",),
    ("reel",),
    ("testcamera",),
)
HEIGHT = {name: height for height, names in enumerate(LAYERS) for name in names}


def imported(file: Path) -> Iterator[str]:
    """Names of the engine's parts that a module imports."""
    inside = ("engine", *file.relative_to(ROOT).parts[:-1])
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.ImportFrom) and node.level:
            base = inside[: len(inside) - node.level + 1]
            path = [*base, *(node.module.split(".") if node.module else [alias.name for alias in node.names])]
            if path[0] == "engine" and len(path) > 1:
                yield path[1]


class Layers(TestCase):
    def test_no_import_runs_upwards(self) -> None:
        for file in sorted(ROOT.rglob("*.py")):
            part = file.relative_to(ROOT).with_suffix("").parts[0]
            if part == "__init__":
                continue
            for other in imported(file):
                with self.subTest(module=str(file.relative_to(ROOT)), imports=other):
                    self.assertLessEqual(HEIGHT[other], HEIGHT[part])
