"""Ringing: ripples beside strong edges, as quantised transforms and hard sharpening leave them.

They lie within a block of the edge (the place is that of Marziliano, Dufaux, Winkler and Ebrahimi 2004), and are
seen where the picture is plain otherwise: what varies close to an edge is compared with what varies on the same
side farther off, where that is little. Texture and grain vary in both. A rim or a round shading varies beside some
edges and is smooth; what rings does so beside most.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...frames import CV_SCALE
from ...media import MediaInfo
from ..edge import LONE, TILE, Edge
from .base import Detector, Finding, Look, Place

ENOUGH = 24
"""Sides of edges, in all frames looked at, from which they say something."""

MOST = 0.35
"""Share of the sides that may ring less than is told."""

PLAIN_CV = 6.0
"""RMS farther off up to which a side is plain: more hides what rings."""

Ripples = list[tuple[float, Edge]]


def observe(look: Look) -> Ripples:
    """By how much the variance nearest to each edge exceeds that farther off, on its plain sides."""
    plain = (PLAIN_CV / CV_SCALE) ** 2
    return [
        (near - far, edge) for edge in look.edges for near, far in edge.response.sides
        if far < plain and near < (LONE * edge.response.contrast) ** 2
    ]  # fmt: skip


def conclude(seen: Sequence[tuple[int, Ripples]], info: MediaInfo) -> Finding:
    found = [(more, n, edge) for n, ripples in seen for more, edge in ripples]
    if len(found) < ENOUGH:
        return DETECTOR.finding(
            0.0, seen[0][0], confidence=0.0, detail="too few straight edges with a plain side to look at"
        )
    _, n, edge = max(found, key=lambda item: item[0])
    return DETECTOR.finding(
        float(np.sqrt(max(np.quantile([more for more, _, _ in found], MOST), 0.0))) * CV_SCALE, n,
        region=Place(x=edge.x, y=edge.y, width=TILE, height=TILE), confidence=min(len(found) / 40, 1.0),
        detail=f"beside {len(found)} edges",
    )  # fmt: skip


DETECTOR = Detector("ringing", "CV", 4.0, 44, observe, conclude)
"""Value: RMS in the six pixels beside most edges beyond that farther off. Tolerance: common practice, no source."""
