"""Numbered image sequences through OpenImageIO."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Literal

import numpy as np
import OpenImageIO as oiio

from ..errors import BadInput
from ..frames import Frame
from .info import MediaInfo, Source, checked_frame, checked_size
from .tags import UNKNOWN, camera_tags

SEQUENCE_ENDINGS = {".png", ".tif", ".tiff", ".dpx", ".exr"}
DEFAULT_RATE = "24"

_HASHES = re.compile(r"#+|%0?(\d*)d")
_LAST_NUMBER = re.compile(r"(\d+)(?=\.[A-Za-z]+$)")


def is_sequence_name(path: Path) -> bool:
    return path.suffix.lower() in SEQUENCE_ENDINGS


def numbered_name(pattern: Path, number: int) -> Path:
    """The file of one number, from name_####.png, name_%04d.png or a member of the sequence."""
    mark = _HASHES.search(pattern.name)
    if mark:
        width = int(mark.group(1) or 1) if mark.group(0).startswith("%") else len(mark.group(0))
    else:
        mark = _LAST_NUMBER.search(pattern.name)
        if not mark:
            raise BadInput(f"{pattern}: holds no frame number; name a sequence as name_####{pattern.suffix}.")
        width = len(mark.group(1))
    name = f"{pattern.name[: mark.start()]}{number:0{width}d}{pattern.name[mark.end() :]}"
    return pattern.with_name(name)


def sequence_files(path: Path) -> list[Path]:
    """The members in order. `path` is a pattern, a member, or a folder that holds one sequence."""
    if path.is_dir():
        members = sorted(p for p in path.iterdir() if is_sequence_name(p) and _LAST_NUMBER.search(p.name))
        if not members:
            raise BadInput(f"{path}: holds no numbered pictures (PNG, TIFF, DPX or EXR).")
        path = members[0]
    mark = _HASHES.search(path.name) or _LAST_NUMBER.search(path.name)
    if mark is None:
        if not path.is_file():
            raise BadInput(f"{path}: does not exist; check the path.")
        return [path]
    before, after = path.name[: mark.start()], path.name[mark.end() :]
    shape = re.compile(re.escape(before) + r"(\d+)" + re.escape(after) + "$")
    folder = path.parent if path.parent.is_dir() else None
    found = [(m, p) for p in (folder.iterdir() if folder else ()) if (m := shape.match(p.name))]
    if not found:
        raise BadInput(f"{path}: no file of that sequence exists; check the path.")
    found.sort(key=lambda pair: int(pair[0].group(1)))
    numbers = [int(m.group(1)) for m, _ in found]
    missing = sorted(set(range(numbers[0], numbers[-1] + 1)) - set(numbers))
    if missing:
        raise BadInput(f"{path}: the sequence lacks frame {missing[0]} ({len(missing)} missing in all).")
    return [p for _, p in found]


class SequenceSource(Source):
    """Pictures of one size, one a frame. Every file is opened only when its frame is read."""

    def __init__(self, path: Path) -> None:
        self._files = sequence_files(path)
        first = _spec(self._files[0])
        checked_size(str(self._files[0]), first.width, first.height)
        rate, assumed = _rate(first)
        camera, gain = camera_tags([{a.name: a.value for a in first.extra_attribs}])
        self.info = MediaInfo(
            path=str(path),
            kind="sequence",
            width=first.width,
            height=first.height,
            frames=len(self._files),
            rate=rate,
            bit_depth=first.getattribute("oiio:BitsPerSample") or first.format.basesize() * 8,
            chroma="gray" if first.nchannels < 3 else "rgb",
            codec=self._files[0].suffix.lower().lstrip("."),
            pixel_format=str(first.format),
            range="full",
            primaries=UNKNOWN,
            transfer=_transfer(first),
            matrix="rgb",
            timecode=first.getattribute("smpte:TimeCode") or None,
            camera=camera,
            gain=gain,
            notes=[f"No frame rate in the pictures; {rate} was assumed."] if assumed else [],
        )
        self.read(0)

    def read(self, n: int) -> Frame:
        checked_frame(self.info, n)
        file = self._files[n]
        pixels = _pixels(file)
        if pixels.shape[:2] != (self.info.height, self.info.width):
            raise BadInput(
                f"{file}: is {pixels.shape[1]}×{pixels.shape[0]} pixels, the sequence"
                f" {self.info.width}×{self.info.height}; take it out or render it again."
            )
        if not np.isfinite(pixels).all():
            raise BadInput(f"{file}: holds values that are not numbers (NaN or infinite); render it again.")
        return pixels

    def close(self) -> None:
        """Nothing stays open between frames."""


def _spec(file: Path) -> oiio.ImageSpec:
    picture = oiio.ImageInput.open(str(file))
    if picture is None:
        raise BadInput(f"{file}: cannot be read as a picture ({_oiio_reason()}); render it again.")
    spec = picture.spec()
    picture.close()
    return spec


def _pixels(file: Path) -> Frame:
    """H×W×3; grey is repeated, alpha dropped. Partly readable files are refused."""
    picture = oiio.ImageInput.open(str(file))
    if picture is None:
        raise BadInput(f"{file}: cannot be read as a picture ({_oiio_reason()}); render it again.")
    try:
        values = picture.read_image(0, 0, 0, min(picture.spec().nchannels, 3), oiio.FLOAT)
        trouble = picture.geterror()
    finally:
        picture.close()
    if values is None or trouble:
        raise BadInput(f"{file}: is damaged or cut short ({_line(trouble)}); render it again.")
    pixels = np.asarray(values, np.float32)
    return pixels if pixels.shape[2] == 3 else np.repeat(pixels[..., :1], 3, axis=2)


def _oiio_reason() -> str:
    return _line(oiio.geterror())


def _line(text: str) -> str:
    return text.strip().split("\n")[0].rstrip(".")[:160] or "no reason given"


def _rate(spec: oiio.ImageSpec) -> tuple[str, bool]:
    value = spec.getattribute("FramesPerSecond") or spec.getattribute("dpx:FrameRate")
    if isinstance(value, tuple) and value[1]:
        return (str(value[0]) if value[1] == 1 else f"{value[0]}/{value[1]}"), False
    if isinstance(value, float) and value > 0:
        return f"{round(value * 1000)}/1000", False
    return DEFAULT_RATE, True


def _transfer(spec: oiio.ImageSpec) -> Literal["linear", "unknown"]:
    if spec.format not in (oiio.HALF, oiio.FLOAT):
        return "unknown"
    space = str(spec.getattribute("oiio:ColorSpace") or "").lower()
    return "linear" if "lin" in space or "scene" in space or not space else "unknown"
