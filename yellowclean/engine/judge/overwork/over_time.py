"""What is wrong in time: trails behind what moves, and noise that boils or pumps from frame to frame."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ...frames import CV_SCALE, Array, Frame, Region, luma
from .base import Evidence, Mask, Measure, Reading, local

TRAIL_BLUR = 3.0
BOIL_AROUND = 12.0
"""Pixels within which changes of brightness are blotches, and over which they are averaged."""

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
    other = evidence.reference.frame(neighbour, evidence.region)
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
    """Coarse change of the result along the motion, where that is sure, beyond what would be left of the source's
    if all octaves had been reduced as the fine one was. The median over places, so that motion that is a little
    off beside edges does not count."""
    neighbour = evidence.neighbour
    if neighbour is None:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "one frame")
    track = evidence.track(neighbour)
    brought, sure = evidence.fetched(evidence.pipeline.frame(neighbour, evidence.region), track)
    source, _ = evidence.fetched(evidence.reference.frame(neighbour, evidence.region), track)
    sure = sure & _calm(luma(evidence.source) - luma(source), evidence)
    if sure.mean() < 0.02:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "no motion is sure enough")
    fine, coarse = _energies(luma(evidence.result) - luma(brought), sure)
    fine_before, coarse_before = _energies(luma(evidence.source) - luma(source), sure)
    kept = float(np.median(fine[sure])) / max(float(np.median(fine_before[sure])), 1e-12)
    near = np.sqrt(np.maximum(coarse - min(kept, 1.0) * coarse_before, 0) / 2) * CV_SCALE
    left = np.sqrt(np.median(coarse[sure]) / 2) * CV_SCALE
    return Reading(
        float(np.median(near[sure])), near * sure / BOILING.limit, f"coarse change of {left:.2f} CV in all"
    )


def _energies(change: Array, sure: Mask) -> tuple[Array, Array]:
    """Local power of the fine and of the coarse part of a change, over the sure places."""
    share = np.maximum(local(sure, BOIL_AROUND), 0.05)
    softer = local(change, 1.5)
    parts = change - softer, softer - local(change, BOIL_AROUND)
    fine, coarse = (local(part**2 * sure, BOIL_AROUND) / share for part in parts)
    return fine, coarse


def _calm(change: Array, evidence: Evidence) -> Mask:
    """Where the source itself only changes as noise does: the motion is right there."""
    blurred = np.abs(local(change, TRAIL_BLUR))
    calm: Mask = blurred < 3 * np.sqrt(np.float32(2)) * _noise_after(TRAIL_BLUR, evidence)
    return calm


def _flicker(evidence: Evidence) -> Reading:
    """By how much the mean stands off from those of the frames beside it, more than that of the source does: steady
    change cancels out, and flicker that the work took away counts for it."""
    nothing = np.zeros(evidence.shape, np.float32)
    frames = evidence.pipeline.footage.info.frames
    if frames < 3:
        return Reading(0.0, nothing, "too few frames")
    middle = min(max(evidence.n, 1), frames - 2)
    added = (
        _stands_off(evidence.pipeline.frame, middle, evidence.region)
        - _stands_off(evidence.reference.frame, middle, evidence.region)
    ) * CV_SCALE
    value = max(float(added.max()), 0.0)
    return Reading(value, nothing + np.float32(value / FLICKER.limit), f"most in {'RGB'[int(added.argmax())]}")


def _stands_off(frame: Callable[[int, Region], Frame], n: int, region: Region) -> Array:
    """By channel: the mean of a frame against the middle of those before and after it."""
    before, here, after = (frame(k, region).mean(axis=(0, 1)) for k in (n - 1, n, n + 1))
    off: Array = np.abs(here - (before + after) / 2)
    return off


TRAILS = Measure(
    "trails", "Trails and ghosts", "σ beyond chance", 0.5,
    "Where something moves: what the result shows and the source does not.", _trails,
)  # fmt: skip
BOILING = Measure("boiling", "Boiling", "CV", 2.4, "Blotches of noise that change from frame to frame.", _boiling)
FLICKER = Measure(
    "flicker", "Flicker", "CV", 1.0, "Level that moves more from frame to frame than the source's.", _flicker
)
