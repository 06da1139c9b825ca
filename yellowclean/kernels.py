"""Compiles the engine's kernels, so that no user waits for it: a small clip is measured and treated in every way.

`python -m yellowclean.kernels`, at set-up. What is compiled is kept beside the sources."""

from __future__ import annotations

import tempfile
from contextlib import closing
from pathlib import Path

from .engine.footage import Footage
from .engine.media import open_source
from .engine.pipeline import Pipeline
from .engine.plan import Plan, Step
from .engine.survey import survey
from .engine.testcamera import Camera, ShotRecipe, shoot
from .engine.treat import TREATMENTS

FRAMES, MIDDLE = 14, 6
DEEPER = "prores-hq"
"""Footage of more than eight bits is read by kernels of its own."""


def main() -> None:
    recipe = ShotRecipe(
        name="kernels", scene="quay", camera=Camera(stops_under=3), width=320, height=192, frames=FRAMES,
        codec="h264-8bit", bit_rate=4_000_000,
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        with closing(open_source(_shot(recipe, folder))) as source:
            profile = survey(source).profile
            for kind in TREATMENTS:
                Pipeline(Footage(source), Plan(profile=profile, steps=[Step(kind=kind)])).frame(MIDDLE)
        deeper = recipe.model_copy(update={"name": "deeper", "frames": 2, "codec": DEEPER, "bit_rate": None})
        with closing(open_source(_shot(deeper, folder))) as source:
            source.read(0)


def _shot(recipe: ShotRecipe, folder: str) -> Path:
    shoot(recipe, Path(folder))
    return next(path for path in Path(folder).iterdir() if path.name.startswith(f"{recipe.name}."))


if __name__ == "__main__":
    main()
