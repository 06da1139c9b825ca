"""What a plan leaves: of the noise by flat patches before and after, the plainest measure there is, of the rest
by the detectors that found it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from pydantic import BaseModel, Field

from ..frames import CV_SCALE, Frame, Region
from ..measure.patch import Patch, PatchReading, measure_pixels
from ..measure.report import SurveyReport
from ..noise.profile import NoiseCurve
from ..pipeline import Pipeline
from ..plan import Plan
from .again import due, measured_again

MOST_OVER_NOISE = 1.05
"""Of a patch's deviation against the shot's noise: 5 % more is a tenth more power, and after a treatment that
leaves a tenth of the noise's deviation it would read three times what is left."""

LEAST_TOLD_CV = 0.2


LEAST_PIECE = 8
"""Pixels a side of what a plan makes of a patch, from which on its noise can be told."""


class PatchBeforeAfter(BaseModel):
    """One flat patch in the source and at the same place in the result, in 10-bit CV."""

    patch: Patch
    level_cv: float
    source_luma_cv: float
    result_luma_cv: float
    source_chroma_cv: float
    result_chroma_cv: float


def patch_before_after(patch: Patch, source: Frame, result: Frame) -> PatchBeforeAfter:
    """Measure the pixels of a patch alone, in the source as it was brought into the result's format, and in the
    result."""
    before, after = measure_pixels(source, patch), measure_pixels(result, patch)
    return PatchBeforeAfter(
        patch=patch,
        level_cv=before.level_cv,
        source_luma_cv=before.luma_cv,
        result_luma_cv=after.luma_cv,
        source_chroma_cv=before.chroma_cv,
        result_chroma_cv=after.chroma_cv,
    )


def patch_at(pipeline: Pipeline, patch: Patch) -> PatchBeforeAfter:
    """A patch of the source and what a plan leaves of it."""
    where = patch.frame, patch.region
    return patch_before_after(patch, pipeline.reference.frame(*where), pipeline.frame(*where))


def comparable(reading: PatchReading, curve: NoiseCurve) -> bool:
    """Whether a patch can tell what is left of its noise: it is flat, and holds no more than the shot's noise at
    its level. Faint texture that noise hides stays when the noise goes, and would count as noise left."""
    if not reading.flat:
        return False
    expected_cv = float(curve.sigma_at(np.array(reading.level_cv / CV_SCALE), "luma")) * CV_SCALE
    return reading.luma_cv <= MOST_OVER_NOISE * max(expected_cv, LEAST_TOLD_CV)


class Remaining(BaseModel):
    """Each finding after a plan, in the finding's unit, and how that is known.

    "patches": measured in the result, at flat patches of the survey. "estimate": no patch is flat, so
    this is what the steps themselves count as left. "nothing": the plan does nothing, so all is as it was.
    """

    values: dict[str, float]
    basis: Literal["patches", "estimate", "nothing"]
    patches: list[PatchBeforeAfter]
    coming: list[str] = Field([], description="Findings that are still to be measured.")


def remaining(pipeline: Pipeline, report: SurveyReport) -> Remaining:
    """What a plan leaves of a surveyed shot's noise, and of what else its steps treat."""
    *_, last = remaining_one_by_one(pipeline, report)
    return last


def nothing_yet(plan: Plan, report: SurveyReport) -> Remaining:
    """What can be told before anything is measured: what will be."""
    coming = ["noise", "colour noise", *(finding.kind for finding in due(plan, report))]
    return Remaining(values={}, basis="patches", patches=[], coming=coming)


def remaining_one_by_one(pipeline: Pipeline, report: SurveyReport) -> Iterator[Remaining]:
    """The same, told whenever another finding was measured: noise first, then the others, the worst first."""
    if not any(step.acts for step in pipeline.plan.steps):
        yield Remaining(values={}, basis="nothing", patches=[])
        return
    told = [r.patch for r in report.patches if comparable(r, report.profile.curve)]
    large = [patch for patch in told if pipeline.covered(patch.region).shortest >= LEAST_PIECE]
    pairs = [patch_at(pipeline, patch) for patch in large]
    if pairs:
        shares = shares_left(pairs)
    else:
        luma, chroma = pipeline.noise_left(report.media.frames // 2, _middle(report))
        shares = {"noise": luma, "colour noise": chroma}
    values = {f.kind: f.value * shares[f.kind] for f in report.findings if f.kind in shares}
    coming = [finding.kind for finding in due(pipeline.plan, report)]
    told_so_far = Remaining(values=values, basis="patches" if pairs else "estimate", patches=pairs, coming=coming)
    yield told_so_far
    for finding in measured_again(pipeline, report):
        values, coming = values | {finding.kind: finding.value}, coming[1:]
        yield told_so_far.model_copy(update={"values": values, "coming": coming})


def shares_left(pairs: Sequence[PatchBeforeAfter]) -> dict[str, float]:
    """What is left of luma's and of colour's noise at flat patches, as shares, by kind of finding."""
    return {
        "noise": float(np.mean([p.result_luma_cv / max(p.source_luma_cv, 0.01) for p in pairs])),
        "colour noise": float(np.mean([p.result_chroma_cv / max(p.source_chroma_cv, 0.01) for p in pairs])),
    }


def _middle(report: SurveyReport) -> Region:
    """A quarter of the frame, from its middle: enough for a mean, quick to compute."""
    width, height = report.media.width, report.media.height
    return Region(width // 4, height // 4, max(width // 2, 1), max(height // 2, 1))
