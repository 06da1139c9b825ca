"""Motion blur: how long each frame was exposed, as a share of the time from frame to frame, told by what moves."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...frames import Array
from ...media import MediaInfo
from ..blur import EdgeBlur
from ..exposure import ENOUGH, Moving, exposure, moving, sure
from ..following import way_to
from .base import Detector, Finding, Look
from .interlace import combs

SLOWEST_PX = 3.0
"""Pixels from frame to frame that a tenth of the edges has to move across themselves at least."""

BETTER, SURE = 2.0, 3.0
"""How many times better than none an exposure has to explain the edges, and from when on it is sure."""

LEAST_WAY = 1.5
"""Pixels over which the fastest edges have to be smeared."""

MOST_COMBED = 0.02
"""Share of the fast edges that may comb: the tolerance of interlace."""

KEPT = 8000
"""Edge pixels of a frame that are looked at, or up to twice as many."""


def observe(look: Look) -> Moving:
    edges = look.blur.part(slice(None, None, max(len(look.blur.x) // KEPT, 1)))
    beside = [(plane, sign) for plane, sign in ((look.before, -1), (look.after, 1)) if plane is not None]
    nothing = Moving(*np.zeros((3, 0), np.float32))
    if not beside or not len(edges.x):
        return nothing
    ways = np.stack([np.float32(sign) * way_to(look.luma, plane).at(edges.x, edges.y) for plane, sign in beside])
    motion = ways.mean(axis=0)
    believed = sure(np.hypot(*(ways[0] - ways[-1]).T), np.hypot(*motion.T))
    edges, found = edges.part(believed), moving(edges.part(believed), motion[believed])
    return nothing if _woven(look, edges, found.speed) else found


def _woven(look: Look, edges: EdgeBlur, speed: Array) -> bool:
    """Whether what moves fast combs: two moments that are woven into one frame smear nothing."""
    fast = speed >= SLOWEST_PX
    x, y = edges.x[fast], edges.y[fast]
    here, above, below = (look.luma[line, x] for line in (y, y - 1, y + 1))
    return bool(fast.any()) and float(combs(here, above, below, look.sigma[y, x]).mean()) > MOST_COMBED


def conclude(seen: Sequence[tuple[int, Moving]], info: MediaInfo) -> Finding:
    edges = [moving for _, moving in seen]
    fastest = max(range(len(edges)), key=lambda k: float(edges[k].speed.sum()))
    speeds = np.concatenate([moving.speed for moving in edges])
    told = exposure(edges)
    if told is None or np.quantile(speeds, 0.9) < SLOWEST_PX:
        why = "too few edges" if len(speeds) < ENOUGH else "nothing moves fast enough to tell"
        return DETECTOR.finding(0.0, seen[fastest][0], confidence=0.0, detail=why)
    if told.better < BETTER or told.way < LEAST_WAY:
        why = "edges are as sharp however they move"
        return DETECTOR.finding(0.0, seen[fastest][0], confidence=0.0, detail=why)
    return DETECTOR.finding(
        100 * told.share, seen[fastest][0], confidence=(told.better - 1) / (SURE - 1),
        detail=f"a shutter of {360 * told.share:.0f}°: what moves fastest is smeared over {told.way:.1f} px",
    )  # fmt: skip


DETECTOR = Detector(
    "motion blur", "% of a frame", 75.0, 81, observe, conclude,
    instead="Ask for a shorter exposure: what is smeared over many pixels no step brings back.",
)  # fmt: skip
"""Value: the share of the time between frames that each was exposed. Tolerance: films are shot with half of it, and
all of it smears (common practice, no source)."""
