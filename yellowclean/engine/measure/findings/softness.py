"""Softness: how wide the picture's sharpest edges are, whatever way they run, and what straight ones let through.

The sharpest edges count: what is out of focus on purpose does not. Where fine texture shows that they are all of
that kind, it tells of the blur instead; and where a lens was out of focus, the zeros that it leaves in the
spectrum. Noise hides all of them: a noisy frame is averaged with those beside it first.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ...media import MediaInfo
from ..blur import EdgeBlur, sharpest
from ..edge import TILE, Edge
from ..lens import SMALLEST, Spread, disc_radius, spread_of
from ..texture import Texture, texture_limit, texture_of
from .base import Detector, Finding, Look, Place

ENOUGH = 60
"""Pixels on edges from which the sharpest mean something."""

SURE_FROM = 600

ENOUGH_STRAIGHT = 8
"""Straight, slanted edges from which a response is told."""

RISE = 2.563
"""10-90 % width of a Gaussian edge over its deviation."""

PIXEL = 1 / 12
"""Variance of a pixel's own width."""

DISC = "disc"
"""What softness is called that is of a lens out of focus."""

SOFT_AS_DISC = 0.7
"""Part of a disc's deviation that the edges' blur has at least: else it is of what is out of focus on purpose."""

KEPT = 4000
"""Pixels on edges that are kept of a frame."""


class Seen(NamedTuple):
    """What is kept of one frame."""

    blur: EdgeBlur
    texture: Texture
    spread: Spread
    straight: list[Edge]


def observe(look: Look) -> Seen:
    every = slice(None, None, max(len(look.blur.variance) // KEPT, 1))
    # a disc's zeros lie in what is fine and faint
    return Seen(look.blur.part(every), texture_of(*look.still), spread_of(*look.in_light(*look.calmed)), look.edges)


def conclude(seen: Sequence[tuple[int, Seen]], info: MediaInfo) -> Finding:
    together = _joined([s.blur for _, s in seen])
    if len(together.variance) < ENOUGH:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="no edge to measure on")
    variance = max(sharpest(together), 0.0)
    # where it is as in the whole shot, so that one frame tells what a step does to it
    n, look = min((item for item in seen if item[1].blur.variance.size), key=lambda item: _apart(item[1], variance))
    told, form = f"blur of {np.sqrt(variance):.2f} px at the sharpest edges", ""
    limit, radius = texture_limit([s.texture for _, s in seen]), _radius([s.spread for _, s in seen], variance)
    if radius:
        variance, form = (radius / 2) ** 2, DISC
        told = f"out of focus by a disc of {radius:.1f} px radius"
    elif limit < variance:
        variance, told = limit, f"{told}; fine texture allows {np.sqrt(limit):.2f} px"
    slanted = sorted(edge.response.mtf50 for _, s in seen for edge in s.straight if edge.response.slanted)
    if len(slanted) >= ENOUGH_STRAIGHT:
        told += (
            f", MTF50 {np.median(slanted[-max(len(slanted) // 4, 1) :]):.3f} cycles a pixel at the straight ones"
        )
    return DETECTOR.finding(
        RISE * float(np.sqrt(variance + PIXEL)), n, region=_place(look.blur, variance, info),
        confidence=min(len(together.variance) / SURE_FROM, 1.0), detail=told, form=form,
    )  # fmt: skip


def _radius(spreads: Sequence[Spread], variance: float) -> float:
    """Radius of the disc that a lens out of focus drew, where edges have that variance; 0 where it did not."""
    if np.sqrt(variance) < SOFT_AS_DISC * SMALLEST / 2:
        return 0.0
    radius = disc_radius(spreads)
    return radius if np.sqrt(variance) >= SOFT_AS_DISC * radius / 2 else 0.0


def _apart(look: Seen, variance: float) -> float:
    return abs(sharpest(look.blur) - variance)


def _joined(pictures: Sequence[EdgeBlur]) -> EdgeBlur:
    """The edges of several pictures."""
    return EdgeBlur(*(np.concatenate(parts) for parts in zip(*pictures, strict=True)))


def _place(edges: EdgeBlur, variance: float, info: MediaInfo) -> Place:
    """Around an edge that has about the blur that is told."""
    k = int(np.argmin(np.abs(edges.variance - variance)))
    left = int(np.clip(edges.x[k] - TILE // 2, 0, max(info.width - TILE, 0)))
    top = int(np.clip(edges.y[k] - TILE // 2, 0, max(info.height - TILE, 0)))
    return Place(x=left, y=top, width=min(TILE, info.width), height=min(TILE, info.height))


def blur_of(finding: Finding) -> float:
    """Deviation of the blur in pixels, without the pixel's own, that a finding of softness tells of."""
    return float(np.sqrt(max((finding.value / RISE) ** 2 - PIXEL, 0.0)))


DETECTOR = Detector(
    "softness", "px", 3.0, 80, observe, conclude,
    instead="What blur took for good no step brings back: ask for another take, and keep what takes detail low.",
)  # fmt: skip
"""Value: 10-90 % width of the sharpest edges. Tolerance: an edge of 3 px reads soft at 100 % (common
practice, no source)."""
