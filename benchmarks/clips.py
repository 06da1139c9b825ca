"""Test-camera clips in memory, with their truth."""

from __future__ import annotations

import numpy as np

from yellowclean.engine.frames import Frame
from yellowclean.engine.media import MediaInfo, Source
from yellowclean.engine.testcamera import Camera, ShotRecipe, frame_pair, scene_of


class Clip(Source):
    """Footage as recorded (clipped to 0-1), its truth, and its description."""

    def __init__(
        self, scene: str, camera: Camera, *, frames: int, width: int = 960, height: int = 540,
        motion: tuple[float, float, float] | None = None,
    ) -> None:  # fmt: skip
        recipe = ShotRecipe(
            name=scene, scene=scene, camera=camera, width=width, height=height, frames=frames, motion=motion  # type: ignore[arg-type]
        )  # fmt: skip
        light = scene_of(recipe)
        pairs = [frame_pair(recipe, light, n) for n in range(frames)]
        self.frames = [np.clip(noisy, 0, 1) for noisy, _ in pairs]
        self.truth = [np.clip(clean, 0, 1) for _, clean in pairs]
        self.info = described(frames, width, height)

    def read(self, n: int) -> Frame:
        return self.frames[n]

    def close(self) -> None:
        """Nothing is open."""


def described(frames: int, width: int, height: int) -> MediaInfo:
    return MediaInfo(
        path="benchmark", kind="video", width=width, height=height, frames=frames, rate="24", bit_depth=16,
        chroma="rgb", codec="none", pixel_format="", range="full", primaries="bt709", transfer="bt709",
        matrix="bt709",
    )  # fmt: skip
