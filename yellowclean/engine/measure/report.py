"""The survey's document: what was measured of a shot, as `measure --json` prints it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from ..media import MediaInfo
from ..motion import Movement
from ..noise.profile import NoiseCurve, NoiseProfile
from .findings import DETECTORS, Finding
from .patch import PatchReading

TOLERANCES = {"noise": 4.0, "colour noise": 3.0, "grain": 2.5}
"""Default tolerances: noise below so many CV is seldom noticed at 100 %, grain above so many pixels is
seen as blotches (common practice, no source)."""

INSTEAD = {"grain": "Coarse grain goes with the noise: spatial noise reduction has amounts for each size of it."}

T = TypeVar("T")

NOISE_ORDER = 47
"""Noise comes after repairs (specks, flicker, compression) and before banding and restoring."""


class NoiseReport(BaseModel):
    """Noise in 10-bit code values: medians over the levels present, the curve, one figure a frame."""

    model_config = ConfigDict(allow_inf_nan=False)

    luma_cv: float
    chroma_cv: float
    r_cv: float
    g_cv: float
    b_cv: float
    curve: NoiseCurve
    coded: NoiseCurve | None = Field(
        None,
        description="How far the footage is off what was there before noise and codec: the curve, with what a codec"
        " carried along and took, which no treatment brings back. None where no codec predicted frames.",
    )
    grain_px: float
    confidence: float
    by_frame_cv: list[float]


class SourceCheck(BaseModel):
    """Whether the file can be the original, in one sentence, with the evidence."""

    original: bool
    verdict: str
    evidence: list[str]


class Rung(BaseModel):
    """Estimated mean square error after the noise chain at a strength, as shares of the noise's own."""

    strength: float = Field(description="Percent of the measured sigma.")
    difference: float = Field(1.0, description="Difference limit of the merge over time, in sigmas.")
    gentle: bool = Field(False, description="Whether less is merged, and coarser noise treated at half strength.")
    held_out: bool = Field(False, description="Whether frames held out told the error.")
    merged: bool = Field(True, description="Whether neighbours were merged; one frame alone is the cheaper way.")
    luma: float
    chroma: float


class SurveyReport(BaseModel):
    """All that was measured of a shot."""

    model_config = ConfigDict(populate_by_name=True, allow_inf_nan=False)

    schema_id: Literal["yellow-clean/survey/1"] = Field("yellow-clean/survey/1", alias="schema")
    media: MediaInfo
    source: SourceCheck
    noise: NoiseReport
    patches: list[PatchReading]
    findings: list[Finding]
    profile: NoiseProfile
    motion_px: float = Field(description="90th percentile of the motion between frames, in pixels.")
    standing: float = Field(0, description="Share of the picture that stands still between frames, 0-1.")
    cuts: list[int] = Field([], description="Frames with which another picture begins.")
    ladder: list[Rung] = Field([], description="Estimated error of the noise chain at several strengths.")

    @property
    def movement(self) -> Movement:
        return Movement(self.motion_px, self.standing)

    def to_json(self) -> str:
        return self.model_dump_json(by_alias=True, indent=1)

    def with_tolerances(self, tolerances: Mapping[str, float]) -> SurveyReport:
        """The same measurements held against other tolerances, by the kind of finding."""
        findings = with_tolerances(self.findings, tolerances)
        return self.model_copy(update={"findings": findings, "source": source_check(findings)})


def with_tolerances(findings: Sequence[Finding], tolerances: Mapping[str, float]) -> list[Finding]:
    """Findings held against other tolerances, by their kind."""
    return [f.model_copy(update={"tolerance": tolerances[f.kind]}) if f.kind in tolerances else f for f in findings]


def survey_schema() -> dict[str, Any]:
    """The JSON schema of the document, as published in docs/survey.schema.json."""
    return SurveyReport.model_json_schema(by_alias=True, mode="serialization")


class FindingKind(BaseModel):
    """What can be found, for lists of tolerances."""

    kind: str
    unit: str
    tolerance: float
    about_source: bool
    told_by_file: bool = Field(False, description="Whether no result has it before it is written.")
    instead: str = Field("", description="What to do about it where no treatment takes it.")


def finding_kinds() -> list[FindingKind]:
    """All kinds of findings in working order, with their default tolerances."""
    noise = [
        FindingKind(
            kind=kind, unit="px" if kind == "grain" else "CV", tolerance=value, about_source=False,
            instead=INSTEAD.get(kind, ""),
        )
        for kind, value in TOLERANCES.items()
    ]  # fmt: skip
    others = [
        FindingKind(
            kind=d.kind, unit=d.unit, tolerance=d.tolerance, about_source=d.about_source,
            told_by_file=d.told_by_file, instead=d.instead,
        )
        for d in DETECTORS
    ]  # fmt: skip
    return in_order(noise, others)


def in_order(noise: list[T], others: list[T]) -> list[T]:
    """Working order: `others` are in that of the detectors, noise goes in between."""
    before = sum(d.order < NOISE_ORDER for d in DETECTORS)
    return others[:before] + noise + others[before:]


ABOUT_SOURCE = frozenset(detector.kind for detector in DETECTORS if detector.about_source)
NO_ORIGINAL = frozenset(d.kind for d in DETECTORS if d.about_source and not d.also_originals)


def source_check(findings: Sequence[Finding]) -> SourceCheck:
    """What the findings about the file say together."""
    evidence = [f"{f.kind}: {f.detail}" for f in findings if f.kind in NO_ORIGINAL and f.outside]
    if not evidence:
        return SourceCheck(original=True, verdict="Nothing speaks against this being the original.", evidence=[])
    verdict = "Ask for the camera original before repairing this: it is not, or no longer, the whole picture."
    return SourceCheck(original=False, verdict=verdict, evidence=evidence)
