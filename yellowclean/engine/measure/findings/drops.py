"""Dropped frames: a steady movement that once takes about two steps at once."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import cv2
import numpy as np

from ...frames import Array
from ...media import MediaInfo
from .base import Detector, Finding, Glance

WIDTH = 240
LEAST_STEP = 0.6
"""Reduced pixels; a slower movement cannot be told from standing."""

TWICE = 1.6, 2.6
REACH = 3
STEADY = 0.35
"""By how much the steps around may differ among themselves, as a share of their mean."""


def observe(look: Glance) -> Array:
    """Luma at 240 px across."""
    height = max(round(look.luma.shape[0] * WIDTH / look.luma.shape[1]), 8)
    small: Array = cv2.resize(look.luma, (WIDTH, height), interpolation=cv2.INTER_AREA)
    return small


def steps(pictures: Sequence[Array]) -> Array:
    """(N-1)×2 movement of the whole picture from each frame to the next, by phase correlation."""
    if len(pictures) < 2:
        return np.zeros((0, 2))
    window = cv2.createHanningWindow(pictures[0].shape[::-1], cv2.CV_32F)
    pairs = itertools.pairwise(p.astype(np.float32) for p in pictures)
    return np.array([cv2.phaseCorrelate(a, b, window)[0] for a, b in pairs])


def conclude(seen: Sequence[tuple[int, Array]], info: MediaInfo) -> Finding:
    moves = steps([picture for _, picture in seen])
    dropped = [seen[k + 1][0] for k in range(REACH, len(moves) - REACH) if _is_double(moves, k)]
    listed = ", ".join(str(n) for n in dropped[:8])
    moving = float(np.median(np.hypot(*moves.T))) if len(moves) else 0.0
    detail = f"a frame is missing before {listed}" if dropped else ""
    confidence = 1.0 if moving >= LEAST_STEP else 0.3
    return DETECTOR.finding(float(len(dropped)), (dropped or [seen[0][0]])[0], confidence=confidence, detail=detail)


def _is_double(moves: Array, k: int) -> bool:
    around = np.concatenate([moves[k - REACH : k], moves[k + 1 : k + 1 + REACH]])
    mean = around.mean(axis=0)
    length = float(np.hypot(*mean))
    if length < LEAST_STEP or np.hypot(*(around - mean).T).max() > STEADY * length:
        return False
    along = float(moves[k] @ mean) / length**2
    aside = float(np.hypot(*(moves[k] - along * mean)))
    return TWICE[0] <= along <= TWICE[1] and aside < STEADY * length


DETECTOR = Detector("dropped frames", "frames", 0.0, 96, observe, conclude, every_frame=True)
