"""From a scene to footage on disk: faults, codec, clean truth and parameters beside it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Literal

import cv2
import numpy as np
from pydantic import BaseModel, ConfigDict

from ..errors import BadInput
from ..frames import Array, Frame, Progress, StopCheck, never, raise_if
from ..media import OUTPUT_FORMATS, Destination, MediaInfo, open_writer
from ..media.formats import OutputFormat
from ..media.info import checked_size
from .scenes import RATE, SCENES, Motion
from .sensor import Camera, expose


class Faults(BaseModel):
    """Faults planted on purpose, each 0 or empty by default."""

    model_config = ConfigDict(frozen=True)

    flicker_percent: float = 0.0
    mains_percent: float = 0.0
    """Strength of bands under mains lamps that beat against a rolling shutter."""
    satellites: int = 0
    dust: int = 0
    interlaced: bool = False
    """Whether each frame is woven of two moments, top lines first."""
    repeated: tuple[int, ...] = ()
    """Frames in whose place the one before was recorded once more."""


class ShotRecipe(BaseModel):
    """Everything that defines one shot of the test camera; saved beside it as parameters.json."""

    model_config = ConfigDict(frozen=True)

    name: str
    scene: Literal["quay", "cloth", "dusk", "basin", "stars", "drying", "figurehead"]
    camera: Camera = Camera()
    faults: Faults = Faults()
    codec: str = "ffv1"
    bit_rate: int | None = None
    frames: int = 48
    width: int = 1280
    height: int = 720
    seed: int = 9
    motion: tuple[float, float, float] | None = None
    light: tuple[float, float, float] = (1.0, 1.0, 1.0)
    """Colour of the light on the scene: (0, 1, 0) is a pure green, in which nothing else shines back."""
    timecode: str = "01:00:00:00"


LEAST_SIDE = 8
"""Pixels of a side that a scene needs."""

_H264_8 = {"preset": "fast", "bf": "2", "g": "48"}

TRUTH = OutputFormat(
    "truth",
    ".mkv",
    "FFV1 in Matroska, 12-bit RGB",
    "ffv1",
    "gbrp12le",
    12,
    full_range=True,
    options=OUTPUT_FORMATS["ffv1"].options,
)

CODECS: dict[str, Callable[[int | None], OutputFormat]] = {
    "ffv1": lambda rate: OUTPUT_FORMATS["ffv1"],
    "prores-hq": lambda rate: OUTPUT_FORMATS["prores-hq"],
    "tiff": lambda rate: OUTPUT_FORMATS["tiff"],
    "h264-8bit": lambda rate: OutputFormat(
        "h264-8bit", ".mp4", "H.264 in MP4, 8-bit 4:2:0", "libx264", "yuv420p", 8, "4:2:0",
        options=_H264_8 | ({"b": str(rate), "maxrate": str(rate), "bufsize": str(rate)} if rate else {"crf": "12"}),
    ),
}  # fmt: skip
"""The camera's recording formats by name, given a bit rate in bits a second (None: near lossless)."""


def shoot(
    recipe: ShotRecipe, folder: Path, progress: Progress | None = None, *, stopped: StopCheck = never
) -> Path:
    """Write footage, truth.mkv (noiseless, 12-bit) and parameters.json into `folder`; the footage's path."""
    checked_size(recipe.name, recipe.width, recipe.height)
    if recipe.codec not in CODECS:
        raise BadInput(f"{recipe.codec}: no such recording format; use one of {', '.join(CODECS)}.")
    folder.mkdir(parents=True, exist_ok=True)
    fmt = CODECS[recipe.codec](recipe.bit_rate)
    name = f"{recipe.name}_####{fmt.ending}" if fmt.is_sequence else f"{recipe.name}{fmt.ending}"
    info = _described(recipe)
    light = scene_of(recipe)
    target = Destination(folder / name, fmt)
    clean = Destination(folder / "truth.mkv", TRUTH)
    with open_writer(target, info) as footage, open_writer(clean, info) as reference:
        for n in range(recipe.frames):
            raise_if(stopped)
            frame, ideal = frame_pair(recipe, light, n)
            footage.write(frame)
            reference.write(ideal)
            if progress:
                progress((n + 1) / recipe.frames)
    (folder / "parameters.json").write_text(recipe.model_dump_json(indent=2) + "\n")
    return folder / name


def scene_of(recipe: ShotRecipe) -> Callable[[int], Array]:
    """The recipe's scene as a function of the frame number."""
    motion = Motion(*recipe.motion) if recipe.motion else None
    return SCENES[recipe.scene](recipe.width, recipe.height, recipe.seed, motion)


def frame_pair(recipe: ShotRecipe, light: Callable[[int], Array], n: int) -> tuple[Frame, Frame]:
    """(footage, truth) of frame n before the codec, both R'G'B' as float; of two moments the first is the truth."""
    colour, per_frame = np.array(recipe.light, np.float32), 2 if recipe.faults.interlaced else 1
    ideal = expose(light(per_frame * n) * colour, recipe.camera.clean(), n)
    recorded = per_frame * (n - 1 if n in recipe.faults.repeated else n)
    moments = range(recorded, recorded + per_frame)
    frame, *second = (expose(_with_faults(light(m) * colour, recipe, m), recipe.camera, m) for m in moments)
    if second:
        frame[1::2] = second[0][1::2]
    return frame, ideal


def flicker_gain(recipe: ShotRecipe, n: int) -> float:
    """The planted gain of frame n: a slow and a fast component of exactly the asked peak amplitude."""
    amplitude = recipe.faults.flicker_percent / 100
    return 1 + amplitude * float(np.sin(2 * np.pi * n / 5.3 + 0.4))


MAINS_CYCLES, MAINS_ROLL = 2.4, 0.17
"""Bands down the picture, and how far they move a frame, as a share of their distance."""


def mains_gain(recipe: ShotRecipe, n: int) -> Array:
    """The planted gain of each row of frame n, height×1×1."""
    down = ((np.arange(recipe.height, dtype=np.float32) + 0.5) / recipe.height)[:, None, None]
    wave = np.sin(2 * np.pi * (MAINS_CYCLES * down + MAINS_ROLL * n))
    gain: Array = 1 + np.float32(recipe.faults.mains_percent / 100) * wave.astype(np.float32)
    return gain


def _with_faults(light: Array, recipe: ShotRecipe, n: int) -> Array:
    faults = recipe.faults
    if faults == Faults():
        return light
    marked = light * np.float32(flicker_gain(recipe, n)) * mains_gain(recipe, n)
    rng = np.random.default_rng((recipe.seed, n, 5))
    height, width = light.shape[:2]
    for _ in range(faults.satellites):
        x, y = int(rng.integers(0, width)), int(rng.integers(0, height // 2))
        dx, dy = int(rng.integers(30, 90)), int(rng.integers(-25, 25))
        cv2.line(marked, (x, y), (x + dx, y + dy), (0.16, 0.17, 0.18), 1, cv2.LINE_AA)
    for _ in range(faults.dust):
        centre = int(rng.integers(0, width)), int(rng.integers(0, height))
        axes = int(rng.integers(1, 4)), int(rng.integers(1, 3))
        shade = float(rng.choice([0.0, 0.12]))
        cv2.ellipse(marked, centre, axes, float(rng.integers(0, 180)), 0, 360, (shade,) * 3, -1, cv2.LINE_AA)
    return marked


def _described(recipe: ShotRecipe) -> MediaInfo:
    return MediaInfo(
        path=recipe.name, kind="video", width=recipe.width, height=recipe.height, frames=recipe.frames,
        rate=str(RATE), bit_depth=16, chroma="rgb", codec="", pixel_format="", range="full",
        primaries="bt709", transfer="bt709" if recipe.camera.curve == "bt709" else "unknown",
        matrix="bt709", timecode=recipe.timecode, camera="Test camera",
        gain=f"ISO {round(400 * 2**recipe.camera.stops_under)}",
    )  # fmt: skip
