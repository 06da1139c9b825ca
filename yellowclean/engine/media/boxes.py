"""HDR's static metadata in QuickTime and MP4 files, which the library at hand cannot be told.

They stand as boxes `mdcv` and `clli` in the sample entry of the video track (ISO/IEC 14496-12:2022, sections 12.1.6
and 12.1.7). The description of the tracks lies behind the samples in files that were written here, so that it may
grow and nothing else moves.
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO

from ..errors import BadInput
from ..primaries import XY
from .light import BLACKEST, LightLevel

WAY = (b"trak", b"mdia", b"minf", b"stbl", b"stsd")
"""Boxes in boxes from `moov` to the sample entries."""

ENTRIES = 8
"""Bytes of `stsd` before its first entry: version, flags and count."""


def write_light_boxes(file: Path, primaries: str, level: LightLevel) -> None:
    """Put mastering display and light level into a finished file whose first track is its video."""
    with file.open("r+b") as stream:
        start = _last_of(stream, b"moov", file)
        stream.seek(start)
        data = stream.read()
        chain, inner = [0], (8, len(data))
        for kind in WAY:
            at, length = _found(data, *inner, kind, file)
            chain.append(at)
            inner = at + 8, at + length
        entry = inner[0] + ENTRIES
        chain.append(entry)
        added = mastering_box(primaries, level) + light_box(level)
        end = entry + _size(data, entry)
        moov = bytearray(data[:end] + added + data[end:])
        for at in chain:
            moov[at : at + 4] = (_size(data, at) + len(added)).to_bytes(4, "big")
        stream.seek(start)
        stream.write(moov)


def mastering_box(primaries: str, level: LightLevel) -> bytes:
    """`mdcv`: green, blue, red and white in steps of 0.00002, light in steps of 0.0001 cd/m²."""
    rx, ry, gx, gy, bx, by, wx, wy = (round(v * 50000) for v in XY[primaries])
    light = level.mastering_peak * 10000, round(BLACKEST * 10000)
    return _box(b"mdcv", struct.pack(">8H2I", gx, gy, bx, by, rx, ry, wx, wy, *light))


def light_box(level: LightLevel) -> bytes:
    return _box(b"clli", struct.pack(">2H", round(level.content), round(level.frame_average)))


def _box(kind: bytes, content: bytes) -> bytes:
    return struct.pack(">I", 8 + len(content)) + kind + content


def _last_of(stream: BinaryIO, kind: bytes, file: Path) -> int:
    """Where the box lies that ends a file, without reading the others."""
    at, end = 0, stream.seek(0, 2)
    while at + 8 <= end:
        stream.seek(at)
        head = stream.read(16)
        size = int.from_bytes(head[8:16], "big") if _size(head, 0) == 1 else _size(head, 0)
        if head[4:8] == kind and at + size == end:
            return at
        at += max(size, 8)
    raise BadInput(f"{file}: the light level could not be written; write another format.")


def _found(data: bytes, start: int, end: int, kind: bytes, file: Path) -> tuple[int, int]:
    """Place and size of the first box of a kind."""
    at = start
    while at + 8 <= end:
        if data[at + 4 : at + 8] == kind:
            return at, _size(data, at)
        at += max(_size(data, at), 8)
    raise BadInput(f"{file}: has no {kind.decode()}; render it again.")


def _size(data: bytes, at: int) -> int:
    return int.from_bytes(data[at : at + 4], "big")
