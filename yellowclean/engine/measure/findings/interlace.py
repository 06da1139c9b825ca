"""Interlace: two moments woven into one frame, seen as combs where something moves.

Combs are counted in the frame as it is and after its odd lines were taken from the frame before. In a
progressive picture the second weaving combs and the first does not; in an interlaced one both do.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from ...frames import CV_SCALE, Array
from ...media import Lines, MediaInfo
from ..fields import first_lines
from .base import Detector, Finding, Look, Place, densest

SIGMAS = 5
LEAST_COMB = 8 / CV_SCALE
LEAST_MOVING = 0.005
OWN_SHARE = 0.4
"""Combs as they are against combs rewoven, above which the frame itself is woven of two moments."""

AGREED = 0.6
"""Part of the looks that have to tell one order of the lines: fine patterns comb too, but know none."""


@dataclass(frozen=True, slots=True)
class Combs:
    """Percent of the moving pixels that comb in the frame and rewoven, and the densest place."""

    own: float
    rewoven: float
    moving: float
    place: Place | None
    first: Lines | None = None


def observe(look: Look) -> Combs:
    if look.before is None or look.luma.shape[0] < 16:
        return Combs(0.0, 0.0, 0.0, None)
    sigma = look.curve.sigma_at(look.luma, "luma")
    change = np.abs(cv2.blur(look.luma - look.before, (5, 5)))
    moving = change > np.maximum(LEAST_COMB, sigma * SIGMAS / 5 * 1.5)
    woven = look.luma.copy()
    woven[1::2] = look.before[1::2]
    own, other = (_combs(p, sigma) & moving for p in (look.luma, woven))
    count = max(int(moving.sum()), 1)
    first = None if look.after is None else first_lines(look.before, look.luma, look.after)
    return Combs(
        100 * float(own.sum()) / count,
        100 * float(other.sum()) / count,
        float(moving.mean()),
        densest(own, 96),
        first,
    )


def _combs(plane: Array, sigma: Array) -> npt.NDArray[np.bool_]:
    """Pixels that lie on one side of both the line above and the line below, while those agree."""
    found = combs(plane, np.roll(plane, 1, axis=0), np.roll(plane, -1, axis=0), sigma)
    found[0] = found[-1] = False
    return found


def combs(here: Array, above: Array, below: Array, sigma: Array) -> npt.NDArray[np.bool_]:
    """Whether values lie on one side of both those in the line above and in the line below, while these agree."""
    least = np.maximum(LEAST_COMB, SIGMAS * sigma)
    up, down = here - above, here - below
    height = np.minimum(np.abs(up), np.abs(down))
    found: npt.NDArray[np.bool_] = (up * down > 0) & (height > least) & (np.abs(above - below) < 0.5 * height)
    return found


def conclude(seen: Sequence[tuple[int, Combs]], info: MediaInfo) -> Finding:
    told = [(n, c) for n, c in seen if c.moving > LEAST_MOVING]
    if not told:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.2, detail="nothing moves enough to tell")
    worst, densest_combs = max(told, key=lambda item: item[1].own)
    own, rewoven = (float(np.median([getattr(c, which) for _, c in told])) for which in ("own", "rewoven"))
    orders = [c.first for _, c in told]
    order: Lines = "top" if orders.count("top") >= orders.count("bottom") else "bottom"
    woven = own > OWN_SHARE * rewoven and orders.count(order) >= AGREED * len(told)
    detail = ""
    if woven and own > DETECTOR.tolerance:
        detail = f"every frame holds two moments, {order} lines first"
    return DETECTOR.finding(own if woven else 0.0, worst, region=densest_combs.place, detail=detail)


DETECTOR = Detector("interlace", "% of what moves", 2.0, 21, observe, conclude, beside=1)
"""Value: share of the moving pixels that comb. Tolerance: common practice, no source."""
