"""Borders: rims that came out darker, brighter or pulled in."""

from __future__ import annotations

import numpy as np

from ...frames import CV_SCALE
from .base import Evidence, Measure, Reading

RIM, INSIDE = 6, 24
"""Pixels of the rim, and of the strip inside it that it is held against."""

GROUP, CHANCE = 8, 2.5
"""Pixels along the rim that are taken together, because noise beside noise is no news; and the deviations of their
mean that count as chance."""


def _borders(evidence: Evidence) -> Reading:
    """The mean change of each side's rim against that of the strip inside, less what chance makes."""
    region, whole = evidence.place, evidence.pipeline.format.whole
    change = evidence.change * CV_SCALE
    where = np.zeros(evidence.shape, np.float32)
    sides = {
        "left": (region.x == 0, change, (slice(None), slice(None, RIM))),
        "right": (region.right == whole.right, change[:, ::-1], (slice(None), slice(-RIM, None))),
        "top": (region.y == 0, change.transpose(1, 0, 2), (slice(None, RIM), slice(None))),
        "bottom": (
            region.bottom == whole.bottom,
            change[::-1].transpose(1, 0, 2),
            (slice(-RIM, None), slice(None)),
        ),
    }
    worst, name = 0.0, ""
    for side, (is_border, turned, rim) in sides.items():
        if not is_border or turned.shape[1] <= RIM + INSIDE:
            continue
        off = np.abs(_excess(turned)).max()
        where[rim] = np.maximum(where[rim], off / BORDERS.limit)
        if off > worst:
            worst, name = float(off), side
    return Reading(worst, where, f"most on the {name}" if name else "no border in view")


def _excess(change: np.ndarray) -> np.ndarray:
    """By channel: mean of the first columns less that of the next, beyond what chance makes of that mean."""
    rim, inside = change[:, :RIM].mean(axis=1), change[:, RIM : RIM + INSIDE].mean(axis=1)
    count = max(len(rim) // GROUP, 1)
    apart = (rim - inside)[: count * GROUP].reshape(count, -1, change.shape[2]).mean(axis=1)
    chance = CHANCE * apart.std(axis=0) / np.sqrt(count)
    return np.sign(apart.mean(axis=0)) * np.maximum(np.abs(apart.mean(axis=0)) - chance, 0)


BORDERS = Measure(
    "borders", "Borders", "CV", 2.0, "The rim of the frame changed otherwise than the rest.", _borders
)
