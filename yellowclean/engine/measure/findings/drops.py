"""Dropped frames: a steady movement that once takes about two steps at once."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from ...frames import Array
from ...media import MediaInfo
from .base import Detector, Finding, Glance, whole_frames

WIDTH = 240
LEAST_STEP = 0.6
"""Reduced pixels; a slower movement cannot be told from standing."""

TWICE = 1.6, 2.6
REACH = 3
STEADY = 0.35
"""By how much the steps around may differ among themselves, as a share of their mean."""


def observe(look: Glance) -> tuple[float, float]:
    """Movement of the whole picture (x, y) since the frame before, by phase correlation at 240 px across."""
    if look.before is None:
        return 0.0, 0.0
    before, here = (_small(plane) for plane in (look.before, look.luma))
    window = cv2.createHanningWindow(here.shape[::-1], cv2.CV_32F)
    x, y = cv2.phaseCorrelate(before, here, window)[0]
    return float(x), float(y)


def _small(plane: Array) -> Array:
    height = max(round(plane.shape[0] * WIDTH / plane.shape[1]), 8)
    small: Array = cv2.resize(plane, (WIDTH, height), interpolation=cv2.INTER_AREA)
    return small.astype(np.float32)


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    moves = np.array([move for _, move in seen[1:]]).reshape(-1, 2)
    dropped = [seen[k + 1][0] for k in range(REACH, len(moves) - REACH) if _is_double(moves, k)]
    listed = ", ".join(str(n) for n in dropped[:8])
    moving = float(np.median(np.hypot(*moves.T))) if len(moves) else 0.0
    detail = f"a frame is missing before {listed}" if dropped else ""
    confidence = 1.0 if moving >= LEAST_STEP else 0.3
    return DETECTOR.finding(
        float(len(dropped)), (dropped or [seen[0][0]])[0], confidence=confidence, detail=detail,
        spots=whole_frames(dropped, info),
    )  # fmt: skip


def _is_double(moves: Array, k: int) -> bool:
    around = np.concatenate([moves[k - REACH : k], moves[k + 1 : k + 1 + REACH]])
    mean = around.mean(axis=0)
    length = float(np.hypot(*mean))
    if length < LEAST_STEP or np.hypot(*(around - mean).T).max() > STEADY * length:
        return False
    along = float(moves[k] @ mean) / length**2
    aside = float(np.hypot(*(moves[k] - along * mean)))
    return TWICE[0] <= along <= TWICE[1] and aside < STEADY * length


DETECTOR = Detector(
    "dropped frames", "frames", 0.0, 96, observe, conclude, every_frame=True,
    instead="No frame holds what is missing: ask for the recording, and look for the loss on the way to here.",
)  # fmt: skip
