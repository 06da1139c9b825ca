"""Softness: how wide the picture's sharpest straight edges are, and the response they pass.

The sharpest quarter of the edges counts: what is out of focus on purpose does not.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...media import MediaInfo
from ..edge import TILE, Edge
from .base import Detector, Finding, Look, Place

ENOUGH = 8
"""Edges from which the sharpest quarter means something."""


def observe(look: Look) -> list[Edge]:
    return look.edges


def conclude(seen: Sequence[tuple[int, list[Edge]]], info: MediaInfo) -> Finding:
    found = [(n, edge) for n, edges in seen for edge in edges]
    slanted = [(n, edge) for n, edge in found if edge.response.slanted]
    found = slanted if len(slanted) >= ENOUGH else found
    if len(found) < ENOUGH:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="no straight edge to measure on")
    found.sort(key=lambda item: item[1].response.rise)
    sharpest = found[: max(len(found) // 4, ENOUGH)]
    n, edge = sharpest[len(sharpest) // 2]
    mtf50 = float(np.median([e.response.mtf50 for _, e in sharpest]))
    return DETECTOR.finding(
        float(np.median([e.response.rise for _, e in sharpest])), n,
        region=Place(x=edge.x, y=edge.y, width=TILE, height=TILE),
        confidence=min(len(found) / 40, 1.0) * (1.0 if slanted else 0.6),
        detail=f"MTF50 {mtf50:.3f} cycles a pixel, from {len(found)} edges",
    )  # fmt: skip


DETECTOR = Detector(
    "softness", "px", 3.0, 80, observe, conclude,
    instead="No step brings focus back: ask for another take, and keep what takes detail low.",
)  # fmt: skip
"""Value: 10-90 % width of the sharpest edges. Tolerance: an edge of 3 px reads soft at 100 % (common
practice, no source)."""
