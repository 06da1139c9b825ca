"""Colour tags: what the file does not say of its colours, or says twice in different ways, and what was assumed."""

from __future__ import annotations

from collections.abc import Sequence

from ...colour.input_space import input_space
from ...media import MediaInfo
from .base import Detector, Finding, Glance


def observe(look: Glance) -> None:
    """The picture does not tell."""


def conclude(seen: Sequence[tuple[int, None]], info: MediaInfo) -> Finding:
    found = input_space(info)
    parts = [f"no {name}" for name in found.missing] + found.contradictions
    detail = f"{'; '.join(parts)}: taken for {found.space}" if parts else ""
    return DETECTOR.finding(float(len(parts)), seen[0][0], detail=detail)


DETECTOR = Detector(
    "colour tags", "tags", 0.0, 7, observe, conclude, about_source=True, also_originals=True,
    instead="Choose the input space beside the shot's name if what was assumed is wrong: looks, conversions and the"
    " tags of what is written go by it.",
)  # fmt: skip
