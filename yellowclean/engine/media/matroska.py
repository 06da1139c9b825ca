"""What Matroska files say of their video beyond what the library at hand writes: pixel aspect, light of HDR.

They stand in the Video element of the track: DisplayWidth and DisplayHeight, and in its Colour element MaxCLL,
MaxFALL and MasteringMetadata (RFC 9559, section 5.1.4.1.28). The writer first gives the track a name of blanks;
that element is then taken out and Video grown by as many bytes, so that nothing else in the file moves. Elements,
sizes and checksums are those of EBML (RFC 8794).
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

from ..errors import BadInput
from ..primaries import XY
from .light import BLACKEST, LightLevel

SEGMENT, TRACKS, TRACK, VIDEO, NAME, CRC = 0x18538067, 0x1654AE6B, 0xAE, 0xE0, 0x536E, 0xBF
DISPLAY_UNIT, DISPLAY_WIDTH, DISPLAY_HEIGHT = 0x54B2, 0x54B0, 0x54BA

ASPECT = b"\x03"
"""The display unit in which width and height are an aspect ratio."""

HEAD = 1 << 16
"""Bytes at the start of a file among which the tracks are described."""

COLOUR, MASTERING, CONTENT, AVERAGE = 0x55B0, 0x55D0, 0x55BC, 0x55BD
FIRST_OF_MASTERING = 0x55D1
"""Red x, the first of ten: red, green, blue and white (x, y each), the brightest and the darkest light."""

ROOM = 192
"""Length of the name that is replaced."""


def write_facts(
    file: Path, size: tuple[int, int], *, aspect: Fraction = Fraction(1),
    light: tuple[str, LightLevel] | None = None,
) -> None:  # fmt: skip
    """Put the pixel aspect, and HDR's primaries with the light level, into a finished file whose first track is a
    video named by blanks."""
    with file.open("r+b") as stream:
        head = bytearray(stream.read(HEAD))
        tracks = _inner(head, _inner(head, range(len(head)), SEGMENT), TRACKS)
        track = _inner(head, tracks, TRACK)
        if not _inner(head, track, VIDEO) or not _inner(head, track, NAME) or tracks.stop == len(head):
            raise BadInput(f"{file}: pixel aspect or light level could not be written; write another format.")
        rest = b""
        for key, start, inside in _elements(head, track):
            if key == VIDEO:
                shown = _with_display(head, inside, aspect * size[0] / size[1]) if aspect != 1 else None
                video = bytes(head[inside.start : inside.stop]) if shown is None else shown
                rest += _element(VIDEO, _with_light(video, *light) if light else video)
            elif key != NAME:
                rest += bytes(head[start : inside.stop])
        spare = len(track) - len(rest) - 2
        head[track.start : track.stop] = rest + b"\xec" + bytes([0x80 | spare]) + bytes(spare)
        crc = _inner(head, tracks, CRC)
        if crc:
            head[crc.start : crc.stop] = zlib.crc32(head[crc.stop : tracks.stop]).to_bytes(4, "little")
        stream.seek(0)
        stream.write(head)


def _with_display(head: bytearray, video: range, shown: Fraction) -> bytes:
    """The content of a Video element with the aspect at which it is shown."""
    kept = b"".join(
        bytes(head[start : inside.stop])
        for key, start, inside in _elements(head, video)
        if key not in {DISPLAY_UNIT, DISPLAY_WIDTH, DISPLAY_HEIGHT}
    )
    sides = shown.numerator.to_bytes(4, "big"), shown.denominator.to_bytes(4, "big")
    told = zip((DISPLAY_UNIT, DISPLAY_WIDTH, DISPLAY_HEIGHT), (ASPECT, *sides), strict=True)
    return kept + b"".join(_element(key, value) for key, value in told)


def _with_light(video: bytes, primaries: str, level: LightLevel) -> bytes:
    """The content of a Video element with what HDR says in Colour."""
    data, kept, colour = bytearray(video), b"", b""
    for key, start, inside in _elements(data, range(len(data))):
        if key == COLOUR:
            colour = bytes(data[inside.start : inside.stop])
        else:
            kept += bytes(data[start : inside.stop])
    told = (*XY[primaries], float(level.mastering_peak), BLACKEST)
    mastering = b"".join(_element(FIRST_OF_MASTERING + k, struct.pack(">f", v)) for k, v in enumerate(told))
    figures = zip((CONTENT, AVERAGE), (level.content, level.frame_average), strict=True)
    colour += b"".join(_element(key, round(value).to_bytes(2, "big")) for key, value in figures)
    return kept + _element(COLOUR, colour + _element(MASTERING, mastering))


def _element(key: int, content: bytes) -> bytes:
    """An element with its size in two bytes."""
    return key.to_bytes((key.bit_length() + 7) // 8, "big") + (0x4000 | len(content)).to_bytes(2, "big") + content


def _inner(data: bytearray, within: range, wanted: int) -> range:
    """Where the content of the first such element lies."""
    return next((inside for key, _, inside in _elements(data, within) if key == wanted), range(0))


def _elements(data: bytearray, within: range) -> Iterator[tuple[int, int, range]]:
    """(identifier, start, content) of the elements that follow one another in a range."""
    at = within.start
    while at < within.stop:
        start = at
        key, at = _number(data, at, keep_marker=True)
        size, at = _number(data, at, keep_marker=False)
        yield key, start, range(at, min(at + size, within.stop))
        at += size


def _number(data: bytearray, at: int, *, keep_marker: bool) -> tuple[int, int]:
    """A number of variable length (its first set bit tells how long), and where the next one starts."""
    length = 9 - data[at].bit_length()
    value = int.from_bytes(data[at : at + length], "big")
    return value if keep_marker else value & ((1 << (7 * length)) - 1), at + length
