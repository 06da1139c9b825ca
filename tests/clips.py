"""Footage for tests: in memory, and shot with the test camera into a temporary folder."""

from __future__ import annotations

import functools
import tempfile
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import TestCase

import av
import numpy as np

from yellowclean.engine.frames import Array, Frame
from yellowclean.engine.media import MediaInfo, Source
from yellowclean.engine.testcamera import Camera, ShotRecipe, frame_pair, scene_of


class MemorySource(Source):
    """Frames held in memory behind the engine's Source protocol."""

    def __init__(self, frames: list[Frame], **about: Any) -> None:
        self.frames = frames
        self.reads = 0
        self.info = described(frames[0].shape[1], frames[0].shape[0], len(frames), **about)

    def read(self, n: int) -> Frame:
        self.reads += 1
        return self.frames[n]

    def close(self) -> None:
        """Nothing is open."""


def described(width: int, height: int, frames: int, **about: Any) -> MediaInfo:
    """A description with plain defaults."""
    told: dict[str, Any] = {
        "path": "memory", "kind": "video", "width": width, "height": height, "frames": frames, "rate": "24",
        "bit_depth": 16, "chroma": "rgb", "codec": "none", "pixel_format": "none", "range": "full",
        "primaries": "bt709", "transfer": "bt709", "matrix": "bt709",
    }  # fmt: skip
    return MediaInfo(**(told | about))


@functools.cache
def shot_pair(
    scene: str,
    camera: Camera,
    width: int = 320,
    height: int = 192,
    frames: int = 6,
    motion: tuple[float, float, float] | None = None,
    light: tuple[float, float, float] = (1.0, 1.0, 1.0),
) -> tuple[list[Frame], list[Frame]]:
    """(footage, clean truth) of a test-camera shot, clipped as a recording would be."""
    recipe = ShotRecipe(
        name=scene,
        scene=scene,
        camera=camera,
        width=width,
        height=height,
        frames=frames,
        motion=motion,
        light=light,
    )  # type: ignore[arg-type]
    seen = scene_of(recipe)
    pairs = [frame_pair(recipe, seen, n) for n in range(frames)]
    return [np.clip(noisy, 0, 1) for noisy, _ in pairs], [clean for _, clean in pairs]


def psnr(a: Array, b: Array) -> float:
    return float(-10 * np.log10(np.mean((a.astype(np.float64) - b) ** 2)))


def smooth_frames(width: int, height: int, count: int, seed: int = 1) -> list[Frame]:
    """Different smooth pictures that survive any codec well, each with its number in its brightness."""
    y, x = np.mgrid[:height, :width].astype(np.float32)
    rng = np.random.default_rng(seed)
    frames = []
    for n in range(count):
        a, b, c = rng.uniform(0.5, 2, 3)
        waves = [np.sin(x / width * 5 * a + k) * np.cos(y / height * 4 * b + c * k) for k in range(3)]
        picture = np.stack(waves, axis=-1)
        frames.append(((picture - picture.mean()) * 0.1 + 0.25 + 0.01 * n).astype(np.float32))
    return frames


def record(
    path: Path, frames: list[Any], pixel_format: str, codec: str = "ffv1",
    options: dict[str, str] | None = None, **about: Any,
) -> Path:  # fmt: skip
    """A file of these planes, the very same where the codec is lossless. Several `threads` do not always
    give the same file twice."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream(codec, rate=about.pop("rate", 24), options=options or {"level": "3"})
        assert isinstance(stream, av.VideoStream)
        stream.height, stream.width = frames[0][0].shape
        stream.pix_fmt = pixel_format
        if "rotation" in about:
            stream.set_display_rotation(about["rotation"])
        if "aspect" in about:
            stream.codec_context.sample_aspect_ratio = about["aspect"]
        coding, scale = stream.codec_context, about.get("range", 1)
        coding.color_range, coding.colorspace, coding.color_primaries, coding.color_trc = scale, 1, 1, 1
        coding.thread_count = about.get("threads", 0)
        for n, planes in enumerate(frames):
            picture = av.VideoFrame(stream.width, stream.height, pixel_format)
            for plane, values in zip(picture.planes, planes, strict=True):
                lines = np.zeros((plane.height, plane.line_size // values.dtype.itemsize), values.dtype)
                lines[:, : values.shape[1]] = values
                plane.update(lines.tobytes())
            picture.pts, picture.time_base = n, 1 / Fraction(stream.codec_context.rate or 24)
            picture.color_range, picture.colorspace = scale, 1
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))
    return path


def with_tone(path: Path, seconds: int, picture: bool = True, frames: int = 0) -> None:
    """A clip with a tone, or the tone alone; of so many frames where they are told."""
    with av.open(str(path), "w") as container:
        video = container.add_stream("ffv1", rate=24) if picture else None
        sound = container.add_stream("pcm_s16le", rate=48000, layout="stereo")
        if video:
            video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
            for n in range(frames or 24 * seconds):
                frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 4 * n, np.uint8), format="rgb24")
                frame = frame.reformat(format="yuv420p")
                frame.pts, frame.time_base = n, Fraction(1, 24)
                container.mux(video.encode(frame))
            container.mux(video.encode(None))
        wave = (np.sin(np.arange(2000 * frames or 48000 * seconds) / 20) * 8000).astype(np.int16)
        for start in range(0, len(wave), 1000):
            piece = np.repeat(wave[start : start + 1000], 2)[None]
            block = av.AudioFrame.from_ndarray(piece, format="s16", layout="stereo")
            block.sample_rate, block.pts, block.time_base = 48000, start, Fraction(1, 48000)
            container.mux(sound.encode(block))
        container.mux(sound.encode(None))


def class_folder(kind: type[TestCase]) -> Path:
    """A folder that goes away with a class of tests."""
    holder = tempfile.TemporaryDirectory(prefix="yellow-clean-")
    kind.addClassCleanup(holder.cleanup)
    return Path(holder.name)


def temporary_folder(case: Any, inside: Path | None = None) -> Path:
    """A folder that goes away with the test case."""
    holder = tempfile.TemporaryDirectory(prefix="yellow-clean-", dir=inside)
    case.addCleanup(holder.cleanup)
    return Path(holder.name)
