"""The survey: the measuring pass over a shot, and the document that `measure --json` prints."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from ..frames import Progress, StopCheck, never
from ..media import MediaInfo, Source
from .noise import NoiseReading, measure_noise
from .patch import Patch, PatchReading
from .profile import NoiseProfile

TOLERANCES = {"noise": 4.0, "colour noise": 3.0}
"""Default tolerance of each finding in its unit: noise below it is seldom noticed at 100 %
(common practice, no source)."""

UNITS = {"noise": "CV", "colour noise": "CV"}


class Place(BaseModel):
    """A region of a frame, in pixels."""

    model_config = ConfigDict(frozen=True)

    x: int
    y: int
    width: int
    height: int


class Finding(BaseModel):
    """One measured fault with its unit, tolerance and place."""

    model_config = ConfigDict(frozen=True)

    kind: str
    value: float
    unit: str
    tolerance: float
    confidence: float = Field(ge=0, le=1)
    frame: int
    region: Place | None = None

    @property
    def outside(self) -> bool:
        """Whether the finding still lies outside its tolerance."""
        return self.value > self.tolerance


class CurveReport(BaseModel):
    """Sigma against level, in 10-bit code values."""

    level_cv: list[float]
    r_cv: list[float]
    g_cv: list[float]
    b_cv: list[float]
    luma_cv: list[float]
    cb_cv: list[float]
    cr_cv: list[float]
    share: list[float]


class NoiseReport(BaseModel):
    """Noise in 10-bit code values: medians over the levels present, the curve, one figure a frame."""

    luma_cv: float
    chroma_cv: float
    r_cv: float
    g_cv: float
    b_cv: float
    curve: CurveReport
    grain_px: float
    confidence: float
    by_frame_cv: list[float]


class SurveyReport(BaseModel):
    """All that was measured of a shot."""

    model_config = ConfigDict(populate_by_name=True)

    schema_id: Literal["yellow-clean/survey/1"] = Field("yellow-clean/survey/1", alias="schema")
    media: MediaInfo
    noise: NoiseReport
    patches: list[PatchReading]
    findings: list[Finding]
    profile: NoiseProfile
    motion_px: float = Field(description="90th percentile of the motion between frames, in pixels.")

    def to_json(self) -> str:
        return self.model_dump_json(by_alias=True, indent=1)


def survey(
    source: Source, patches: Sequence[Patch] = (), *, frames: range | None = None,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> SurveyReport:  # fmt: skip
    """Measure a shot. See `measure_noise` for the arguments and errors."""
    reading = measure_noise(source, patches, frames=frames, progress=progress, stopped=stopped)
    first = frames.start if frames else 0
    return SurveyReport(
        media=source.info,
        noise=_report(reading),
        patches=reading.patches,
        findings=_findings(reading, first),
        profile=reading.profile,
        motion_px=reading.motion_px,
    )


def _report(reading: NoiseReading) -> NoiseReport:
    profile = reading.profile
    return NoiseReport(
        luma_cv=profile.typical_cv("luma"),
        chroma_cv=profile.chroma_cv,
        r_cv=profile.typical_cv("r"),
        g_cv=profile.typical_cv("g"),
        b_cv=profile.typical_cv("b"),
        curve=CurveReport(**profile.curve.model_dump()),
        grain_px=profile.grain_px,
        confidence=profile.confidence,
        by_frame_cv=reading.by_frame_cv,
    )


def _findings(reading: NoiseReading, first: int) -> list[Finding]:
    profile = reading.profile
    place = None
    if reading.patches:
        patch = reading.patches[0].patch
        place = Place(x=patch.x, y=patch.y, width=patch.width, height=patch.height)
    frame = reading.patches[0].patch.frame if reading.patches else first + reading.noisiest
    values = {"noise": profile.typical_cv("luma"), "colour noise": profile.chroma_cv}
    return [
        Finding(
            kind=kind, value=value, unit=UNITS[kind], tolerance=TOLERANCES[kind],
            confidence=profile.confidence, frame=frame, region=place,
        )
        for kind, value in values.items()
    ]  # fmt: skip
