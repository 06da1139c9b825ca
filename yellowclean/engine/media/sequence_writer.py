"""Numbered pictures on their way out: one file a frame, with whatever the source's own file held beside colour."""

from __future__ import annotations

from pathlib import Path
from types import TracebackType
from typing import Any, Self

import cv2
import numpy as np
import numpy.typing as npt
import OpenImageIO as oiio

from ..disk import check_room
from ..errors import BadInput
from ..frames import Array, Frame
from .dither import Dither
from .formats import Destination, OutputFormat
from .info import MediaInfo, Source, as_stored, checked_picture
from .picture_tags import tell
from .planes import quantised
from .sequence import Layers, is_float, shared_windows


class SequenceWriter:
    """One file a frame, in a folder that is emptied into the asked place when all are there."""

    def __init__(self, target: Destination, info: MediaInfo, *, first: int, source: Source | None) -> None:
        self._target, self._info, self._n, self._source = target, info, first, source
        target.discard()  # what a killed render left is none of this one's frames
        target.partial.mkdir()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if error is not None:
            self._target.discard()
        else:
            self._target.publish()

    def write(self, frame: Frame, dither: Dither | None = None) -> None:
        write_member(self._target, self._info, self._n, frame, self._source, dither)
        self._n += 1


def write_member(
    target: Destination, info: MediaInfo, n: int, frame: Frame, source: Source | None = None,
    dither: Dither | None = None,
) -> None:  # fmt: skip
    """Write frame `n` of a shot into the unfinished folder, complete or not at all, under the number that it has
    in the source. Alpha, further channels and the data window come from the source's own file; where the result
    has another size, channels are brought into it. Raises `BadInput` for a frame of another size than that of
    `info`."""
    file = target.member(info.first_number + n)
    half = target.format.ending == ".exr"
    stored = as_stored(checked_picture(frame, info), info.rotation)
    layers = source.layers(n) if source else None
    if layers and source and (source.info.width, source.info.height) != (info.width, info.height):
        layers = _in_size(layers, stored.shape[1], stored.shape[0])
    spec, values = _with_layers(target.format, stored, layers)
    tell(spec, info, n, target.format.ending)
    if target.format.bits not in {8, 16}:
        spec.attribute("oiio:BitsPerSample", target.format.bits)
    for key, value in target.format.options.items():
        spec.attribute(key, value)
    if target.format.ending == ".png":
        spec.attribute("png:compressionLevel", 2)
    begun = file.with_name(f".{file.name}{file.suffix}")
    output = oiio.ImageOutput.create(str(begun))
    turned = dither.turned(-info.rotation // 90) if dither else None
    samples = values if half else _samples(values, target.format.bits, turned)
    done = output is not None and output.open(str(begun), spec) and output.write_image(samples)
    if output is not None:
        done = output.close() and done
    if not done:
        begun.unlink(missing_ok=True)
        check_room(file.parent, spec.image_bytes())
        raise BadInput(f"{file}: could not be written; check the rights of its folder.")
    begun.replace(file)


def _samples(values: Array, bits: int, dither: Dither | None) -> npt.NDArray[Any]:
    """Full-range integers of a depth, H×W×channels, dithered in the first three; in 16 bits where those of the file
    lie between 8 and 16: the library takes their upper ones."""
    most = (1 << bits) - 1
    planes = [
        quantised(np.clip(values[..., k], 0, 1) * np.float32(most), bits, dither if k < 3 else None)
        for k in range(values.shape[2])
    ]
    whole = np.stack(planes, axis=-1)
    return whole if bits in {8, 16} else np.rint(whole.astype(np.float64) * (65535 / most)).astype(np.uint16)


def _in_size(layers: Layers, width: int, height: int) -> Layers:
    """The channels of a picture's display window in another size: area means where it is smaller, else linear."""
    was = layers.spec
    inside, of_data = shared_windows(was)
    shown = np.zeros((was.full_height, was.full_width, was.nchannels), np.float32)
    shown[inside] = layers.values[of_data]
    kernel = cv2.INTER_AREA if width < was.full_width else cv2.INTER_LINEAR
    planes = [cv2.resize(shown[..., k], (width, height), interpolation=kernel) for k in range(was.nchannels)]
    spec = oiio.ImageSpec(was)
    spec.x = spec.y = spec.full_x = spec.full_y = 0
    spec.width, spec.height, spec.full_width, spec.full_height = width, height, width, height
    return Layers(spec, np.stack(planes, axis=-1), layers.colour)


def _with_layers(fmt: OutputFormat, stored: Frame, layers: Layers | None) -> tuple[oiio.ImageSpec, Array]:
    """Spec and samples of a picture: the frame's colour, and the channels beside it that the format holds."""
    height, width = stored.shape[:2]
    form = fmt.ending.removeprefix(".")
    kind = "uint8" if fmt.bits == 8 else "uint16"
    if form == "exr":
        kind = "float" if layers and layers.spec.format == oiio.FLOAT else "half"
    beside = _beside(form, layers)
    if layers is None or (form != "exr" and not beside):
        return oiio.ImageSpec(width, height, 3, kind), np.nan_to_num(stored).astype(np.float32)
    was = layers.spec
    inside, of_data = shared_windows(was)
    if form == "exr":  # the source's own data window, what lies outside the display as it was
        colour, others = layers.values[..., list(layers.colour)], layers.values[..., beside]
        colour[of_data] = stored[inside]
    else:
        colour, others = stored, np.zeros((height, width, len(beside)), np.float32)
        others[inside] = layers.values[of_data][..., beside]
    spec = oiio.ImageSpec(colour.shape[1], colour.shape[0], 3 + len(beside), kind)
    spec.channelnames = ("R", "G", "B", *(was.channelnames[k] for k in beside))
    if was.alpha_channel in beside:
        spec.alpha_channel = 3 + beside.index(was.alpha_channel)
    if form == "exr":
        spec.x, spec.y = was.x, was.y
        spec.full_x, spec.full_y = was.full_x, was.full_y
        spec.full_width, spec.full_height = was.full_width, was.full_height
        formats = was.channelformats or (was.format,) * was.nchannels
        spec.channelformats = (spec.format,) * 3 + tuple(_kept_as(formats[k]) for k in beside)
    elif was.alpha_channel in beside and not is_float(was):
        spec.attribute("oiio:UnassociatedAlpha", 1)
    values = np.concatenate([np.nan_to_num(colour), others], axis=2)
    return spec, np.ascontiguousarray(values, np.float32)


def _beside(form: str, layers: Layers | None) -> list[int]:
    """Numbers of the channels beside colour that a format can hold: all in OpenEXR, in TIFF those of integers, else
    alpha alone."""
    if layers is None:
        return []
    others = [k for k in range(layers.spec.nchannels) if k not in layers.colour]
    if form == "exr" or (form == "tif" and not is_float(layers.spec)):
        return others
    return [k for k in others if k == layers.spec.alpha_channel]


def _kept_as(kind: oiio.TypeDesc) -> oiio.TypeDesc:
    """The type in which OpenEXR keeps samples of a kind: its own three as they are, integers as float."""
    return kind if kind in (oiio.TypeHalf, oiio.TypeFloat, oiio.TypeUInt32) else oiio.TypeFloat


def outputs_of(target: Destination, info: MediaInfo, chosen: range) -> list[Path]:
    """Every file that a render of the frames `chosen` will have written."""
    if not target.format.is_sequence:
        return [target.path]
    return [target.path.parent / target.member(info.first_number + n).name for n in chosen]
