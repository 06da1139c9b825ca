"""What is wrong in time: trails behind what moves, and noise that boils or pumps from frame to frame."""

from __future__ import annotations

import cv2
import numpy as np

from ...frames import CV_SCALE, Array, luma
from .base import Evidence, Measure, Reading, local

TRAIL_BLUR = 3.0
MOVED, BEYOND = 5.0, 4.0
"""Deviations of the blurred noise: what differs more from a neighbour has moved; a change of the result beyond so
many is no noise."""


def _noise_after(blur: float, evidence: Evidence) -> Array:
    """Deviation of the source's luma noise after a blur, H×W: by the profile's own spectrum, from the field that
    the estimate is made with."""
    field = evidence.nudge.field[0]
    share = float(local(field, blur).std() / max(float(field.std()), 1e-9))
    return evidence.sigma * np.float32(share)


def _trails(evidence: Evidence) -> Reading:
    neighbour = evidence.neighbour
    if neighbour is None:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "one frame")
    noise = _noise_after(TRAIL_BLUR, evidence)
    other = evidence.pipeline.source_frame(neighbour, evidence.region)
    difference = local(luma(evidence.source) - luma(other), TRAIL_BLUR)
    moved = np.abs(difference) > MOVED * np.sqrt(np.float32(2)) * noise
    moved = cv2.dilate(moved.astype(np.uint8), np.ones((9, 9))).astype(bool)
    off = np.abs(local(luma(evidence.change), TRAIL_BLUR)) / noise
    beyond = np.maximum(off - BEYOND, 0) * moved
    if not moved.any():
        return Reading(0.0, beyond, "nothing moves")
    value = float(np.sqrt((beyond[moved] ** 2).mean()))
    return Reading(value, beyond / 2, f"{100 * moved.mean():.0f} % of the picture moves")


def _boiling(evidence: Evidence) -> Reading:
    """Medium and coarse change of the result along the motion, beyond edges and where the motion is sure."""
    neighbour = evidence.neighbour
    if neighbour is None:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "one frame")
    track = evidence.track(neighbour)
    brought, sure = evidence.fetched(evidence.pipeline.frame(neighbour, evidence.region), track)
    source, _ = evidence.fetched(evidence.pipeline.source_frame(neighbour, evidence.region), track)
    sure &= _calm(luma(evidence.source) - luma(source), evidence)
    if sure.mean() < 0.02:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "no motion is sure enough")
    change = luma(evidence.result) - luma(brought)
    coarse = local(change, 1.5) - local(change, 12)
    level = float(np.abs(change[sure].mean())) * CV_SCALE
    value = float(np.sqrt((coarse[sure] ** 2).mean() / 2)) * CV_SCALE
    near = np.sqrt(local(coarse**2 * sure, 12) / np.maximum(local(sure, 12), 0.05) / 2) * CV_SCALE
    return Reading(value, near / BOILING.limit, f"level moves by {level:.2f} CV")


def _calm(change: Array, evidence: Evidence) -> Array:
    """Where the source itself only changes as noise does: the motion is right there."""
    blurred = np.abs(local(change, TRAIL_BLUR))
    calm: Array = blurred < 3 * np.sqrt(np.float32(2)) * _noise_after(TRAIL_BLUR, evidence)
    return calm


TRAILS = Measure(
    "trails", "Trails and ghosts", "σ beyond chance", 0.5,
    "Where something moves: what the result shows and the source does not.", _trails,
)  # fmt: skip
BOILING = Measure(
    "boiling", "Boiling", "CV", 2.0, "Blotches of noise that change from frame to frame.", _boiling
)
