"""What can be written, and where: formats, and destinations under a temporary name until complete."""

from __future__ import annotations

import shutil
from dataclasses import dataclass, field, replace
from pathlib import Path

from ..errors import BadInput
from .info import MediaInfo
from .names import numbered_name
from .planes import HALVED
from .tags import DPX_TRANSFERS, KR_KB, PRIMARIES, UNKNOWN

FINENESS = {"gray": 0, "4:2:0": 1, "4:1:1": 1, "4:2:2": 2, "4:4:0": 2, "4:4:4": 4, "rgb": 4}
"""Samples of colour to four of luma, by sampling."""


@dataclass(frozen=True, slots=True)
class OutputFormat:
    """One way to write: name, ending, title, and for video the codec, pixel format, depth and chroma."""

    name: str
    ending: str
    title: str
    codec: str = ""
    pixel_format: str = ""
    bits: int = 16
    chroma: str = "rgb"
    full_range: bool = False
    options: dict[str, str] = field(default_factory=dict)
    grain: bool = False
    """Whether the shot's grain travels beside the picture, for the player to lay over it."""
    matrix: str = ""
    """The one matrix that the codec can name; empty where it names any."""

    @property
    def is_sequence(self) -> bool:
        return not self.codec

    def for_source(self, info: MediaInfo) -> OutputFormat:
        """This format with the sampling "source" settled: that of the source, where chroma stands apart."""
        if self.chroma != "source":
            chosen = info.range_chosen and self.chroma != "rgb"
            return replace(self, full_range=info.range == "full") if chosen else self
        if info.matrix not in KR_KB or info.chroma in {"rgb", "gray"}:
            return replace(self, chroma="rgb", pixel_format="gbrp16le", full_range=True)
        chroma = info.chroma if info.chroma in HALVED else "4:4:4"
        pixel_format = f"yuv{chroma.replace(':', '')}p16le"
        return replace(self, chroma=chroma, pixel_format=pixel_format, full_range=info.range == "full")

    def lost(self, info: MediaInfo) -> list[str]:
        """What of the footage this format cannot carry, a few words each."""
        settled = self.for_source(info)
        told = []
        if settled.bits < info.bit_depth:
            told.append(f"{info.bit_depth - settled.bits} of the {info.bit_depth} bits")
        if FINENESS[settled.chroma] < FINENESS[info.chroma]:
            told.append(f"the fineness of colour beyond {settled.chroma}")
        if self.is_sequence and info.audio:
            told.append("the sound")
        if self.ending in {".png", ".tif"} and info.timecode:
            told.append("a timecode that other programs read")
        if info.transfer != UNKNOWN and not self.names(info):
            told.append(f"what its values stand for ({info.transfer})")
        return told

    def names(self, info: MediaInfo) -> bool:
        """Whether it has a name for the transfer of the footage: DPX has few, and a codec of which the container
        alone tells has none where the primaries have none."""
        if self.ending == ".dpx":
            return info.transfer in DPX_TRANSFERS
        return not self.matrix or info.primaries in PRIMARIES.values()

    def segment(self, info: MediaInfo) -> OutputFormat:
        """How a piece of a render in this format waits to be joined: the same samples, lossless."""
        settled = self.for_source(info)
        return replace(settled, name="segment", ending=".mkv", codec="ffv1", options=_FFV1, grain=False)


_FFV1 = {"level": "3", "slicecrc": "1", "slices": "4", "g": "1"}

# crf 8: at 14 the coder takes the dither of eight bits for nothing, and ramps step again
_FORMATS = (
    OutputFormat(
        "ffv1", ".mkv", "FFV1 in Matroska, 16-bit RGB, lossless", "ffv1", "gbrp16le", full_range=True,
        options=_FFV1,
    ),
    OutputFormat(
        "ffv1-source", ".mkv", "FFV1 in Matroska, 16-bit in the shot's own sampling, lossless, overshoots kept",
        "ffv1", chroma="source", options=_FFV1,
    ),
    *(
        OutputFormat(
            name, ".mov", f"ProRes {title} in QuickTime, 10-bit", "prores_ks", "yuv422p10le", 10, "4:2:2",
            options={"profile": profile, "vendor": "apl0"},
        )
        for name, title, profile in (
            ("prores-hq", "422 HQ", "hq"), ("prores-422", "422", "standard"), ("prores-lt", "422 LT", "lt"),
            ("prores-proxy", "422 Proxy", "proxy"),
        )
    ),
    *(
        OutputFormat(
            name, ".mov", f"ProRes {title} in QuickTime, 10-bit 4:4:4", "prores_ks", "yuv444p10le", 10, "4:4:4",
            options={"profile": profile, "vendor": "apl0"},
        )
        for name, title, profile in (("prores-4444", "4444", "4444"), ("prores-xq", "4444 XQ", "4444xq"))
    ),
    OutputFormat(
        "dnxhr-hqx", ".mov", "DNxHR HQX in QuickTime, 10-bit 4:2:2", "dnxhd", "yuv422p10le", 10, "4:2:2",
        options={"profile": "dnxhr_hqx"}, matrix="bt709",
    ),
    OutputFormat(
        "dnxhr-444", ".mov", "DNxHR 444 in QuickTime, 10-bit 4:4:4", "dnxhd", "yuv444p10le", 10, "4:4:4",
        options={"profile": "dnxhr_444"}, matrix="bt709",
    ),
    OutputFormat(
        "h264", ".mp4", "H.264 in MP4, 10-bit 4:2:0", "libx264", "yuv420p10le", 10, "4:2:0",
        options={"crf": "14", "preset": "medium"},
    ),
    OutputFormat(
        "h264-8bit", ".mp4", "H.264 in MP4, 8-bit 4:2:0", "libx264", "yuv420p", 8, "4:2:0",
        options={"crf": "8", "preset": "medium"},
    ),
    OutputFormat(
        "hevc", ".mp4", "HEVC in MP4, 10-bit 4:2:0", "libx265", "yuv420p10le", 10, "4:2:0",
        options={"crf": "14", "preset": "medium", "x265-params": "log-level=error"},
    ),
    OutputFormat(
        "av1", ".mp4", "AV1 in MP4, 10-bit 4:2:0", "libsvtav1", "yuv420p10le", 10, "4:2:0",
        options={"crf": "18", "preset": "6"},
    ),
    OutputFormat(
        "av1-grain", ".mp4", "AV1 in MP4, 10-bit 4:2:0, with a table of the shot's grain",
        "libaom-av1", "yuv420p10le", 10, "4:2:0", grain=True,
    ),
    OutputFormat("png", ".png", "PNG sequence, 16-bit"),
    OutputFormat("png-8bit", ".png", "PNG sequence, 8-bit", bits=8),
    OutputFormat("tiff", ".tif", "TIFF sequence, 16-bit", options={"compression": "none"}),
    OutputFormat("dpx", ".dpx", "DPX sequence, 10-bit", bits=10),
    OutputFormat("dpx-16bit", ".dpx", "DPX sequence, 16-bit"),
    *(
        OutputFormat(name, ".exr", f"OpenEXR sequence, half float, {title}", options={"compression": how})
        for name, title, how in (
            ("exr", "zips", "zips"), ("exr-zip", "zip", "zip"), ("exr-piz", "piz", "piz"),
            ("exr-none", "not compressed", "none"),
        )
    ),
)  # fmt: skip
OUTPUT_FORMATS = {fmt.name: fmt for fmt in _FORMATS}


def output_format(name: str) -> OutputFormat:
    """The format of that name. Raises `BadInput`."""
    if name not in OUTPUT_FORMATS:
        raise BadInput(f"{name}: no such format; use one of {', '.join(OUTPUT_FORMATS)}.")
    return OUTPUT_FORMATS[name]


_ENDINGS = {
    ".mkv": "ffv1", ".mov": "prores-hq", ".mp4": "h264", ".m4v": "h264",
    ".dpx": "dpx", ".png": "png", ".tif": "tiff", ".tiff": "tiff", ".exr": "exr",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Destination:
    """Where a result goes and how it is written."""

    path: Path
    format: OutputFormat

    @property
    def partial(self) -> Path:
        """The temporary file (video) or folder (sequence) beside the asked name."""
        stem = f".{self.path.name}.partial"
        return self.path.with_name(stem if self.format.is_sequence else stem + self.path.suffix)

    def member(self, number: int) -> Path:
        """The unfinished file of one frame of a sequence."""
        return self.partial / numbered_name(self.path, number).name

    def discard(self) -> None:
        """Remove whatever was begun."""
        if self.partial.is_dir():
            shutil.rmtree(self.partial, ignore_errors=True)
        else:
            self.partial.unlink(missing_ok=True)

    def publish(self) -> None:
        """Give the finished result its asked name."""
        if not self.format.is_sequence:
            self.partial.replace(self.path)
            return
        for file in sorted(self.partial.iterdir()):
            file.replace(self.path.parent / file.name)
        self.partial.rmdir()


def destination(path: str | Path, format_name: str | None = None) -> Destination:
    """Choose the format from the ending, or check the asked one against it."""
    path = Path(path)
    chosen = format_name or _ENDINGS.get(path.suffix.lower())
    if chosen not in OUTPUT_FORMATS:
        names = ", ".join(f"{f.ending} ({name})" for name, f in OUTPUT_FORMATS.items())
        raise BadInput(f"{path}: no format for that name; use one of {names}.")
    fmt = OUTPUT_FORMATS[chosen]
    if _ENDINGS.get(path.suffix.lower()) not in {
        name for name, other in OUTPUT_FORMATS.items() if other.ending == fmt.ending
    }:
        raise BadInput(f"{path}: {chosen} needs a name that ends in {fmt.ending}.")
    if not path.absolute().parent.is_dir():
        raise BadInput(f"{path}: its folder does not exist; create it first.")
    if fmt.is_sequence:
        numbered_name(path, 0)
    return Destination(path.absolute(), fmt)
