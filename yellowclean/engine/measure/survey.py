"""The survey: the measuring pass over a shot, and the document that `measure --json` prints."""

from __future__ import annotations

from array import array
from collections.abc import Mapping, Sequence
from typing import Any, Literal, TypeVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..colour.opponent import OPPONENT
from ..frames import Array, Frame, Progress, StopCheck, never
from ..judge.ladder import Rung, ladder
from ..media import MediaInfo, Source
from ..media.info import Tame
from ..motion import Movement
from ..parallel import side_by_side
from .findings import DETECTORS, Detector, Finding, Glance, Look, Place
from .noise import NoiseReading, measure_noise
from .patch import Patch, PatchReading
from .profile import NoiseCurve, NoiseProfile

TOLERANCES = {"noise": 4.0, "colour noise": 3.0, "grain": 2.5}
"""Default tolerances: noise below so many CV is seldom noticed at 100 %, grain above so many pixels is
seen as blotches (common practice, no source)."""

T = TypeVar("T")

NOISE_ORDER = 47
"""Noise comes after repairs (specks, flicker, compression) and before banding and restoring."""

LOOKS = 8
"""Frames that detectors look at which need not see every frame."""


class NoiseReport(BaseModel):
    """Noise in 10-bit code values: medians over the levels present, the curve, one figure a frame."""

    model_config = ConfigDict(allow_inf_nan=False)

    luma_cv: float
    chroma_cv: float
    r_cv: float
    g_cv: float
    b_cv: float
    curve: NoiseCurve
    grain_px: float
    confidence: float
    by_frame_cv: list[float]


class SourceCheck(BaseModel):
    """Whether the file can be the original, in one sentence, with the evidence."""

    original: bool
    verdict: str
    evidence: list[str]


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


def finding_kinds() -> list[FindingKind]:
    """All kinds of findings in working order, with their default tolerances."""
    noise = [
        FindingKind(kind=kind, unit="px" if kind == "grain" else "CV", tolerance=value, about_source=False)
        for kind, value in TOLERANCES.items()
    ]
    others = [
        FindingKind(kind=d.kind, unit=d.unit, tolerance=d.tolerance, about_source=d.about_source) for d in DETECTORS
    ]
    return _in_order(noise, others)


def survey(
    source: Source, patches: Sequence[Patch] = (), *, frames: range | None = None,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> SurveyReport:  # fmt: skip
    """Measure a shot. See `measure_noise` for the arguments and errors."""
    if source.info.is_float:
        source = Tame(source)
    chosen = frames or range(source.info.frames)
    watcher = DetectorPass(source.info, chosen)
    reading = measure_noise(source, patches, frames=frames, progress=progress, stopped=stopped, watcher=watcher)
    others = watcher.findings()
    middle = (chosen.start + chosen.stop) // 2
    return SurveyReport(
        media=source.info,
        source=source_check(others),
        noise=_report(reading),
        patches=reading.patches,
        findings=_in_order(_noise_findings(reading, chosen.start), others),
        profile=reading.profile,
        motion_px=reading.movement.px,
        standing=reading.movement.standing,
        ladder=ladder(source, reading.profile, reading.movement, middle, stopped=stopped),
    )


def _in_order(noise: list[T], others: list[T]) -> list[T]:
    """Working order: `others` are in that of the detectors, noise goes in between."""
    before = sum(d.order < NOISE_ORDER for d in DETECTORS)
    return others[:before] + noise + others[before:]


ABOUT_SOURCE = frozenset(detector.kind for detector in DETECTORS if detector.about_source)


def source_check(findings: Sequence[Finding]) -> SourceCheck:
    """What the findings about the file say together."""
    evidence = [f"{f.kind}: {f.detail}" for f in findings if f.kind in ABOUT_SOURCE and f.outside]
    if not evidence:
        return SourceCheck(original=True, verdict="Nothing speaks against this being the original.", evidence=[])
    verdict = "Ask for the camera original before repairing this: it is not, or no longer, the whole picture."
    return SourceCheck(original=False, verdict=verdict, evidence=evidence)


def _report(reading: NoiseReading) -> NoiseReport:
    profile = reading.profile
    return NoiseReport(
        luma_cv=profile.typical_cv("luma"),
        chroma_cv=profile.chroma_cv,
        r_cv=profile.typical_cv("r"),
        g_cv=profile.typical_cv("g"),
        b_cv=profile.typical_cv("b"),
        curve=profile.curve,
        grain_px=profile.grain_px,
        confidence=profile.confidence,
        by_frame_cv=reading.by_frame_cv,
    )


def _noise_findings(reading: NoiseReading, first: int) -> list[Finding]:
    profile = reading.profile
    place = None
    if reading.patches:
        patch = reading.patches[0].patch
        place = Place(x=patch.x, y=patch.y, width=patch.width, height=patch.height)
    frame = reading.patches[0].patch.frame if reading.patches else first + reading.noisiest
    share = monochrome_share(profile)
    values = [
        ("noise", profile.typical_cv("luma"), "CV", _broken_channels(profile.curve)),
        ("colour noise", profile.chroma_cv, "CV", ""),
        ("grain", profile.grain_px, "px", f"{100 * share:.0f} % of its power is monochrome"),
    ]
    return [
        Finding(
            kind=kind, value=value, unit=unit, tolerance=TOLERANCES[kind],
            confidence=profile.confidence, frame=frame, region=place, detail=detail,
        )
        for kind, value, unit, detail in values
    ]  # fmt: skip


CHANNEL_NAMES = {"r": "red", "g": "green", "b": "blue"}


def _broken_channels(curve: NoiseCurve) -> str:
    """What is said of channels that are cut off."""
    told = []
    for channels, what in (
        (curve.dead, "cut off everywhere and left as it is"),
        (curve.cut, "cut off in part everywhere"),
    ):
        told += [f"{CHANNEL_NAMES[name]} is {what}" for name in channels]
    return "; ".join(told)


def monochrome_share(profile: NoiseProfile) -> float:
    """Share of the noise power that R', G' and B' have in common: 0 for independent, 1 for equal noise."""
    power = np.diag(OPPONENT @ np.array(profile.correlation) @ OPPONENT.T)
    return float(np.clip((power[0] - power[1:].mean()) / power.sum(), 0, 1))


class DetectorPass:
    """Shows the frames of a pass to the detectors, each with the luma before and after it."""

    def __init__(self, info: MediaInfo, chosen: range, detectors: Sequence[Detector] = DETECTORS) -> None:
        self._info = info
        self._detectors = detectors
        picked = np.linspace(chosen.start, chosen.stop - 1, min(LOOKS, len(chosen)))
        self._picked = {round(n) for n in picked}
        self._seen: dict[str, list[tuple[int, Any]]] = {d.kind: [] for d in detectors if not d.every_frame}
        # of every frame a number or two are kept, so that a long shot takes little more memory than a short one
        self._series = {d.kind: array("d") for d in detectors if d.every_frame}
        self._frames = array("q")
        self._before: Array | None = None
        self._waiting: tuple[int, Array, Frame | None, NoiseCurve, str] | None = None

    def wants(self, n: int) -> bool:
        """Whether the whole of frame n is looked at, not its luma alone."""
        return n in self._picked

    def show(self, n: int, plane: Array, frame: Frame | None, curve: NoiseCurve, damage: str = "") -> None:
        self._observe(plane)
        self._waiting = n, plane, frame, curve, damage

    def _observe(self, after: Array | None) -> None:
        """Let the detectors look at the frame that waited for its successor."""
        if self._waiting is None:
            return
        n, plane, frame, curve, damage = self._waiting
        glance = Glance(n, self._info, plane, self._before, after, curve, damage)
        look = None
        if frame is not None:
            look = Look(n, self._info, plane, self._before, after, curve, damage, frame=frame)
        for detector in self._detectors:
            if detector.every_frame:
                self._series[detector.kind].extend(detector.observe(glance))
        self._frames.append(n)
        if look is not None:
            heavy = [d for d in self._detectors if not d.every_frame]
            for detector, observed in zip(heavy, side_by_side(lambda d: d.observe(look), heavy), strict=True):
                self._seen[detector.kind].append((n, observed))
        self._before = plane

    def findings(self) -> list[Finding]:
        self._observe(None)
        self._waiting = None
        return [d.conclude(self._all_seen(d), self._info) for d in self._detectors]

    def _all_seen(self, detector: Detector) -> Sequence[tuple[int, Any]]:
        if detector.every_frame:
            numbers = np.array(self._series[detector.kind]).reshape(len(self._frames), -1)
            return list(zip(self._frames, numbers, strict=True))
        return self._seen[detector.kind]
