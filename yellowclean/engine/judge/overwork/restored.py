"""What bringing detail back can break: edges that overshoot, noise that comes back, detail that crawls, and texture
that is in no frame."""

from __future__ import annotations

import cv2
import numpy as np

from ...frames import CV_SCALE, Array, luma
from ...measure.blur import cut
from ...measure.findings.overshoot import beyond, edges_of
from . import enlarged
from .base import (
    BANDS,
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
)

AROUND = 8.0
"""Blur of the maps, in pixels."""

FLAT, FLAT_AROUND = 0.1, 7.0
"""Share of the picture, its plainest places, in which noise is read, and the blur over which they are told."""

ENOUGH_EDGES = 30
NORMAL = 1.4826
"""Deviation of normal noise over the median of its amounts, which a little texture does not move."""

PLAIN = 0.1, 0.2
"""Share of their power that two frames have in common, in the fine and in the medium band, below which a place
shows nothing but noise; chance makes the one of a smaller number of waves vary more."""


def _overshoot(evidence: Evidence) -> Reading:
    """How much farther than before edges go beyond both their sides, as a share of the step: the median."""
    nothing = np.zeros(evidence.shape, np.float32)
    if not evidence.restores:
        return Reading(0.0, nothing, "no step restores detail")
    before, after = luma(evidence.result), luma(evidence.restored)
    clipped = cut(evidence.result, evidence.around.format.encoding.transfer)
    edges, sharpened = edges_of(before, evidence.sigma, clipped, after)
    if len(edges.x) < ENOUGH_EDGES:
        return Reading(0.0, nothing, "too few edges with two plain sides to tell")
    were, are = beyond(edges.profile), beyond(sharpened.profile)
    sides = [np.maximum(now, 0) - np.maximum(was, 0) for now, was in zip(are, were, strict=True)]
    more = np.minimum(*sides)  # what was there on one side comes back clearer; a halo is on both
    over, there = nothing.copy(), nothing.copy()
    over[edges.y, edges.x], there[edges.y, edges.x] = 100 * more, 1
    where = local(over, AROUND) / np.maximum(local(there, AROUND), 1e-6) / OVERSHOOT.limit
    where *= cv2.dilate(there, np.ones((9, 9), np.uint8))
    return Reading(max(100 * float(np.median(more)), 0.0), np.maximum(where, 0), f"over {len(edges.x)} px of edges")


def _noise(evidence: Evidence) -> Reading:
    """By how much the fine noise of the plainest places grew, as a share of the source's noise there. Noise is what
    the frame beside does not show too."""
    nothing = np.zeros(evidence.shape, np.float32)
    neighbour = evidence.neighbour
    if not evidence.restores or neighbour is None:
        return Reading(0.0, nothing, "one frame" if evidence.restores else "no step restores detail")
    source = luma(evidence.source)
    busy = local(np.abs(local(source, BANDS[0]) - local(source, BANDS[2])), FLAT_AROUND)
    track = evidence.track(neighbour)
    apart = []
    for pipeline, frame in ((evidence.pipeline, evidence.result), (evidence.whole_plan, evidence.restored)):
        brought, sure = evidence.fetched(pipeline.frame(neighbour, evidence.region), track)
        apart.append(_fine(luma(frame) - luma(brought)) * np.float32(np.sqrt(0.5)))
    flat = (busy <= np.quantile(busy, FLAT)) & sure
    if not flat.any():
        return Reading(0.0, nothing, "no motion is sure enough")
    before, after = apart
    more = np.sqrt(local(after**2, AROUND)) - np.sqrt(local(before**2, AROUND))
    where = (100 * more / evidence.sigma / NOISE.limit * flat).astype(np.float32)
    was, left = (NORMAL * float(np.median(np.abs(plane[flat]))) for plane in apart)
    value = 100 * (left - was) / float(evidence.sigma[flat].mean())
    return Reading(max(value, 0.0), np.maximum(where, 0), f"{left * CV_SCALE:.2f} CV there now")


def _fine(plane: Array) -> Array:
    fine: Array = plane - cv2.GaussianBlur(plane, (0, 0), 2)
    return fine


def _crawling(evidence: Evidence) -> Reading:
    """How much of the detail that was added the frame beside does not have in the same place, along the motion."""
    nothing = np.zeros(evidence.shape, np.float32)
    neighbour = evidence.neighbour
    if not evidence.restores or neighbour is None:
        return Reading(0.0, nothing, "one frame" if evidence.restores else "no step restores detail")
    here = luma(evidence.restored - evidence.result)
    other = evidence.whole_plan.frame(neighbour, evidence.region) - evidence.pipeline.frame(
        neighbour, evidence.region
    )
    brought, sure = evidence.fetched(other, evidence.track(neighbour))
    there = luma(brought)
    power = (here**2 + there**2) * sure
    seen = local(power, AROUND) > 2 * (SEEN * evidence.sigma) ** 2
    if not (seen & sure).any():
        return Reading(0.0, nothing, "too little was added to tell")
    apart = (here - there) ** 2 * sure
    share = local(apart, AROUND) / np.maximum(local(power, AROUND), 1e-12)
    value = 100 * float(apart[seen].sum() / power[seen].sum())
    return Reading(value, (100 * share / CRAWLING.limit * seen).astype(np.float32), "of the detail added")


def _invented(evidence: Evidence) -> Reading:
    """What was sharpened or enlarged out of nothing: the more of both."""
    made = _sharpened_from_nothing(evidence)
    if evidence.before_enlarging is None:
        return made
    larger = enlarged.from_nothing(evidence)
    return larger if larger.value > made.value or not evidence.restores else made


def _sharpened_from_nothing(evidence: Evidence) -> Reading:
    """What was added where frames that had no part in it show nothing but noise, less what they do hold of it: of
    three signals that share a part alone, it is the product of two of the crossed powers over the third (triple
    collocation, after Stoffelen 1998, from memory)."""
    nothing = np.zeros(evidence.shape, np.float32)
    if not evidence.restores:
        return Reading(0.0, nothing, "no step restores detail")
    witnesses = evidence.witnesses
    if len(witnesses) < 2:
        return Reading(0.0, nothing, "too few frames to tell")
    (one, sure), (other, sure_too) = (evidence.fetched(*witness) for witness in witnesses)
    added, shown, shown_too = (bands(luma(frame)) for frame in (evidence.restored - evidence.result, one, other))
    plain = _plain(shown, shown_too, evidence, sure & sure_too)
    if plain.mean() < ENOUGH_PLAIN:
        return Reading(0.0, nothing, "nothing is plain enough to tell")
    left = 0.0
    for new, here, there in zip(added, shown, shown_too, strict=True):
        power, common = float((new[plain] ** 2).mean()), float((here * there)[plain].mean())
        held = float((new * here)[plain].mean() * (new * there)[plain].mean()) / common if common > 0 else 0.0
        left += power - float(np.clip(held, 0, power))
    value = float(np.sqrt(left)) * CV_SCALE
    where = np.sqrt(sum(local(new**2 * plain, AROUND) for new in added)) * np.float32(CV_SCALE / INVENTED.limit)
    return Reading(value, where, f"over {100 * plain.mean():.0f} % of the picture, which is plain")


def _plain(one: list[Array], other: list[Array], evidence: Evidence, sure: Mask) -> Mask:
    """Where two frames of the source, in bands, show nothing but its noise."""
    plain, of_noise = sure.copy(), noise_in_bands(evidence.around.profile.spectrum_array()[0, 0])
    for here, there, share, noise in zip(one, other, PLAIN, of_noise, strict=False):
        power = local((here**2 + there**2) * sure, CALM_AROUND) / 2
        plain &= local(here * there * sure, CALM_AROUND) < np.float32(share) * power
        plain &= power < np.float32(CALM * noise) * evidence.sigma**2
    return plain


# Set on test-camera clips: the truth itself, held against its blurred picture, reads up to 8 % of overshoot, and
# proposals up to 14 % of noise; unsharp masks without a floor 75 % of noise and more, a blur told too large 16 % of
# overshoot and more.
OVERSHOOT = Measure(
    "overshoot", "Edges overshoot", "% of the edge's step", 10.0,
    "Edges that go farther beyond both their sides than before: seen as halos.", _overshoot,
)  # fmt: skip
NOISE = Measure(
    "brought back", "Noise brought back", "% of the noise", 20.0,
    "Fine noise of plain places that sharpening raised.", _noise,
)  # fmt: skip
CRAWLING = Measure(
    "crawling", "Crawling detail", "% of what was added", 50.0,
    "Detail that was added to one frame and not to the next.", _crawling,
)  # fmt: skip
INVENTED = Measure(
    "invented", "Texture invented", "CV", 4.0,
    "Texture that was added where frames that had no part in it show nothing.", _invented,
)  # fmt: skip
