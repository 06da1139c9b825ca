"""Damaged frames: what the decoder could not read and made up, or left out."""

from __future__ import annotations

from collections.abc import Sequence

from ...frames import Array
from ...media import MediaInfo
from ...media.decoder import FOLLOWS, LOST, MADE_UP
from .base import Detector, Finding, Glance, Place, Spot

KINDS = ("", MADE_UP, LOST, FOLLOWS)
MOST_NAMED = 8


def observe(look: Glance) -> tuple[float]:
    """Which kind of damage, by its number."""
    return (float(KINDS.index(look.said.damage)),)


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    damaged = [(n, KINDS[int(kind)]) for n, (kind,) in seen if kind]
    if not damaged:
        return DETECTOR.finding(0.0, seen[0][0])
    told = []
    for kind in KINDS[1:]:
        numbers = [n for n, which in damaged if which == kind]
        if numbers:
            more = " …" if len(numbers) > MOST_NAMED else ""
            told.append(f"{', '.join(str(n) for n in numbers[:MOST_NAMED])}{more} {kind}")
    whole = Place(x=0, y=0, width=info.width, height=info.height)
    spots = [Spot(frame=n, **whole.model_dump()) for n, _ in damaged]
    detail = f"frames {'; '.join(told)}"
    return DETECTOR.finding(float(len(damaged)), damaged[0][0], region=whole, detail=detail, spots=spots)


DETECTOR = Detector(
    "damaged frames", "frames", 0.0, 0, observe, conclude, every_frame=True, about_source=True,
    instead="Ask for the file again: what these frames lost cannot be decoded.",
)  # fmt: skip
