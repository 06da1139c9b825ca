"""Specks: dust, dirt, drop-outs and passing satellites, seen in one frame only and explained by no motion
(`measure.outliers`). What comes again and again near a place is its sparkle."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np

from ...media import MediaInfo
from ..outliers import LEAST_SIDE, Found, Speck, lasting, specks_in
from .base import Detector, Finding, Look, Place, Spot


def observe(look: Look) -> Found | None:
    """The specks of a frame that has neighbours on both sides; None where they cannot be told."""
    if look.before is None or look.after is None or min(look.luma.shape) < LEAST_SIDE:
        return None
    erred = float(np.nan_to_num(look.said.coding_error))  # 0 where the file does not tell
    return specks_in(look.frame, look.before, look.after, look.sigma, coding_error=erred)


def conclude(seen: Sequence[tuple[int, Found | None]], info: MediaInfo) -> Finding:
    looks = {n: found for n, found in seen if found is not None}
    looked = max(len(looks), 1)
    kept = [(n, speck) for n in looks for speck in lasting(n, looks)]
    spots = [_spot(n, speck) for n, speck in kept]
    confidence = 0.9 if looked > 1 else 0.4
    if not spots:
        return DETECTOR.finding(0.0, seen[0][0], confidence=confidence)
    worst, count = Counter(spot.frame for spot in spots).most_common(1)[0]
    first = next(spot for spot in spots if spot.frame == worst)
    kinds = ", ".join(f"{number} {kind}" for kind, number in Counter(speck.kind for _, speck in kept).most_common())
    detail = f"{kinds} in the {looked} frames looked at, {count} of them in frame {worst}"
    return DETECTOR.finding(
        len(spots) / looked, worst, confidence=confidence,
        region=Place(**first.model_dump(exclude={"frame"})), detail=detail, spots=spots,
    )  # fmt: skip


def _spot(n: int, speck: Speck) -> Spot:
    height, width = speck.mask.shape
    return Spot(frame=n, x=speck.x, y=speck.y, width=width, height=height)


DETECTOR = Detector("specks", "a frame", 1.0, 40, observe, conclude, beside=3)
"""Value: specks in a frame, on average. Tolerance: common practice, no source."""
