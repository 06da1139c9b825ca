"""Damage to bytes, the same for the same random generator."""

from __future__ import annotations

import re
import struct
from collections.abc import Callable

import numpy as np

Random = np.random.Generator

WILD = [
    *(struct.pack(f, n) for f in ("<I", ">I") for n in (0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 16000, 65535)),
    *(struct.pack(f, x) for f in ("<f", ">f") for x in (float("nan"), float("inf"), -1.0, 1e-9, 1e30)),
    struct.pack("<Q", 2**63), struct.pack(">Q", 2**63 - 1), b"\x00" * 16, b"\xff" * 16, b"../../x", b"%s%n",
    b"\xc3\xa9\xed\xa0\x80",
]  # fmt: skip
WILD_TEXT = [
    b"0", b"-1", b"1e300", b"-1e300", b"NaN", b"Infinity", b"1e999", b"null", b"true", b"[]", b"{}", b'""', b'"x"',
    b"1" * 400, b"9" * 30, b'"\\u0000"', b'"\\ud800"', b"0.5", b'"../x"', b"[" * 300,
]  # fmt: skip
HEAD = 600
"""Bytes of a file's head, in which most of what it says of itself stands."""

_NUMBER = re.compile(rb"-?\d+(\.\d+)?([eE][+-]?\d+)?")
_VALUE = re.compile(rb'-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|"[^"]*"|true|false|null')


def _place(data: bytearray, random: Random) -> int:
    """Half of all damage is to the head."""
    return int(random.integers(min(len(data), HEAD) if random.random() < 0.5 else len(data)))


def _flip(data: bytearray, random: Random) -> None:
    for _ in range(int(2 ** random.integers(7))):
        data[_place(data, random)] ^= 1 << int(random.integers(8))


def _overwrite(data: bytearray, random: Random) -> None:
    at, value = _place(data, random), WILD[random.integers(len(WILD))]
    data[at : at + len(value)] = value


def _noise(data: bytearray, random: Random) -> None:
    at, length = _place(data, random), int(2 ** random.integers(1, 10))
    data[at : at + length] = random.bytes(len(data[at : at + length]))


def _cut(data: bytearray, random: Random) -> None:
    del data[_place(data, random) :]


def _remove(data: bytearray, random: Random) -> None:
    at = _place(data, random)
    del data[at : at + int(2 ** random.integers(1, 12))]


def _repeat(data: bytearray, random: Random) -> None:
    at, length = _place(data, random), int(2 ** random.integers(1, 12))
    data[at:at] = data[at : at + length]


def _insert(data: bytearray, random: Random) -> None:
    at = _place(data, random)
    data[at:at] = random.bytes(int(2 ** random.integers(1, 8)))


def _other_value(data: bytearray, random: Random) -> None:
    """For texts: one number, word or name becomes a wild one."""
    found = list(_VALUE.finditer(bytes(data)))
    if found:
        match = found[random.integers(len(found))]
        data[match.start() : match.end()] = WILD_TEXT[random.integers(len(WILD_TEXT))]


def _other_number(data: bytearray, random: Random) -> None:
    found = list(_NUMBER.finditer(bytes(data)))
    if found:
        match = found[random.integers(len(found))]
        data[match.start() : match.end()] = str(10.0 ** random.integers(-20, 20)).encode()


Damage = Callable[[bytearray, Random], None]
BINARY: list[Damage] = [_flip, _flip, _overwrite, _overwrite, _noise, _cut, _remove, _repeat, _insert]
TEXT: list[Damage] = [_other_value, _other_value, _other_value, _other_number, _flip, _cut, _remove, _repeat]


def damaged(data: bytes, random: Random, *, text: bool = False) -> bytes:
    """`data` with one to three kinds of damage."""
    kinds, result = TEXT if text else BINARY, bytearray(data)
    for _ in range(int(random.integers(1, 4))):
        if result:
            kinds[random.integers(len(kinds))](result, random)
    return bytes(result)
