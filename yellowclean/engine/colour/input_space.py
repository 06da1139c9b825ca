"""Input space: what the values of footage stand for, how sure that is, and what the file's tags leave open.

What was chosen by hand goes first, then what metadata name, then the tags; what none of them tells is assumed.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal

import PyOpenColorIO as ocio
from pydantic import BaseModel

from ..media.info import MediaInfo
from ..media.tags import UNKNOWN
from .encodings import (
    OF_CAMERAS,
    OF_PICTURES,
    SAME_CURVE,
    TAGGED,
    Encoding,
    encoding_named,
    spaces_known,
)
from .management import CAMERA_2020, builtin_config

HDR = {"smpte2084": "PQ", "arib-std-b67": "HLG"}

HDR_PRIMARIES = {"bt2020", "smpte431", "smpte432"}
"""Those of ITU-R BT.2100-2, table 2, and P3, in which cinema masters PQ (common practice, no source)."""

SYSTEM = {
    "bt709": "BT.709", "bt2020": "BT.2020", "bt2020nc": "BT.2020", "bt2020-10": "BT.2020", "bt2020-12": "BT.2020",
    "smpte170m": "BT.601", "bt470bg": "BT.601",
}  # fmt: skip
"""The standard that a primaries, transfer or matrix tag belongs to, where all three have to be of one."""


class InputSpace(BaseModel):
    """A colour space by its name, how it is known, why in words, what the file does not say or contradicts."""

    space: str
    sure: Literal["chosen", "named", "tagged", "assumed"]
    why: str
    missing: list[str] = []
    contradictions: list[str] = []


def input_space(info: MediaInfo) -> InputSpace:
    """The space that the frames of a file are in."""
    missing, odd = list(info.untagged), contradictions(info)
    if info.space:
        return InputSpace(space=info.space, sure="chosen", why="chosen by hand")
    named = _named(tuple(info.colour_hints))
    if named:
        return InputSpace(space=named, sure="named", why="named by the file's metadata", contradictions=odd)
    found = _tagged(info)
    if found:
        why = f"by its tags (primaries {info.primaries}, transfer {info.transfer})"
        sure: Literal["tagged", "assumed"] = "assumed" if UNKNOWN in (info.primaries, info.transfer) else "tagged"
        return InputSpace(space=found.space, sure=sure, why=why, missing=missing, contradictions=odd)
    space, why = _assumed(info)
    return InputSpace(space=space, sure="assumed", why=why, missing=missing, contradictions=odd)


def encoding_of(info: MediaInfo) -> Encoding:
    """What the frames of a file stand for, with the tags as they are where nothing else was chosen."""
    found = input_space(info)
    if found.sure == "chosen":
        return encoding_named(found.space)._replace(matrix=info.matrix)
    return Encoding(found.space, info.primaries, info.transfer, info.matrix)


def contradictions(info: MediaInfo) -> list[str]:
    """What the tags of a file say that cannot all be true, in words."""
    told = []
    if info.transfer in HDR and info.primaries not in {UNKNOWN, *HDR_PRIMARIES}:
        told.append(f"{HDR[info.transfer]} with primaries of {info.primaries}: HDR has those of BT.2020 or P3")
    systems = {
        name: SYSTEM[tag]
        for name, tag in (
            ("primaries", info.primaries), ("transfer", info.transfer if info.transfer != "bt709" else ""),
            ("matrix", info.matrix if "matrix" not in info.untagged else ""),
        )
        if tag in SYSTEM
    }  # fmt: skip
    if len(set(systems.values())) > 1:
        told.append(" but ".join(f"{name} of {system}" for name, system in systems.items()))
    return told


@lru_cache(32)
def _named(hints: tuple[str, ...]) -> str:
    """The space that one of the words of a file's metadata is a name of, or two of them together; else empty."""
    known = _names()
    joined = [a + b for a in hints for b in hints if a is not b]
    return next((known[key] for key in map(_plain, (*hints, *joined)) if key in known), "")


@lru_cache(1)
def _names() -> dict[str, str]:
    """All names that the configuration knows its spaces by, interchange ids among them."""
    config = builtin_config()
    names: dict[str, str] = {}
    for name in spaces_known():
        space: ocio.ColorSpace = config.getColorSpace(name)
        for other in (name, space.getInteropID(), *space.getAliases()):
            names.setdefault(_plain(other.removeprefix("ocio:")), name)
    return names


def _plain(name: str) -> str:
    return "".join(c for c in name.lower() if c.isalnum())


def _tagged(info: MediaInfo) -> Encoding | None:
    """The transfer decides; primaries where several spaces share it."""
    transfer = SAME_CURVE.get(info.transfer, info.transfer)
    same = [e for e in TAGGED if e.transfer == transfer]
    return next((e for e in same if e.primaries == info.primaries), same[0] if same else None)


def _assumed(info: MediaInfo) -> tuple[str, str]:
    """The space of footage whose tags name none that is known, and why."""
    if info.kind == "sequence" and not info.is_float and info.codec != "dpx":
        return OF_PICTURES, "assumed: pictures without a word are sRGB (W3C PNG, third edition, section 4.3)"
    wide = info.primaries == "bt2020"
    untold = "names no transfer" if info.transfer == UNKNOWN else f"has a transfer of {info.transfer}"
    return CAMERA_2020 if wide else OF_CAMERAS, f"assumed: video that {untold} is taken for a camera's"
