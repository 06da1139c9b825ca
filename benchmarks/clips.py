"""Test-camera clips in memory, with their truth."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from yellowclean.engine.frames import Array, Frame
from yellowclean.engine.media import Destination, MediaInfo, Source, open_source, open_writer
from yellowclean.engine.media.formats import OutputFormat
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

    def record(self, fmt: OutputFormat) -> None:
        """Put the footage, not the truth, through a recording format."""
        self.frames, self.info = recorded(self.frames, self.info, fmt)

    def read(self, n: int) -> Frame:
        return self.frames[n]

    def close(self) -> None:
        """Nothing is open."""


def recorded(frames: Sequence[Frame], info: MediaInfo, fmt: OutputFormat) -> tuple[list[Frame], MediaInfo]:
    """The frames after a recording format, and what its file says of itself."""
    return coded(frames, info, fmt)[:2]


def coded(
    frames: Sequence[Frame], info: MediaInfo, fmt: OutputFormat
) -> tuple[list[Frame], MediaInfo, list[Array | None]]:
    """The same, with the coding errors that the file tells."""
    with tempfile.TemporaryDirectory() as folder:
        target = Destination(Path(folder) / f"clip{fmt.ending}", fmt)
        with open_writer(target, info) as writer:
            for frame in frames:
                writer.write(frame)
        source = open_source(target.path)
        decoded = [source.read(n) for n in range(len(frames))]
        errors = [source.coding_error(n) for n in range(len(frames))]
        source.close()
        return decoded, source.info, errors


def described(frames: int, width: int, height: int) -> MediaInfo:
    return MediaInfo(
        path="benchmark", kind="video", width=width, height=height, frames=frames, rate="24", bit_depth=16,
        chroma="rgb", codec="none", pixel_format="", range="full", primaries="bt709", transfer="bt709",
        matrix="bt709",
    )  # fmt: skip
