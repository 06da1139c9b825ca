"""What is known of a piece of footage before a frame of it is decoded."""

from __future__ import annotations

import os
from fractions import Fraction
from typing import TYPE_CHECKING, Literal, Protocol

import numpy as np
from pydantic import BaseModel, ConfigDict

from ..errors import BadInput
from ..frames import Array, Frame, luma
from .timecode import shifted

if TYPE_CHECKING:
    from .sequence import Layers

LARGEST_SIDE = 16384
"""Pixels; beyond this a header is taken for damaged."""

MEGAPIXELS = 100
"""Pixels of a frame in millions, unless `YELLOW_CLEAN_MOST_MEGAPIXELS` says more or less."""


LOSSY_INTRA_CODECS = frozenset({"prores", "dnxhd", "mjpeg", "jpeg2000", "cfhd", "dvvideo", "hap"})
INTRA_CODECS = LOSSY_INTRA_CODECS | frozenset(
    {
        *("none", "ffv1", "rawvideo", "v210", "v308", "v408", "v410", "r210"),
        *("huffyuv", "ffvhuff", "utvideo", "magicyuv", "qtrle"),
        *("png", "tiff", "dpx", "exr", "gif", "zlib"),
    }
)
"""Codecs, by FFmpeg's names, that never predict a frame from another ("none": never coded)."""


Lines = Literal["top", "bottom"]
"""Lines of a frame: 0, 2, 4 … or the others."""

Fields = Literal["", "top", "bottom"]
"""The lines that were seen first, where each field is read as a frame; empty where frames are the file's."""


class AudioTrack(BaseModel):
    """One audio stream as the container describes it."""

    model_config = ConfigDict(frozen=True)

    codec: str
    rate: int
    channels: int


class MediaInfo(BaseModel):
    """A shot's technical description. `rate` is a fraction as text ("24000/1001", "24")."""

    model_config = ConfigDict(frozen=True)

    path: str
    kind: Literal["video", "sequence"]
    width: int
    height: int
    pixel_aspect: str = "1"
    """Width of a pixel over its height, as a fraction, of the upright picture."""
    rotation: Literal[0, 90, 180, 270] = 0
    """Degrees counter-clockwise by which the stored picture is turned to stand upright; frames are upright."""
    frames: int
    first_number: int = 0
    """Number of the first picture of a sequence."""
    rate: str
    bit_depth: int
    chroma: Literal["4:2:0", "4:2:2", "4:4:4", "4:1:1", "4:4:0", "rgb", "gray"]
    codec: str
    pixel_format: str
    range: Literal["full", "limited"]
    range_chosen: bool = False
    """Whether the range was asked for, whatever is usual in a format."""
    primaries: str
    transfer: str
    matrix: str
    untagged: list[str] = []
    """Which of primaries, transfer, matrix and range the file does not tell."""
    colour_hints: list[str] = []
    """What its metadata call its colours, in the words that they use."""
    space: str = ""
    """The colour space that its values were said to be in by hand; empty where the file is believed."""
    siting: str = "left"
    """Where halved chroma lies (a key of `planes.SITINGS`)."""
    bit_rate: int | None = None
    timecode: str | None = None
    camera: str = ""
    """Make and model, where the file tells them."""
    gain: str = ""
    """ISO, where the file tells it."""
    variable_rate: bool = False
    fields: Fields = ""
    skipped: int = 0
    """Frames of the file before the first one of this piece of it."""
    audio: list[AudioTrack] = []
    notes: list[str] = []
    resampled: bool = False
    """Whether the frames were resized or converted since they were read, so that nothing is known of the samples
    that their chroma came from."""

    @property
    def clip_levels(self) -> tuple[float, float]:
        """Frame values at and beyond which the recording cuts off: limited range keeps some headroom
        (codes 1 to 254 of 8 bits, ITU-R BT.709-6 item 5.6; a little inside, for rounding)."""
        return (0.0, 1.0) if self.range == "full" else (-0.065, 1.085)

    @property
    def is_float(self) -> bool:
        """Whether samples are recorded as floating point, which has no codes."""
        return self.pixel_format in {"half", "float", "double"} or self.pixel_format.startswith(("gbrpf", "grayf"))

    @property
    def intra_only(self) -> bool:
        """Whether every frame is coded for itself, so that no noise is carried from frame to frame."""
        return self.kind == "sequence" or self.codec in INTRA_CODECS

    @property
    def lossy(self) -> bool:
        """Whether the codec takes something away. What it leaves of noise is nought in many coefficients and more
        in others, and may have been carried from frame to frame: by it, or by one before a transcoding."""
        return not self.intra_only or (self.kind == "video" and self.codec in LOSSY_INTRA_CODECS)

    @property
    def fps(self) -> Fraction:
        return Fraction(self.rate)

    @property
    def stored_size(self) -> tuple[int, int]:
        """Width and height before the picture is turned upright."""
        return (self.height, self.width) if self.rotation in {90, 270} else (self.width, self.height)

    @property
    def stored_aspect(self) -> Fraction:
        """Pixel aspect before the picture is turned upright."""
        aspect = Fraction(self.pixel_aspect)
        return 1 / aspect if self.rotation in {90, 270} else aspect


def upright(picture: Array, rotation: int) -> Array:
    """A stored picture, H×W or H×W×3, turned counter-clockwise by `rotation` degrees."""
    return np.ascontiguousarray(np.rot90(picture, rotation // 90))


def as_stored(picture: Array, rotation: int) -> Array:
    """The way back from `upright`."""
    return np.ascontiguousarray(np.rot90(picture, -rotation // 90))


class Source(Protocol):
    """Footage that can be read frame by frame in any order."""

    info: MediaInfo

    def read(self, n: int) -> Frame:
        """Frame `n` (0 to frames-1), the whole of it."""

    def luma(self, n: int) -> Array:
        """Y' of frame `n` with BT.709 weights, H×W; sources that hold it as it is spare the colour."""
        return luma(self.read(n))

    def damage(self, n: int) -> str:
        """What is wrong with frame `n`, known once it was read; empty when nothing is."""
        return ""

    def coding_error(self, n: int) -> Array | None:
        """RMS error that the codec was let make in luma of frame `n`, H×W in frame units, by its quantisers; None
        where the file does not tell."""
        return None

    def layers(self, n: int) -> Layers | None:
        """All that the picture file of frame `n` holds, as stored; None where frames are no files of their own."""
        return None

    def close(self) -> None: ...


WILDEST = 1024.0
"""Frame values beyond ± so many whites are no light that was recorded: a broken pixel of a float picture."""


class Tame(Source):
    """Another source with wild values cut to what can be reckoned with."""

    def __init__(self, source: Source) -> None:
        self._source, self.info = source, source.info

    def read(self, n: int) -> Frame:
        return tamed(self._source.read(n))

    def luma(self, n: int) -> Array:
        return tamed(self._source.luma(n))

    def damage(self, n: int) -> str:
        return self._source.damage(n)

    def coding_error(self, n: int) -> Array | None:
        return self._source.coding_error(n)

    def close(self) -> None:
        """The source stays open for whoever opened it."""


class Excerpt(Source):
    """The frames of another source from `frames.start` on, before `frames.stop`, counted from 0. It owns the source
    unless that is `shared`. Raises `BadInput` for frames that are not all there."""

    def __init__(self, source: Source, frames: range, *, shared: bool = False) -> None:
        self._source, self._first, self._shared = source, frames.start, shared
        whole = source.info
        if not 0 <= frames.start < frames.stop <= whole.frames:
            raise BadInput(
                f"{whole.path}: frames {frames.start} to {frames.stop - 1} are not all in it; it has"
                f" {whole.frames}. Was it cut, or replaced? Take the event again."
            )
        timecode = shifted(whole.timecode, frames.start, whole.fps) if whole.timecode else None
        told = {"frames": len(frames), "skipped": whole.skipped + frames.start, "timecode": timecode}
        first_number = whole.first_number + frames.start if whole.kind == "sequence" else 0
        self.info = whole.model_copy(update={**told, "first_number": first_number})

    def read(self, n: int) -> Frame:
        return self._source.read(self._number(n))

    def luma(self, n: int) -> Array:
        return self._source.luma(self._number(n))

    def damage(self, n: int) -> str:
        return self._source.damage(self._number(n))

    def coding_error(self, n: int) -> Array | None:
        return self._source.coding_error(self._number(n))

    def layers(self, n: int) -> Layers | None:
        return self._source.layers(self._number(n))

    def close(self) -> None:
        if not self._shared:
            self._source.close()

    def _number(self, n: int) -> int:
        checked_frame(self.info, n)
        return self._first + n


def wild(frame: Array) -> bool:
    """Whether a frame holds values that no light makes."""
    return bool(frame.min(initial=0) < -WILDEST or frame.max(initial=0) > WILDEST)


def tamed(frame: Array) -> Array:
    """The frame, with wild values cut off."""
    return np.clip(frame, -WILDEST, WILDEST) if wild(frame) else frame


def checked_size(path: str, width: int, height: int) -> None:
    """Refuse sizes that no frame can have."""
    if not (0 < width <= LARGEST_SIDE and 0 < height <= LARGEST_SIDE):
        raise BadInput(
            f"{path}: a frame size of {width}×{height} pixels is out of range"
            f" (1 to {LARGEST_SIDE} a side); a file that says so is damaged or not footage."
        )
    if width * height > most_pixels():
        raise BadInput(
            f"{path}: a frame size of {width}×{height} pixels is out of range: the limit is"
            f" {most_pixels() / 1e6:g} megapixels; if it is meant, raise YELLOW_CLEAN_MOST_MEGAPIXELS."
        )


def most_pixels() -> int:
    """The largest picture that is read or made, in pixels. Raises `BadInput` for nonsense in the environment."""
    asked = os.environ.get("YELLOW_CLEAN_MOST_MEGAPIXELS", str(MEGAPIXELS))
    try:
        return int(float(asked) * 1e6)
    except (ValueError, OverflowError):
        raise BadInput(f"YELLOW_CLEAN_MOST_MEGAPIXELS: {asked!r} is no number; write 100, for example.") from None


def checked_picture(frame: Frame, info: MediaInfo) -> Frame:
    """Refuse to write a frame of another size than the file is for."""
    height, width = frame.shape[:2]
    if (width, height) != (info.width, info.height):
        raise BadInput(
            f"a frame of {width}×{height} pixels cannot be written into a file of {info.width}×{info.height};"
            " render the whole plan again."
        )
    return frame


def checked_frame(info: MediaInfo, n: int) -> None:
    """Refuse frame numbers outside the shot."""
    if not 0 <= n < info.frames:
        raise BadInput(f"{info.path}: frame {n} does not exist; the shot has frames 0 to {info.frames - 1}.")
