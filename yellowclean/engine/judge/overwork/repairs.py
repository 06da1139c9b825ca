"""What repairs can break: stars taken for specks, ghosts where specks were, fades evened as flicker, shapes evened
as bands, detail cleared as a codec's error, and colour drained with moiré."""

from __future__ import annotations

import cv2
import numpy as np

from ...colour.opponent import colour_difference
from ...frames import CV_SCALE, Array, Frame, luma
from ...measure.findings.banding import bands_of
from ...pipeline import Pipeline
from .base import Evidence, Mask, Measure, Reading, local

POINT, ENOUGH_POINTS = 6.0, 20
"""Deviations of the noise that a point exceeds its surroundings by, and how many of them a share needs."""

KEPT = 0.5
"""Part of its height that a point has to keep, and that it has in a frame beside."""

CHANGED, STANDS_OUT = 4.0, 4.0
"""Deviations from which a pixel was changed outright, and by which one lies outside of all that is near its place
in the frames beside."""

ENOUGH_CHANGED = 30
"""Pixels changed that a share needs."""

ROUNDED, UNSEEN_CV = 0.9, 0.5
"""Part of the step between bands by which taking them away changes a pixel at most, with the room that a codec
needs, and CV that nobody sees."""

BEYOND, AROUND = 1.5, 2.0
"""Coding errors by which work on compression changes a place outright, as a root mean square, and the blur in
pixels over which that is read (set on four clips at four codings: at 100 % at most 0.13 % of the picture lies
beyond; where work many times too hard ends below the untouched picture, 0.85 % and more)."""

MEAN_OF, DRAINED_CV = 12.0, 8.0
"""Blur in pixels by which coloured waves average out, and CV by which colour may then differ from what it was."""

FADE_S, BY_CHANCE = 2.0, 3.0
"""Seconds before and after a frame over which light is followed, and how many deviations of the mean of flicker may
be chance."""


def _heights(rgb: Frame) -> Array:
    """By how much each pixel exceeds its 5×5 surroundings in all three colours, H×W: lights have all, single
    photosites one."""
    planes = [np.ascontiguousarray(rgb[..., c]) for c in range(3)]
    over: Array = np.minimum.reduce([plane - cv2.medianBlur(plane, 5) for plane in planes])
    return over


def _points(evidence: Evidence) -> Reading:
    nothing = np.zeros(evidence.shape, np.float32)
    neighbour = evidence.neighbour
    if neighbour is None or min(evidence.shape) < 5:
        return Reading(0.0, nothing, "one frame")
    near = np.ones((3, 3), np.uint8)
    height = _heights(evidence.untouched)
    peaks = (height > POINT * evidence.sigma) & (height >= cv2.dilate(height, near))
    beside = evidence.but_specks.frame(neighbour, evidence.region)
    brought, sure = evidence.fetched(beside, evidence.track(neighbour))
    peaks &= sure & (cv2.dilate(_heights(brought), near) > KEPT * height)
    count = int(peaks.sum())
    if count < ENOUGH_POINTS:
        return Reading(0.0, nothing, "too few points to tell")
    lost = peaks & (cv2.dilate(_heights(evidence.result), near) < KEPT * height)
    shown = cv2.dilate(lost.astype(np.float32), np.ones((9, 9), np.uint8))
    return Reading(100 * float(lost.sum()) / count, shown, f"{int(lost.sum())} of {count} points")


def _ghosts(evidence: Evidence) -> Reading:
    nothing = np.zeros(evidence.shape, np.float32)
    changed = np.abs(luma(evidence.source - evidence.untouched)) > CHANGED * evidence.sigma
    count = int(changed.sum())
    if count < ENOUGH_CHANGED:
        return Reading(0.0, nothing, "too little was put right to tell")
    frames = range(evidence.pipeline.footage.info.frames)
    outside = [_outside(evidence, n) for n in (evidence.n - 1, evidence.n + 1) if n in frames]
    ghosts = changed & np.logical_and.reduce(outside) if outside else changed & False
    share = 100 * float(ghosts.sum()) / count
    return Reading(share, cv2.dilate(ghosts.astype(np.float32), np.ones((5, 5), np.uint8)), f"of {count} pixels")


def _outside(evidence: Evidence, neighbour: int) -> Mask:
    """Where what was mended stands out of all that is near its place in a neighbour, which is mended too."""
    other = evidence.reference.frame(neighbour, evidence.region)
    brought, sure = evidence.fetched(other, evidence.track(neighbour))
    here, there = luma(evidence.source), luma(brought)
    near = np.ones((3, 3), np.uint8)
    away = np.maximum(here - cv2.dilate(there, near), cv2.erode(there, near) - here)
    return (away > STANDS_OUT * evidence.sigma) & sure


def _shapes(evidence: Evidence) -> Reading:
    """Share of the picture in which luma was changed by more than the bands that were found in it explain."""
    pipeline = evidence.pipeline
    if not pipeline.plan.treating("banding").steps:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "no step works on bands")
    without = Pipeline(pipeline.footage, pipeline.plan.only(lambda t: "banding" not in t.treats))
    whole = without.frame(evidence.n)
    step = max(bands_of(plane).step for plane in (luma(whole), np.ascontiguousarray(whole[..., 1])))
    change = np.abs(luma(evidence.result - without.frame(evidence.n, evidence.region)))
    beyond = change / np.float32(ROUNDED * step + UNSEEN_CV / CV_SCALE)
    return Reading(100 * float((beyond > 1).mean()), beyond, f"steps of {step * CV_SCALE:.1f} CV are there")


def _errors(evidence: Evidence) -> Reading:
    """Share of the picture in which work on compression changed luma by more than the codec can have."""
    pipeline = evidence.pipeline
    steps = pipeline.plan.treating("blocking").steps
    if not steps:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "no step works on compression")
    told = evidence.around.coding_error(evidence.n)
    by_hand = max(float(getattr(step.parameters, "error", 0.0)) for step in steps) / CV_SCALE
    error = np.full(evidence.shape, by_hand, np.float32) if told is None else told[evidence.place.slices]
    change = luma(evidence.source - _but(evidence, "blocking"))
    beyond = np.sqrt(local(change * change, AROUND)) / np.maximum(np.float32(BEYOND) * error, UNSEEN_CV / CV_SCALE)
    share = 100 * float((beyond > 1).mean())
    return Reading(share, beyond, "by the file's quantisers" if told is not None else "by the error set by hand")


def _but(evidence: Evidence, finding: str) -> Frame:
    """The source with all that mends it but the steps that treat a finding."""
    pipeline = evidence.pipeline
    others = pipeline.plan.only(lambda t: (t.reshapes or t.mends) and finding not in t.treats)
    return Pipeline(pipeline.footage, others).frame(evidence.n, evidence.region)


def _drained(evidence: Evidence) -> Reading:
    """Share of the picture in which colour, coloured waves averaged, is not what it was."""
    if not evidence.pipeline.plan.treating("moiré").steps:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "no step works on moiré")
    planes = colour_difference(evidence.source - _but(evidence, "moiré"))
    moved = np.hypot(*(local(plane, MEAN_OF) for plane in planes)) * np.float32(CV_SCALE / DRAINED_CV)
    return Reading(100 * float((moved > 1).mean()), moved, f"most {DRAINED_CV * float(moved.max()):.1f} CV")


def _fades(evidence: Evidence) -> Reading:
    """By how much the light that is left when each half second is averaged is not what it was, at most: beyond what
    flicker itself leaves in such averages."""
    info, plan = evidence.pipeline.footage.info, evidence.pipeline.plan
    reach = max(round(FADE_S * float(info.fps)), 2)
    frames = range(max(evidence.n - reach, 0), min(evidence.n + reach + 1, info.frames))
    steps = [k for k, step in enumerate(plan.steps) if step.acts and step.treatment.course]
    if not steps or len(frames) < 3:
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "no step works on light over time")
    courses = [evidence.pipeline.course(k, frames) for k in steps]
    half_second = min(max(round(0.5 * float(info.fps)), 1), len(frames))
    value = max(_evened(np.log(course.after) - np.log(course.before), half_second) for course in courses)
    return Reading(value, np.full(evidence.shape, value / FADES.limit, np.float32), f"over {len(frames)} frames")


def _evened(change: Array, window: int) -> float:
    """The largest mean of a window of a change (logarithms), beyond chance, in percent."""
    change = change - change.mean()
    means = np.convolve(change, np.full(window, 1 / window), "valid")
    chance = BY_CHANCE * float(np.std(np.diff(change))) / np.sqrt(2 * window)
    return 100 * max(float(np.abs(means).max()) - chance, 0.0)


POINTS = Measure(
    "points",
    "Stars and points",
    "% lost",
    3.0,
    "Small lights of the scene that lost half of their height.",
    _points,
)
GHOSTS = Measure(
    "ghosts", "Ghosts of specks", "% of the repair", 15.0,
    "Pixels put right outright that look like nothing in the frames beside.", _ghosts,
)  # fmt: skip
FADES = Measure(
    "fades",
    "Fades evened",
    "%",
    5.0,
    "Slow change of light, as a fade is meant to be, that is not what it was.",
    _fades,
)
SHAPES = Measure(
    "shapes", "Shapes evened", "% of the picture", 2.0,
    "Where more was evened than the steps of the bands that are there.", _shapes,
)  # fmt: skip
ERRORS = Measure(
    "errors", "Beyond the coding error", "% of the picture", 0.5,
    "Where compression was treated by more than the codec's quantisers explain.", _errors,
)  # fmt: skip
DRAINED = Measure(
    "drained", "Colour drained", "% of the picture", 0.5,
    "Where work on moiré changed the cloth's own colour.", _drained,
)  # fmt: skip
