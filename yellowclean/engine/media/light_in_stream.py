"""HDR's static metadata in the stream of H.264 and HEVC: before the first picture, and known after the last.

The encoder is given figures to write (SEI messages 137 and 144; ITU-T H.264 and H.265, both 08/2021, annex D);
when all is written, they are found and replaced by those of the pictures. No byte moves: the figures are chosen
so that none of them needs a byte against emulated start codes more or less than the others.
"""

from __future__ import annotations

import mmap
import struct
from pathlib import Path

from ..primaries import XY
from .light import LightLevel

GIVEN_PEAK, GIVEN_LIGHT = 10_000_001, (0x1234, 0x0567)
"""Figures to be replaced: peak of the mastering display in 0.0001 cd/m², light of content and frames in cd/m²."""

DARKEST = 1
"""0.0001 cd/m², as in the container."""

NEAR = 256
"""Bytes before or behind the one message among which the other stands."""


LIGHT_SETTINGS = {
    "libx264": ("x264-params", ("mastering-display", "cll")),
    "libx265": ("x265-params", ("master-display", "max-cll")),
}
"""By encoder: the option that takes settings, and what they are called."""


def given_to_encoder(primaries: str, of_display: str, of_light: str) -> str:
    """Settings of the encoder by which it writes both messages, under its names."""
    rx, ry, gx, gy, bx, by, wx, wy = _steps(primaries)
    display = f"G({gx},{gy})B({bx},{by})R({rx},{ry})WP({wx},{wy})L({GIVEN_PEAK},{DARKEST})"
    return f"{of_display}={display}:{of_light}={GIVEN_LIGHT[0]},{GIVEN_LIGHT[1]}"


def put_in_stream(file: Path, primaries: str, level: LightLevel) -> int:
    """Replace the figures wherever the encoder wrote them; how many times."""
    rx, ry, gx, gy, bx, by, wx, wy = _steps(primaries)
    colours = b"\x89\x18" + struct.pack(">8H", gx, gy, bx, by, rx, ry, wx, wy)
    message = colours + struct.pack(">I", GIVEN_PEAK)
    light = b"\x90\x04" + struct.pack(">2H", *GIVEN_LIGHT)
    peak = struct.pack(">I", min(level.mastering_peak * 10_000 + 1, 99_999_999))
    told = struct.pack(">2H", *_without_start_code(round(level.content), round(level.frame_average)))
    count, at = 0, 0
    with file.open("r+b") as stream, mmap.mmap(stream.fileno(), 0) as data:
        while (at := data.find(message, at)) >= 0:
            data[at + len(colours) : at + len(message)] = peak
            beside = data.find(light, max(at - NEAR, 0), at + NEAR)
            if beside >= 0:
                data[beside + 2 : beside + len(light)] = told
            count, at = count + 1, at + len(message)
    return count


def _steps(primaries: str) -> tuple[int, ...]:
    """Chromaticities in steps of 0.00002."""
    return tuple(round(value * 50000) for value in XY[primaries])


def _without_start_code(content: int, average: int) -> tuple[int, int]:
    """The figures, the first one more where their bytes would look like a start code."""
    content, average = min(content, 0xFFFE), min(average, 0xFFFF)
    looks_so = content % 256 == 0 and average <= 3
    return content + looks_so, average
