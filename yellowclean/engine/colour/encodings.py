"""Colour encodings: what the values of a frame stand for, by name and by the tags that files carry.

Names are those of the colour spaces in OpenColorIO's own studio configuration for ACES. Tags are names of the code
points of ITU-T H.273 (07/2021), tables 2 to 4; encodings that it has no code points for are written as "unknown".
"""

from __future__ import annotations

from difflib import get_close_matches
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import PyOpenColorIO as ocio

from ..errors import BadInput
from ..frames import Frame
from ..media.tags import UNKNOWN
from ..parallel import in_bands
from ..primaries import XY
from .management import CAMERA_2020, DISPLAY_2020, builtin_config


class Encoding(NamedTuple):
    """A colour space by its name, and the tags of a file that holds it."""

    space: str
    primaries: str
    transfer: str
    matrix: str


TAGGED = (
    Encoding("Camera Rec.709", "bt709", "bt709", "bt709"),
    Encoding("Rec.1886 Rec.709 - Display", "bt709", "bt709", "bt709"),
    Encoding("sRGB Encoded Rec.709 (sRGB)", "bt709", "srgb", "bt709"),
    Encoding("Gamma 2.2 Encoded Rec.709", "bt709", "gamma22", "bt709"),
    Encoding("Linear Rec.709 (sRGB)", "bt709", "linear", "bt709"),
    Encoding("Linear Rec.2020", "bt2020", "linear", "bt2020nc"),
    Encoding("sRGB Encoded P3-D65", "smpte432", "srgb", "bt709"),
    Encoding("Display P3 - Display", "smpte432", "srgb", "bt709"),
    Encoding("Linear P3-D65", "smpte432", "linear", "bt709"),
    Encoding("Rec.2100-PQ - Display", "bt2020", "smpte2084", "bt2020nc"),
    Encoding("Rec.2100-HLG - Display", "bt2020", "arib-std-b67", "bt2020nc"),
    Encoding(CAMERA_2020, "bt2020", "bt709", "bt2020nc"),
    Encoding(DISPLAY_2020, "bt2020", "bt709", "bt2020nc"),
    Encoding("Gamma 2.4 Encoded Rec.709", "bt709", "bt709", "bt709"),
    Encoding("sRGB - Display", "bt709", "srgb", "bt709"),
    Encoding("Gamma 2.2 Rec.709 - Display", "bt709", "gamma22", "bt709"),
    Encoding("ST2084-P3-D65 - Display", "smpte432", "smpte2084", "bt709"),
    Encoding("ACES2065-1", "ap0", "linear", "bt709"),
    Encoding("ACEScg", "ap1", "linear", "bt709"),
)
"""The encodings that tags can name; where two share their tags, a file that carries them is taken for the first."""

_BY_PRIMARIES = (Encoding("ACEScc", "ap1", UNKNOWN, "bt709"), Encoding("ACEScct", "ap1", UNKNOWN, "bt709"))
"""Encodings of which tags name no more than the primaries."""

OF_CAMERAS, OF_PICTURES = TAGGED[0].space, TAGGED[2].space

SAME_CURVE = {"bt2020-10": "bt709", "bt2020-12": "bt709", "smpte170m": "bt709"}
"""Transfers that H.273 calls functionally the same (table 3, values 1, 6, 14, 15)."""


@lru_cache(1)
def spaces_known() -> tuple[str, ...]:
    """All spaces that pictures can be converted between, by name."""
    every = builtin_config().getColorSpaces(ocio.SEARCH_REFERENCE_SPACE_ALL, ocio.COLORSPACE_ALL)
    return tuple(space.getName() for space in every if not space.isData())


def checked_space(space: str) -> str:
    """The name of a space, which is refused where there is none such. Raises `BadInput`."""
    if space not in spaces_known():
        near = get_close_matches(space, spaces_known(), n=3, cutoff=0.4) or list(spaces_known()[:3])
        raise BadInput(f"{space}: no such colour space; is it {' or '.join(near)}? `treatments` lists all.")
    return space


def encoding_named(space: str) -> Encoding:
    """The encoding of that name, with its tags."""
    return next(
        (e for e in (*TAGGED, *_BY_PRIMARIES) if e.space == space), Encoding(space, UNKNOWN, UNKNOWN, "bt709")
    )


def linear_like(encoding: Encoding) -> str:
    """The space of linear light with the primaries of an encoding, as far as they are named."""
    return _LINEAR.get(encoding.primaries, _LINEAR["bt709"])


_LINEAR = {
    "bt709": "Linear Rec.709 (sRGB)", "bt2020": "Linear Rec.2020", "smpte432": "Linear P3-D65",
    "ap0": "ACES2065-1", "ap1": "ACEScg",
}  # fmt: skip


def linear_of(space: str) -> str | None:
    """The space of linear light with the very primaries of a space; None where they are not known here."""
    return _LINEAR.get(encoding_named(space).primaries)


def primaries_of(space: str) -> str:
    """The name in `XY` of a space's primaries; empty where they are not known here."""
    found = encoding_named(space).primaries
    return found if found in XY else ""


def converted(frame: Frame, source: str, target: str) -> Frame:
    """A picture, H×W×3, brought from one space to another."""
    if source == target:
        return frame
    processor = _processor(source, target)
    shown = np.array(frame, np.float32, order="C")
    in_bands(len(shown), lambda a, b: processor.applyRGB(shown[a:b]))
    return shown


@lru_cache(16)
def _processor(source: str, target: str) -> ocio.CPUProcessor:
    return builtin_config().getProcessor(source, target).getDefaultCPUProcessor()
