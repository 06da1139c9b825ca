"""ICC profiles for pictures of which the format has no other place for primaries and curve (TIFF).

A matrix and curves, as ICC.1:2022 (profile version 4.4) lays them out, with the code points of ITU-T H.273 in its
`cicp` tag. Where these name a curve of cameras, it is told as the display's that shows it, of BT.1886.
"""

from __future__ import annotations

import struct
from functools import lru_cache
from typing import Any

import numpy as np

from ..frames import Array
from ..primaries import XY, adapted, to_xyz
from .light import pq_light
from .tags import PRIMARIES, TRANSFERS, code_of

D50 = np.array([0.9642, 1.0, 0.8249])
"""White of the connection space (ICC.1:2022, section 7.2.16)."""

SAMPLES = 1024

_SRGB = (2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045)
"""Of IEC 61966-2-1: (a x + b)^g above d, c x below."""

_POWERS = {"bt709": 2.4, "bt2020-10": 2.4, "bt2020-12": 2.4, "smpte170m": 2.4, "gamma22": 2.2, "linear": 1.0}

CREATED = struct.pack(">6H", 2026, 1, 1, 0, 0, 0)
"""A date that does not change, so that a picture written twice is the same."""


@lru_cache(16)
def icc_profile(primaries: str, transfer: str) -> bytes | None:
    """The profile of pictures with these tags; None where one of them is not known well enough."""
    curve = _curve(transfer)
    if primaries not in XY or curve is None:
        return None
    matrix = to_xyz(primaries)
    to_d50 = adapted(matrix.sum(axis=1), D50, "Bradford")
    columns = (to_d50 @ matrix).T
    tags = {
        b"desc": _text(f"{primaries}, {transfer}"),
        b"cprt": _text("No copyright"),
        b"wtpt": _xyz(D50),
        b"chad": b"sf32" + bytes(4) + b"".join(_fixed(v) for v in to_d50.ravel()),
        **{key: _xyz(column) for key, column in zip((b"rXYZ", b"gXYZ", b"bXYZ"), columns, strict=True)},
        **dict.fromkeys((b"rTRC", b"gTRC", b"bTRC"), curve),
    }
    codes = code_of(PRIMARIES, primaries), code_of(TRANSFERS, transfer)
    if 2 not in codes:
        tags[b"cicp"] = b"cicp" + bytes(4) + bytes((*codes, 0, 1))
    return _laid_out(tags)


def _curve(transfer: str) -> bytes | None:
    if transfer == "srgb":
        return b"para" + bytes(4) + struct.pack(">HH", 3, 0) + b"".join(_fixed(v) for v in _SRGB)
    if transfer in _POWERS:
        return b"para" + bytes(4) + struct.pack(">HH", 0, 0) + _fixed(_POWERS[transfer])
    signal = np.linspace(0, 1, SAMPLES)
    light: Array | None = None
    if transfer == "smpte2084":
        light = pq_light(signal) / 10000
    elif transfer == "arib-std-b67":  # inverse OETF, ITU-R BT.2100-2, table 5
        light = np.where(
            signal <= 0.5, signal**2 / 3, (np.exp((signal - 0.55991073) / 0.17883277) + 0.28466892) / 12
        )
    if light is None:
        return None
    values = np.rint(np.clip(light, 0, 1) * 65535).astype(">u2").tobytes()
    return b"curv" + bytes(4) + struct.pack(">I", SAMPLES) + values


def _laid_out(tags: dict[bytes, bytes]) -> bytes:
    at = 128 + 4 + 12 * len(tags)
    table, body = struct.pack(">I", len(tags)), b""
    placed: dict[bytes, int] = {}
    for key, content in tags.items():
        if content not in placed:  # the three curves are one
            placed[content] = at + len(body)
            body += content + bytes(-len(content) % 4)
        table += key + struct.pack(">2I", placed[content], len(content))
    size = 128 + len(table) + len(body)
    head = struct.pack(">I", size) + bytes(4) + bytes((4, 0x40, 0, 0)) + b"mntrRGB XYZ " + CREATED + b"acsp"
    head += bytes(28) + b"".join(_fixed(v) for v in D50)
    return head.ljust(128, b"\0") + table + body


def _text(words: str) -> bytes:
    told = words.encode("utf-16-be")
    return b"mluc" + bytes(4) + struct.pack(">2I", 1, 12) + b"enUS" + struct.pack(">2I", len(told), 28) + told


def _xyz(values: Array) -> bytes:
    return b"XYZ " + bytes(4) + b"".join(_fixed(v) for v in values)


def _fixed(value: Any) -> bytes:
    return struct.pack(">i", round(float(value) * 65536))
