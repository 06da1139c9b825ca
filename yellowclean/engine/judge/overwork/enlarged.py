"""What enlarging can break: detail and texture that no frame holds."""

from __future__ import annotations

import cv2
import numpy as np

from ...frames import CV_SCALE, Array
from .base import (
    CALM,
    CALM_AROUND,
    ENOUGH_PLAIN,
    SEEN,
    Evidence,
    Mask,
    Measure,
    Reading,
    bands,
    local,
    noise_in_bands,
    sigma_of,
)
from .foretold import Foretold

AROUND = 4.0
"""Blur of the maps, in pixels before enlarging."""


def _unsupported(evidence: Evidence) -> Reading:
    """How much of what enlarging added does not come true in frames that had no part in it (least squares): what
    averaging took of this frame's own noise does."""
    nothing = np.zeros(evidence.shape, np.float32)
    if evidence.before_enlarging is None:
        return Reading(0.0, nothing, "no step enlarges")
    if not evidence.enlarged:
        return Reading(0.0, nothing, "too few frames to tell")
    added, came_true, where = 0.0, 0.0, nothing
    for frame in evidence.enlarged:
        power, true = (local(plane * frame.sure, AROUND) for plane in (frame.told**2, frame.told * frame.true))
        seen = frame.sure & (power > (SEEN * sigma_of(frame.other, frame.profile)) ** 2)
        added += float((frame.told[seen] ** 2).sum())
        came_true += float((frame.told * frame.true)[seen].sum())
        where = np.maximum(where, _brought_here(seen * (1 - true / np.maximum(power, 1e-12)), frame, evidence))
    if not added:
        return Reading(0.0, nothing, "too little was added to tell")
    value = 100 * (1 - came_true / added)
    return Reading(max(value, 0.0), 100 * where / np.float32(UNSUPPORTED.limit), "of what enlarging added")


def from_nothing(evidence: Evidence) -> Reading:
    """What enlarging added and does not come true where frames that had no part in it show nothing but noise."""
    nothing = np.zeros(evidence.shape, np.float32)
    if not evidence.enlarged:
        return Reading(0.0, nothing, "too few frames to tell")
    left, count, where = 0.0, 0, nothing
    for frame in evidence.enlarged:
        calm = frame.sure & _calm(frame)
        apart = frame.told**2 - frame.told * frame.true
        left += float(apart[calm].sum())
        count += int(calm.sum())
        around = np.sqrt(np.maximum(local(apart * calm, AROUND), 0))
        where = np.maximum(where, _brought_here(around * np.float32(CV_SCALE), frame, evidence))
    share = count / sum(frame.told.size for frame in evidence.enlarged)
    if share < ENOUGH_PLAIN:
        return Reading(0.0, nothing, "nothing is plain enough to tell")
    value = CV_SCALE * float(np.sqrt(max(left / count, 0)))
    return Reading(value, where, f"over {100 * share:.0f} % of the picture, which is plain")


def _calm(frame: Foretold) -> Mask:
    """Where a frame shows nothing but its noise: in the finest two bands no more power than that has."""
    power = sigma_of(frame.other, frame.profile) ** 2
    shares = noise_in_bands(frame.profile.spectrum_array()[0, 0])[:2]
    within = [
        local(band**2, CALM_AROUND) < np.float32(CALM * share) * power
        for band, share in zip(bands(frame.other), shares, strict=False)
    ]
    found: Mask = np.logical_and(*within)
    return found


def _brought_here(plane: Array, frame: Foretold, evidence: Evidence) -> Array:
    """A map of another frame, as it lies in the enlarged one: H×W of the result."""
    here = cv2.remap(plane.astype(np.float32), *frame.found_at(), cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    return np.asarray(cv2.resize(here, evidence.shape[::-1], interpolation=cv2.INTER_LINEAR), np.float32)


# Set on scenes of the test camera and photographs, 1.5, 2 and 3 times as large (docs/methods.md).
UNSUPPORTED = Measure(
    "unsupported", "Detail unsupported", "% of what was added", 70.0,
    "Detail of the enlarged picture that frames which had no part in it do not bear out.", _unsupported,
)  # fmt: skip
