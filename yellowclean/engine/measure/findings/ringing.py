"""Ringing: ripples beside strong edges, as quantised transforms and hard sharpening leave them.

Seen in the averaged profile across straight edges, where ripples that run along the edge stay and
texture does not (the place is that of Marziliano, Dufaux, Winkler and Ebrahimi 2004).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...frames import CV_SCALE
from ...media import MediaInfo
from ..edge import OVERSAMPLING, TILE, Edge
from .base import Detector, Finding, Look, Place

ENOUGH = 8
AVERAGED = TILE / OVERSAMPLING / 2
"""Independent samples in one bin of a profile: noise hangs together over about two pixels."""

Ripples = list[tuple[float, Edge]]


def observe(look: Look) -> Ripples:
    """Ripple of each edge beyond what noise leaves in its profile."""
    found = []
    for edge in look.edges:
        level = look.luma[edge.y : edge.y + TILE, edge.x : edge.x + TILE]
        noise = float(np.mean(look.curve.sigma_at(level, "luma") ** 2)) / AVERAGED
        found.append((float(np.sqrt(max(edge.response.ripple**2 - noise, 0.0))), edge))
    return found


def conclude(seen: Sequence[tuple[int, Ripples]], info: MediaInfo) -> Finding:
    found = [(ripple, n, edge) for n, ripples in seen for ripple, edge in ripples]
    if len(found) < ENOUGH:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="no straight edge to look beside")
    _, n, edge = max(found, key=lambda item: item[0])
    return DETECTOR.finding(
        float(np.median([ripple for ripple, _, _ in found])) * CV_SCALE, n,
        region=Place(x=edge.x, y=edge.y, width=TILE, height=TILE), confidence=min(len(found) / 40, 1.0),
        detail=f"beside {len(found)} edges",
    )  # fmt: skip


DETECTOR = Detector("ringing", "CV", 6.0, 44, observe, conclude)
"""Value: RMS ripple in the eight pixels beside edges. Tolerance: common practice, no source."""
