"""What a video stream says of itself: size, rate, colour, layout of its samples."""

from __future__ import annotations

import itertools
import re
import threading
from collections import Counter
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal, cast

import av
import av.error
import av.logging
from av.bitstream import BitStreamFilterContext
from av.container import InputContainer
from av.video.stream import VideoStream

from .index import Index
from .info import AudioTrack, MediaInfo
from .planes import SITINGS, Coding
from .tags import KR_KB, MATRICES, PRIMARIES, TRANSFERS, UNKNOWN, camera_tags, colour_hints
from .timecode import believed

COMMON_RATES = [Fraction(n) for n in (24, 25, 30, 48, 50, 60, 100, 120)]
COMMON_RATES += [Fraction(1000 * n, 1001) for n in (24, 30, 48, 60, 120)]

NEAR_RATE = 1e-4
"""Relative distance up to which a rate is a common one: containers that count in milliseconds round it."""

SITING_TAG = "chroma_siting"
"""Our own tag, for codecs whose headers do not tell where chroma lies."""

_SITING = re.compile(r"(chroma_sample_loc_type_top_field|chroma_sample_position)\b.*= (\d+)")
_tracing = threading.Lock()


def described(container: InputContainer, stream: VideoStream, index: Index, path: Path) -> MediaInfo:
    """The description of a file, but for its rotation, which stands on its frames."""
    context, fmt = stream.codec_context, stream.format
    notes: list[str] = []
    rgb = fmt.is_rgb or fmt.name.startswith("pal")
    matrix = "rgb" if rgb else MATRICES.get(int(context.colorspace), UNKNOWN)
    untagged = _untagged(stream, matrix)
    if matrix not in KR_KB and not rgb:
        matrix = "bt709" if stream.height > 576 or stream.width > 1024 else "smpte170m"
        notes.append(f"No colour matrix in the file; {matrix} was assumed from the picture size.")
    full = rgb or int(context.color_range) == 2 or fmt.name.startswith("yuvj")
    if len(fmt.components) < 3 and int(context.color_range) != 1:
        full = True
    if index.counted:
        notes.append("The times in the file are wrong; frames are numbered as they are decoded, seeking is slow.")
    variable = _is_variable(index.times)
    if variable:
        notes.append("Frames come at uneven times (variable frame rate); numbers count frames, not time.")
    camera, gain = camera_tags([container.metadata, stream.metadata])
    return MediaInfo(
        path=str(path),
        kind="video",
        width=stream.width,
        height=stream.height,
        pixel_aspect=str(stream.sample_aspect_ratio or 1),
        frames=len(index.times),
        rate=str(_rate(stream)),
        bit_depth=max(c.bits for c in fmt.components),
        chroma=_chroma(stream),
        codec=context.name,
        pixel_format=fmt.name,
        range="full" if full else "limited",
        primaries=PRIMARIES.get(int(context.color_primaries), UNKNOWN),
        transfer=TRANSFERS.get(int(context.color_trc), UNKNOWN),
        matrix=matrix,
        untagged=untagged,
        colour_hints=colour_hints([container.metadata, stream.metadata]),
        siting=_siting(container, stream),
        bit_rate=stream.bit_rate or container.bit_rate or None,
        timecode=_timecode(container, stream),
        camera=camera,
        gain=gain,
        variable_rate=variable,
        audio=[
            AudioTrack(codec=a.codec_context.name, rate=a.codec_context.sample_rate, channels=a.channels)
            for a in container.streams.audio
            if a.codec_context is not None
        ],
        notes=notes,
    )


def _untagged(stream: VideoStream, matrix: str) -> list[str]:
    """Which colour tags a stream lacks; pictures in R'G'B' need no matrix and are full."""
    context, grey = stream.codec_context, len(stream.format.components) < 3
    told = {
        "primaries": int(context.color_primaries) in PRIMARIES,
        "transfer": int(context.color_trc) in TRANSFERS,
        "matrix": matrix != UNKNOWN or grey,
        "range": grey or matrix == "rgb" or int(context.color_range) != 0 or stream.format.name.startswith("yuvj"),
    }
    return [name for name, known in told.items() if not known]


def _rate(stream: VideoStream) -> Fraction:
    rates = (Fraction(rate) for rate in (stream.average_rate, stream.guessed_rate) if rate)
    told = next((rate for rate in rates if believed(rate)), Fraction(25))
    nearest = min(COMMON_RATES, key=lambda rate: abs(rate - told))
    return nearest if abs(told / nearest - 1) < NEAR_RATE else told


def _siting(container: InputContainer, stream: VideoStream) -> str:
    """Where halved chroma lies: from our own tag, from the stream's headers where the codec has them, else what its
    standard fixes (JPEG's centre; DV's and everybody else's left)."""
    ours = {key.lower(): value for key, value in container.metadata.items()}.get(SITING_TAG)
    if ours in SITINGS:
        return ours
    if stream.codec_context.name == "mjpeg":
        return "center"
    av1 = stream.codec_context.codec.canonical_name == "av1"
    found = _traced(container, stream)
    if found is None:
        return "left"
    if av1:  # AV1 bitstream specification, section 6.4.2: 1 is vertical (left), 2 is colocated
        return "topleft" if found == 2 else "left"
    return list(SITINGS)[found] if found < len(SITINGS) else "left"


def _traced(container: InputContainer, stream: VideoStream) -> int | None:
    """The type of chroma location that the first headers of the stream name, by FFmpeg's trace of them: they
    stand beside the stream or in its first packet. None for codecs that have none."""
    container.seek(0, stream=stream)
    with _tracing:
        level = av.logging.get_level()
        av.logging.set_level(av.logging.TRACE)
        try:
            with av.logging.Capture(local=False) as lines:
                tracer = BitStreamFilterContext("trace_headers", stream)
                for packet in itertools.islice(container.demux(stream), 1):
                    tracer.filter(packet)
        except (av.error.FFmpegError, ValueError):
            return None
        finally:
            av.logging.set_level(level)
    found = [match for _, _, line in lines if (match := _SITING.search(line))]
    return int(found[0][2]) if found else None


def _timecode(container: InputContainer, stream: VideoStream) -> str | None:
    data = [s.metadata for s in container.streams.data]
    for metadata in [stream.metadata, container.metadata, *data]:
        for key, value in metadata.items():
            if key.lower() == "timecode":
                return value
    return None


def _is_variable(times: list[int]) -> bool:
    steps = Counter(b - a for a, b in itertools.pairwise(times))
    if len(steps) < 2:
        return False
    usual = steps.most_common(1)[0][0]
    # Rounding to a coarse time base (milliseconds) makes neighbouring steps; those are no variation.
    odd = sum(count for step, count in steps.items() if abs(step - usual) > max(1, 0.05 * usual))
    return odd > 0.02 * len(times)


def _chroma(stream: VideoStream) -> Literal["4:2:0", "4:2:2", "4:4:4", "4:1:1", "4:4:0", "rgb", "gray"]:
    fmt = stream.format
    if fmt.is_rgb or fmt.name.startswith("pal"):
        return "rgb"
    if len(fmt.components) < 3:
        return "gray"
    across, down = fmt.chroma_width(64), fmt.chroma_height(64)
    names = {(32, 32): "4:2:0", (32, 64): "4:2:2", (64, 64): "4:4:4", (16, 64): "4:1:1", (64, 32): "4:4:0"}
    return cast(Any, names.get((across, down), "4:2:0"))


def coding_of(stream: VideoStream, matrix: str) -> tuple[Coding, list[str]]:
    """The coding of the planes that are read, after any change to a planar layout; notes on what was assumed."""
    fmt = stream.format
    if not readable_planes(fmt):
        fmt = av.VideoFormat(planar_equivalent(fmt), 16, 16)
    full = fmt.is_rgb or int(stream.codec_context.color_range) == 2 or stream.format.name.startswith("yuvj")
    if len(fmt.components) < 3:
        full = int(stream.codec_context.color_range) != 1
    notes = []
    if int(stream.codec_context.color_range) == 0 and not full:
        notes.append("No range tag in the file; limited range (64-940 in 10 bits) was assumed.")
    return Coding(matrix, max(c.bits for c in fmt.components), full), notes


def readable_planes(fmt: av.VideoFormat) -> bool:
    """Whether each component stands alone in its plane, little-endian, 8 to 16 bits, chroma halved at most."""
    parts = fmt.components[:3]
    if fmt.is_bit_stream or fmt.has_palette or (fmt.is_big_endian and parts[0].bits > 8):
        return False
    if any(c.bits < 8 or c.bits > 16 for c in parts) or fmt.name.startswith(("gbrpf", "grayf", "p0", "y2")):
        return False
    if len(parts) == 1:
        return True
    if len(parts) < 3 or sorted(c.plane for c in parts) != [0, 1, 2]:
        return False
    if fmt.name.endswith(("msble", "msbbe")):
        return False
    return fmt.is_rgb or (fmt.chroma_width(64) in {32, 64} and fmt.chroma_height(64) in {32, 64}) is True


def planar_equivalent(fmt: av.VideoFormat) -> str:
    """A planar layout that holds the same samples."""
    bits = max(c.bits for c in fmt.components)
    if fmt.is_rgb or fmt.has_palette:
        return "gbrp" if bits <= 8 else "gbrp16le"
    if len(fmt.components) < 3:
        return "gray" if bits <= 8 else "gray16le"
    halves = fmt.chroma_width(64) < 64, fmt.chroma_height(64) < 64
    layout = {(True, True): "yuv420p", (True, False): "yuv422p"}.get(halves, "yuv444p")
    return layout + ("" if bits <= 8 else "10le" if bits == 10 else "12le" if bits <= 12 else "16le")
