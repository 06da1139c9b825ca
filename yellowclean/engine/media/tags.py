"""Names for the code points of ITU-T H.273 (07/2021), tables 2 to 4, as far as video files use them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

PRIMARIES = {
    1: "bt709", 4: "bt470m", 5: "bt470bg", 6: "smpte170m", 7: "smpte240m", 8: "film",
    9: "bt2020", 10: "smpte428", 11: "smpte431", 12: "smpte432",
}  # fmt: skip
TRANSFERS = {
    1: "bt709", 4: "gamma22", 5: "gamma28", 6: "smpte170m", 7: "smpte240m", 8: "linear", 9: "log",
    10: "log_sqrt", 11: "iec61966-2-4", 12: "bt1361e", 13: "srgb", 14: "bt2020-10",
    15: "bt2020-12", 16: "smpte2084", 17: "smpte428", 18: "arib-std-b67",
}  # fmt: skip
MATRICES = {0: "rgb", 1: "bt709", 4: "fcc", 5: "bt470bg", 6: "smpte170m", 7: "smpte240m", 9: "bt2020nc"}

KR_KB = {
    "bt709": (0.2126, 0.0722),
    "fcc": (0.30, 0.11),
    "bt470bg": (0.299, 0.114),
    "smpte170m": (0.299, 0.114),
    "smpte240m": (0.212, 0.087),
    "bt2020nc": (0.2627, 0.0593),
}
"""K_R and K_B of each matrix (H.273, table 4); everything else follows from the pair."""

UNKNOWN = "unknown"


def code_of(table: dict[int, str], name: str) -> int:
    """The code point of a name; 2 (unspecified) when it has none."""
    return next((code for code, known in table.items() if known == name), 2)


DPX_TRANSFERS = {"bt709": "ITU-R 709-4", "smpte170m": "ITU-R 601-5 system B or G", "linear": "Linear"}
"""What SMPTE ST 268-1:2014, table 5A, has of transfers, in the library's words; others are user defined there."""

COLOUR_KEYS = ("colorinteropid", "colorspace", "colourspace", "gamma", "transferfunction", "gamut", "log")
"""Ends of the names under which containers and pictures keep what their colours are in (common practice, no source;
the first is that of the Color Interop Forum)."""

_WRITERS_OWN = "oiio:colorspace"
"""Said by the library that reads, not by the file."""


def colour_hints(metadata: Iterable[Mapping[str, object]]) -> list[str]:
    """What containers and pictures call the space that their colours are in."""
    told = [(key.lower(), value) for tags in metadata for key, value in tags.items() if isinstance(value, str)]
    found = [
        value.strip()
        for ending in COLOUR_KEYS
        for key, value in told
        if key != _WRITERS_OWN and key.replace("_", "").replace("-", "").endswith(ending) and value.strip()
    ]
    return list(dict.fromkeys(found))


def camera_tags(metadata: Iterable[Mapping[str, object]]) -> tuple[str, str]:
    """(camera, gain) from what containers and pictures call them: QuickTime and Matroska keys, EXIF."""
    told = {
        key.lower().rsplit(".", 1)[-1].rsplit(":", 1)[-1]: str(value).strip()
        for tags in metadata
        for key, value in tags.items()
    }
    make, model = told.get("make", ""), told.get("model", "")
    camera = model if model.lower().startswith(make.lower()) else f"{make} {model}".strip()
    gains = (told.get(key, "") for key in ("iso", "photographicsensitivity", "isospeedratings"))
    gain = next((value for value in gains if value), "")
    return camera, f"ISO {gain}" if gain.isdigit() else gain
