"""Motion blur: how long each frame was exposed, as the angle of a shutter, told by what moves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ...frames import Array
from ...media import MediaInfo
from ..blur import EdgeBlur
from ..exposure import Exposure, Moving, exposure, moving, sure
from ..following import way_to
from .base import Detector, Finding, Look
from .interlace import DETECTOR as INTERLACE
from .interlace import OWN_SHARE, combs

SLOWEST_PX = 3.0
"""Pixels from frame to frame that a tenth of the edges has to move across themselves at least."""

BETTER, SURE = 2.0, 3.0
"""How many times better than none an exposure has to explain the edges, and from when on it is sure."""

LEAST_WAY = 1.5
"""Pixels over which the fastest edges have to be smeared."""

MOST_COMBED = INTERLACE.tolerance / 100
"""Share of the fast edges that may comb."""

WHOLE_TURN = 360
"""Degrees of a shutter that is open from frame to frame."""

KEPT = 8000
"""Edge pixels of a frame that are looked at, or up to twice as many."""


class Seen(NamedTuple):
    """Edges of a frame with their motion, and what share of the fast ones combs, as they are and with every second
    line of another frame."""

    edges: Moving
    own: float = 0.0
    rewoven: float = 0.0


def observe(look: Look) -> Seen:
    edges = look.blur.part(slice(None, None, max(len(look.blur.x) // KEPT, 1)))
    beside = [(plane, sign) for plane, sign in ((look.before, -1), (look.after, 1)) if plane is not None]
    if not beside or not len(edges.x):
        return Seen(Moving(*np.zeros((3, 0), np.float32)))
    ways = np.stack([np.float32(sign) * way_to(look.luma, plane).at(edges.x, edges.y) for plane, sign in beside])
    motion = ways.mean(axis=0)
    believed = sure(np.hypot(*(ways[0] - ways[-1]).T), np.hypot(*motion.T))
    edges, found = edges.part(believed), moving(edges.part(believed), motion[believed])
    return Seen(found, *_combing(look, beside[0][0], edges.part(found.speed >= SLOWEST_PX)))


def _combing(look: Look, other: Array, fast: EdgeBlur) -> tuple[float, float]:
    x, lines, sigma = fast.x, (fast.y, fast.y - 1, fast.y + 1), look.sigma[fast.y, fast.x]
    here, above, below = (look.luma[line, x] for line in lines)
    woven_here, woven_above, woven_below = (
        np.where(line % 2, other[line, x], look.luma[line, x]) for line in lines
    )
    found = combs(here, above, below, sigma), combs(woven_here, woven_above, woven_below, sigma)
    own, rewoven = (float(combing.sum()) / max(len(x), 1) for combing in found)
    return own, rewoven


def conclude(seen: Sequence[tuple[int, Seen]], info: MediaInfo) -> Finding:
    edges = [look.edges for _, look in seen]
    fastest = seen[max(range(len(edges)), key=lambda k: float(edges[k].speed.sum()))][0]
    told = exposure(edges)
    why = _silent([look for _, look in seen], told)
    if told is None or why:
        return DETECTOR.finding(0.0, fastest, confidence=0.0, detail=why)
    told_so = f"the fastest edges smear over {told.way:.1f} px"
    sureness = (told.better - 1) / (SURE - 1)
    return DETECTOR.finding(WHOLE_TURN * told.share, fastest, confidence=sureness, detail=told_so)


def _silent(seen: list[Seen], told: Exposure | None) -> str:
    """Why nothing is told; empty where something is."""
    own, rewoven = (float(np.median(shares)) for shares in ([s.own for s in seen], [s.rewoven for s in seen]))
    if told is None:
        return "too few edges"
    if np.quantile(np.concatenate([look.edges.speed for look in seen]), 0.9) < SLOWEST_PX:
        return "nothing moves fast enough to tell"
    if own > MOST_COMBED and own > OWN_SHARE * rewoven:
        return "every frame holds two moments, which smear nothing"
    if told.better < BETTER or told.way < LEAST_WAY:
        return "edges are as sharp however they move"
    return ""


DETECTOR = Detector(
    "motion blur", "° of shutter", 270.0, 81, observe, conclude, beside=1,
    instead="Ask for a shorter exposure: what is smeared over many pixels no step brings back.",
)  # fmt: skip
"""Value: how far a shutter is open that turns once a frame. Tolerance: films are shot with 180°, and a whole turn
smears (common practice, no source)."""
