"""How a shot stands: each finding, what a plan leaves of it, and whether that still lies outside its tolerance.

The one place where this is decided. The contact sheet, the Bench, the command line and the proposal all show what
stands here, and never a figure that was measured for another plan.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from pydantic import BaseModel, Field

from ..measure.findings import Finding
from ..plan import Plan
from .patches import Remaining

WITHOUT_TOLERANCE = 10.0
"""Severity of each unit of a fault of which nothing is tolerated."""


MOST_NOISIEST = 3


class Standing(BaseModel):
    """A finding as it stands under a plan; without one, as it was measured."""

    kind: str
    value: float = Field(description="As measured in the source.")
    remaining: float | None = Field(description="What the plan leaves, where that was measured for this very plan.")
    unit: str
    tolerance: float
    outside: bool = Field(description="Whether it lies outside its tolerance now.")
    was_outside: bool = Field(False, description="Whether it lay outside as measured.")
    severity: float = Field(description="How far: 1 is on the tolerance.")


def standings(findings: Iterable[Finding], left: Remaining | None = None) -> list[Standing]:
    """All findings in their order; `left` is what the plan in question leaves, None where nobody measured it."""
    values = left.values if left else {}
    return [_standing(finding, values.get(finding.kind)) for finding in findings]


def _standing(finding: Finding, remaining: float | None) -> Standing:
    now = finding.value if remaining is None else remaining
    tolerance = finding.tolerance
    severity = now / tolerance if tolerance > 0 else WITHOUT_TOLERANCE * now
    return Standing(
        kind=finding.kind, value=finding.value, remaining=remaining, unit=finding.unit, tolerance=tolerance,
        outside=finding.model_copy(update={"value": now}).outside, was_outside=finding.outside, severity=severity,
    )  # fmt: skip


class FrameNoise(BaseModel):
    """Luma noise of each frame as it stands, which of them lie outside the tolerance, and the noisiest."""

    cv: list[float]
    outside: list[bool]
    noisiest: list[int] = Field(description="Up to three frames of the source, not beside one another.")


def frame_noise(measured_cv: Sequence[float], stands: Sequence[Standing]) -> FrameNoise:
    """What is left of each frame's noise, in the share that is left of the shot's."""
    noise = next((s for s in stands if s.kind == "noise"), None)
    left, tolerance = 1.0, float("inf")
    if noise is not None:
        tolerance = noise.tolerance
        if noise.remaining is not None and noise.value > 0:
            left = noise.remaining / noise.value
    cv = [value * left for value in measured_cv]
    return FrameNoise(cv=cv, outside=[value > tolerance for value in cv], noisiest=_noisiest(measured_cv))


def _noisiest(cv: Sequence[float]) -> list[int]:
    apart, chosen = max(2.0, len(cv) / 20), list[int]()
    for n in sorted(range(len(cv)), key=lambda n: -cv[n]):
        if all(abs(other - n) >= apart for other in chosen):
            chosen.append(n)
        if len(chosen) == MOST_NOISIEST:
            break
    return chosen


def said_of(plan: Plan, stands: Sequence[Standing]) -> str:
    """One sentence on a plan that does nothing; empty for one that does."""
    if any(step.acts for step in plan.steps):
        return ""
    outside = [finding.kind for finding in stands if finding.outside]
    if not outside:
        return "Nothing lies outside its tolerance: this plan leaves the shot as it is."
    return f"This plan leaves the shot as it is. Still outside: {', '.join(outside)}."
