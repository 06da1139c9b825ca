"""Proxy signs: a name or a size that belongs to a stand-in rather than to an original."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import PurePath

from ...media import MediaInfo
from .base import Detector, Finding, Look

NAMES = re.compile(
    r"(?:^|[^a-z])(proxy|proxies|prx|lowres|low_res|offline|preview|draft)(?:[^a-z]|$)", re.IGNORECASE
)
SMALL = 960 * 540
"""Pixels: a quarter of 1920×1080, the usual size of a stand-in (common practice, no source)."""


def observe(look: Look) -> None:
    """Nothing: name and size tell."""


def conclude(seen: Sequence[tuple[int, None]], info: MediaInfo) -> Finding:
    signs = []
    if found := NAMES.search(PurePath(info.path).stem):
        signs += [f"the name says {found[1]}"] * 2
    if info.width * info.height <= SMALL:
        signs.append(f"the picture is only {info.width}×{info.height}")
    detail = "; ".join(dict.fromkeys(signs))
    return DETECTOR.finding(float(len(signs)), seen[0][0], confidence=0.8, detail=detail)


DETECTOR = Detector(
    "proxy signs", "signs", 1.0, 6, observe, conclude, about_source=True,
    instead="Ask for the full recording before anything is treated.",
)  # fmt: skip
"""Value: a telling name counts two, a small picture one, since small originals exist."""
