"""A flat patch before and after treatment: the plainest measure of what a plan did."""

from __future__ import annotations

from pydantic import BaseModel

from ..frames import Frame
from ..measure.patch import Patch, PatchReading, measure_pixels


class PatchBeforeAfter(BaseModel):
    """One flat patch in the source and at the same place in the result, in 10-bit CV."""

    patch: Patch
    level_cv: float
    source_luma_cv: float
    result_luma_cv: float
    source_chroma_cv: float
    result_chroma_cv: float


def patch_before_after(before: PatchReading, result: Frame) -> PatchBeforeAfter:
    """Measure `result`, the treated pixels of the patch alone, beside an earlier reading."""
    after = measure_pixels(result, before.patch)
    return PatchBeforeAfter(
        patch=before.patch,
        level_cv=before.level_cv,
        source_luma_cv=before.luma_cv,
        result_luma_cv=after.luma_cv,
        source_chroma_cv=before.chroma_cv,
        result_chroma_cv=after.chroma_cv,
    )
