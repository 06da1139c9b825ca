"""What pictures of a sequence say beside their pixels: rate, timecode, camera, colour, aspect, rotation.

Each is written where the format has a place of its own; PNG and TIFF have none for rate and timecode, TIFF
and OpenEXR none for the transfer curve, so that all of it also stands as JSON in the picture's description.
"""

from __future__ import annotations

import json
import math
from fractions import Fraction
from typing import Any

import numpy as np
import OpenImageIO as oiio

from ..primaries import XY
from .icc import icc_profile
from .info import MediaInfo
from .tags import DPX_TRANSFERS, PRIMARIES, TRANSFERS, UNKNOWN, camera_tags, code_of, colour_hints
from .timecode import believed, exact, packed, shifted, unpacked

DEFAULT_RATE = "24"
MOST_ASPECT = 20.0

FLOATS = (oiio.HALF, oiio.FLOAT, oiio.DOUBLE)

ORIENTATIONS = {1: 0, 3: 180, 6: 270, 8: 90}
"""Degrees counter-clockwise that bring a picture upright, by its Orientation (Exif 2.32, table 4.6.4, from
memory); mirrored ones are not turned."""

_READ_FROM_DPX = {name: transfer for transfer, name in DPX_TRANSFERS.items()}
_READ_FROM_DPX |= {
    "Rec709": "bt709",
    "SMPTE 274M": "bt709",
    "Rec601": "smpte170m",
    "ITU-R 601-5 system M": "smpte170m",
}

_OF_PROFILE = "ICCProfile:"
"""What the library reads out of a profile: a device's model there is no camera's."""

_DESCRIBED = "yellow-clean"


def told(spec: oiio.ImageSpec, ending: str) -> dict[str, Any]:
    """The fields of `MediaInfo` that a picture tells."""
    attributes = {a.name: _kept(a.value) for a in spec.extra_attribs if not a.name.startswith(_OF_PROFILE)}
    ours = _described(str(attributes.get("ImageDescription", "")))
    camera, gain = camera_tags([attributes])
    rate = ours.get("rate") or _rate(attributes)
    primaries, transfer = _colour(spec, attributes, ours, ending)
    return {
        "rate": rate or DEFAULT_RATE,
        "timecode": _timecode(attributes) or ours.get("timecode"),
        "camera": camera,
        "gain": gain or ours.get("gain", ""),
        "primaries": primaries,
        "transfer": transfer,
        "untagged": ["transfer"] if transfer == UNKNOWN else [],
        "colour_hints": colour_hints([attributes]),
        "pixel_aspect": str(_aspect(attributes.get("PixelAspectRatio"))),
        "rotation": ORIENTATIONS.get(int(attributes.get("Orientation", 1)), 0),
        "notes": [] if rate else [f"No frame rate in the pictures; {DEFAULT_RATE} was assumed."],
    }


def tell(spec: oiio.ImageSpec, info: MediaInfo, frames_on: int, ending: str) -> None:
    """Write what `info` knows into the spec of the picture `frames_on` frames after the start, in a format by its
    ending."""
    rate = info.fps
    spec.attribute("FramesPerSecond", oiio.TypeRational, (rate.numerator, rate.denominator))
    timecode = shifted(info.timecode, frames_on, rate) if info.timecode else None
    if timecode and (bits := packed(timecode)) is not None:
        spec.attribute("smpte:TimeCode", oiio.TypeTimeCode, (bits, 0))
    if info.camera:
        spec.attribute("Model", info.camera)
    iso = info.gain.removeprefix("ISO ")
    if iso.isdigit():
        spec.attribute("Exif:PhotographicSensitivity", min(int(iso), 65535))
    codes = code_of(PRIMARIES, info.primaries), code_of(TRANSFERS, info.transfer)
    if 2 not in codes:
        spec.attribute("CICP", "int[4]", (*codes, 0, 1))
    if ending == ".dpx":
        spec.attribute("dpx:FrameRate", float(rate))
        spec.attribute("dpx:Transfer", DPX_TRANSFERS.get(info.transfer, "User defined"))
    needs_profile = ending == ".tif" or (ending == ".png" and 2 in codes)
    profile = icc_profile(info.primaries, info.transfer) if needs_profile else None
    if profile:
        spec.attribute("ICCProfile", f"uint8[{len(profile)}]", np.frombuffer(profile, np.uint8))
    if info.primaries in XY:
        spec.attribute("chromaticities", "float[8]", XY[info.primaries])
    if info.stored_aspect != 1:
        spec.attribute("PixelAspectRatio", float(info.stored_aspect))
    if info.rotation:
        spec.attribute("Orientation", next(k for k, turn in ORIENTATIONS.items() if turn == info.rotation))
    described = {
        "rate": info.rate, "timecode": timecode, "gain": info.gain or None,
        "primaries": info.primaries, "transfer": info.transfer,
    }  # fmt: skip
    # that the curve is unknown is said too: OpenEXR without a word is linear
    known = {key: value for key, value in described.items() if value and (value != UNKNOWN or key == "transfer")}
    spec.attribute("ImageDescription", json.dumps({_DESCRIBED: known}))


def _kept(value: Any) -> Any:
    """A value as it can be kept: bytes that are no text become question marks."""
    return value.encode(errors="replace").decode().replace("\x00", "") if isinstance(value, str) else value


def _described(text: str) -> dict[str, Any]:
    """What we wrote into a description, if it is ours."""
    try:
        document = json.loads(text)
    except ValueError:
        return {}
    found = document.get(_DESCRIBED) if isinstance(document, dict) else None
    return {k: v for k, v in found.items() if isinstance(v, str)} if isinstance(found, dict) else {}


def _rate(attributes: dict[str, Any]) -> str | None:
    value = attributes.get("FramesPerSecond") or attributes.get("dpx:FrameRate")
    if isinstance(value, tuple):
        told = Fraction(value[0], value[1]) if value[1] else None
    else:
        told = exact(value) if isinstance(value, float) and math.isfinite(value) else None
    return str(told) if told is not None and believed(told) else None


def _aspect(value: Any) -> Fraction:
    """A pixel's width to its height; square where what is told can be no pixel's."""
    told = value if isinstance(value, float) and math.isfinite(value) else 1.0
    return Fraction(told).limit_denominator(1000) if MOST_ASPECT >= told >= 1 / MOST_ASPECT else Fraction(1)


def _timecode(attributes: dict[str, Any]) -> str | None:
    value = attributes.get("smpte:TimeCode")
    if isinstance(value, tuple):
        return unpacked(int(value[0]))
    return str(value) if value else None


def _colour(spec: oiio.ImageSpec, attributes: dict[str, Any], ours: dict[str, Any], ending: str) -> tuple[str, str]:
    """(primaries, transfer) by the names of H.273. OpenEXR without a word is linear, as its own text says."""
    codes = attributes.get("CICP")
    if codes:
        return PRIMARIES.get(codes[0], UNKNOWN), TRANSFERS.get(codes[1], UNKNOWN)
    if ours.get("transfer") or ours.get("primaries"):
        return ours.get("primaries", UNKNOWN), ours.get("transfer", UNKNOWN)
    primaries = _nearest_primaries(attributes.get("chromaticities"))
    if ending == "dpx":
        return primaries, _READ_FROM_DPX.get(str(attributes.get("dpx:Transfer", "")).strip(), UNKNOWN)
    space = str(attributes.get("oiio:ColorSpace") or "").lower()
    if space.startswith("srgb"):
        return "bt709", "srgb"
    if spec.format not in FLOATS:
        return primaries, UNKNOWN
    linear = "lin" in space or "scene" in space or (ending == "exr" and not space)
    return primaries, "linear" if linear else UNKNOWN


def _nearest_primaries(xy: Any) -> str:
    if not isinstance(xy, tuple) or len(xy) != 8:
        return UNKNOWN
    away = {name: max(abs(a - b) for a, b in zip(xy, known, strict=True)) for name, known in XY.items()}
    nearest = min(away, key=lambda name: away[name])
    return nearest if away[nearest] < 0.005 else UNKNOWN
