"""How far what is seen moved while it was exposed, and where that is sure."""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np

from ..frames import Array, Region
from ..measure.exposure import sure
from .base import Around

SHORTEST, LONGEST, STEP = 1.0, 10.0, 0.5
"""Pixels that something has to have moved while it was exposed, and may at most have, for that to be undone; and
the step between the ways that are told apart."""

BORDER_PX = 4.0
"""Deviation in pixels over which what moves otherwise is parted."""


class Way(NamedTuple):
    """How many pixels to the right and down something moved while it was exposed, and where it did: H×W, 0-1
    (None: everywhere), 0 outside of the box."""

    box: Region
    moved: tuple[float, float] = (0.0, 0.0)
    where: Array | None = None


def ways_of(exposure: float, n: int, around: Around, place: Region) -> list[Way]:
    """The ways of what is seen of frame n over a place, exposed for that part of the time to the next frame."""
    beside = [k for k in (n - 1, n + 1) if 0 <= k < around.frames]
    if not beside:
        return []
    forth = [np.array([k - n, k - n, 1], np.float32) for k in beside]
    fields = np.stack([around.motion(n, k).over(place) * sign for k, sign in zip(beside, forth, strict=True)])
    motion, doubt = fields[..., :2].mean(axis=0), fields[..., 2].max(axis=0)
    lengths = np.hypot(motion[..., 0], motion[..., 1])
    way = lengths * np.float32(exposure)
    told = sure(doubt, lengths) & (way >= SHORTEST) & (way <= LONGEST)
    steps = np.rint(motion * np.float32(exposure / STEP)).astype(np.int32)
    steps[(steps[..., 0] < 0) | ((steps[..., 0] == 0) & (steps[..., 1] < 0))] *= -1  # to and fro smear alike
    return [_way(steps, told, int(across), int(down)) for across, down in np.unique(steps[told], axis=0)]


def _way(steps: Array, told: Array, across: int, down: int) -> Way:
    alike = (steps[..., 0] == across) & (steps[..., 1] == down) & told
    where = cv2.GaussianBlur(alike.astype(np.float32), (0, 0), BORDER_PX)
    rows, columns = np.flatnonzero(where.any(axis=1)), np.flatnonzero(where.any(axis=0))
    left, top = int(columns[0]), int(rows[0])
    box = Region(left, top, int(columns[-1]) + 1 - left, int(rows[-1]) + 1 - top)
    return Way(box, (STEP * across, STEP * down), where)
