"""Numbered image sequences through OpenImageIO."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
import OpenImageIO as oiio

from ..errors import BadInput
from ..frames import Array, Frame
from .boundary import checked_file, guarded
from .info import MediaInfo, Source, checked_frame, checked_size, upright
from .names import number_of, sequence_files
from .picture_tags import FLOATS, told


@dataclass(frozen=True, slots=True)
class Layers:
    """A picture file whole: all its channels over its data window, as stored, and what it says of itself.
    `colour` are the numbers of the channels that R', G' and B' are read from."""

    spec: oiio.ImageSpec
    values: Array
    colour: tuple[int, int, int]


class SequenceSource(Source):
    """Pictures of one size, one a frame. Every file is opened only when its frame is read."""

    def __init__(self, path: Path) -> None:
        self._files = sequence_files(path)
        first = _spec(self._files[0])
        ending = self._files[0].suffix.lower().lstrip(".")
        fields = told(first, ending)
        turned = fields["rotation"] in {90, 270}
        width, height = first.full_width, first.full_height
        self.info = MediaInfo(
            path=str(path),
            kind="sequence",
            width=height if turned else width,
            height=width if turned else height,
            frames=len(self._files),
            first_number=number_of(self._files[0]),
            bit_depth=first.getattribute("oiio:BitsPerSample") or first.format.basesize() * 8,
            chroma="gray" if len(set(_colour_channels(first))) < 3 else "rgb",
            codec=ending,
            pixel_format=str(first.format),
            range="full",
            matrix="rgb",
            **fields,
        )
        self.read(0)

    @guarded
    def read(self, n: int) -> Frame:
        checked_frame(self.info, n)
        file = self._files[n]
        spec, values = _read(file, colour_only=True)
        width, height = self.info.stored_size
        if (spec.full_height, spec.full_width) != (height, width):
            raise BadInput(
                f"{file}: is {spec.full_width}×{spec.full_height} pixels, the sequence"
                f" {width}×{height}; take it out or render it again."
            )
        if not np.isfinite(values).all():
            raise BadInput(f"{file}: holds values that are not numbers (NaN or infinite); render it again.")
        return upright(_on_display(spec, values), self.info.rotation)

    @guarded
    def layers(self, n: int) -> Layers:
        """The picture file of frame `n` with all its channels, as stored."""
        checked_frame(self.info, n)
        spec, values = _read(self._files[n], colour_only=False)
        return Layers(spec, values, _colour_channels(spec))

    def close(self) -> None:
        """Nothing stays open between frames."""


def _on_display(spec: oiio.ImageSpec, values: Frame) -> Frame:
    """The display window's pixels out of the data window's; black where there are none."""
    left, top = spec.x - spec.full_x, spec.y - spec.full_y
    height, width = values.shape[:2]
    if (left, top, width, height) == (0, 0, spec.full_width, spec.full_height):
        return values
    shown = np.zeros((spec.full_height, spec.full_width, 3), np.float32)
    inside, of_data = shared_windows(spec)
    shown[inside] = values[of_data]
    return shown


def shared_windows(spec: oiio.ImageSpec) -> tuple[tuple[slice, slice], tuple[slice, slice]]:
    """What display and data window have in common, as an index of the one and of the other."""
    left, top = max(spec.x, spec.full_x), max(spec.y, spec.full_y)
    right = max(min(spec.x + spec.width, spec.full_x + spec.full_width), left)
    bottom = max(min(spec.y + spec.height, spec.full_y + spec.full_height), top)
    return (
        (slice(top - spec.full_y, bottom - spec.full_y), slice(left - spec.full_x, right - spec.full_x)),
        (slice(top - spec.y, bottom - spec.y), slice(left - spec.x, right - spec.x)),
    )


def _colour_channels(spec: oiio.ImageSpec) -> tuple[int, int, int]:
    """Which channels are R', G' and B': by name, else the first three; one three times for grey."""
    names = [name.upper() for name in spec.channelnames]
    if {"R", "G", "B"} <= set(names):
        return names.index("R"), names.index("G"), names.index("B")
    others = [k for k in range(spec.nchannels) if k != spec.alpha_channel]
    if len(others) >= 3:
        return others[0], others[1], others[2]
    first = others[0] if others else 0
    return first, first, first


def _opened(file: Path) -> oiio.ImageInput:
    checked_file(file)
    asked = oiio.ImageSpec()
    asked.attribute("oiio:UnassociatedAlpha", 1)  # as stored: nothing is multiplied into the colours
    picture = oiio.ImageInput.open(str(file), asked)
    if picture is None:
        raise BadInput(f"{file}: cannot be read as a picture ({_line(oiio.geterror())}); render it again.")
    spec = picture.spec()
    for width, height in ((spec.width, spec.height), (spec.full_width, spec.full_height)):
        checked_size(str(file), width, height)
    return picture


def _spec(file: Path) -> oiio.ImageSpec:
    picture = _opened(file)
    spec = picture.spec()
    picture.close()
    return spec


def _read(file: Path, *, colour_only: bool) -> tuple[oiio.ImageSpec, npt.NDArray[np.float32]]:
    """Spec and float32 samples, H×W×3 of the colour or H×W×channels of all. Partly readable files are refused."""
    picture = _opened(file)
    try:
        spec = picture.spec()
        colour = _colour_channels(spec)
        first, end = (min(colour), max(colour) + 1) if colour_only else (0, spec.nchannels)
        values = picture.read_image(0, 0, first, end, oiio.FLOAT)
        trouble = picture.geterror()
    finally:
        picture.close()
    if values is None or trouble:
        raise BadInput(f"{file}: is damaged or cut short ({_line(trouble)}); render it again.")
    samples = np.asarray(values, np.float32).reshape(spec.height, spec.width, end - first)
    if colour_only and (first, end) != (colour[0], colour[2] + 1):
        samples = samples[..., [k - first for k in colour]]
    elif colour_only and end - first == 1:
        samples = np.repeat(samples, 3, axis=2)
    return spec, np.ascontiguousarray(samples)


def _line(text: str) -> str:
    return text.strip().split("\n")[0].rstrip(".")[:160] or "no reason given"


def is_float(spec: oiio.ImageSpec) -> bool:
    """Whether a picture's samples are half, float or double."""
    return spec.format in FLOATS
