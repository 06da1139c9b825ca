"""Findings measured again, each by its own detector, on what a plan makes of the shot."""

from __future__ import annotations

from collections.abc import Iterator

from ..frames import Array, Frame, Region, luma
from ..measure.detecting import DetectorPass
from ..measure.findings import DETECTORS, Detector, Finding, said_of
from ..measure.report import SurveyReport
from ..media import MediaInfo, Source
from ..noise.profile import NoiseCurve
from ..pipeline import Pipeline
from ..plan import Plan

MEASURED = {d.kind: d for d in DETECTORS if not (d.about_source or d.told_by_file)}

LONGEST = 96
"""Frames, around the worst one, of a shot in which a fault over time is measured again."""


class Treated(Source):
    """The result of a pipeline as footage, whole or a region."""

    def __init__(self, pipeline: Pipeline, region: Region | None = None) -> None:
        self._pipeline, self._region = pipeline, region
        size = {"width": region.width, "height": region.height} if region else {}
        self.info: MediaInfo = pipeline.footage.info.model_copy(update=size)

    def read(self, n: int) -> Frame:
        return self._pipeline.frame(n, self._region)

    def luma(self, n: int) -> Array:
        return luma(self.read(n))

    def damage(self, n: int) -> str:
        return self._pipeline.footage.source.damage(n)

    def close(self) -> None:
        """Nothing is open."""


def due(plan: Plan, report: SurveyReport) -> list[Finding]:
    """The findings that are measured again under a plan, those outside first: what its steps treat or may worsen,
    and what lies outside and a frame alone shows, since other steps change that too; noise is not among them."""
    at_work = [step.treatment for step in plan.steps if not step.treatment.reshapes]
    touched = {kind for treatment in at_work for kind in (*treatment.treats, *treatment.worsens)}
    chosen = [
        finding
        for finding in report.findings
        if (detector := MEASURED.get(finding.kind))
        and (finding.kind in touched or (finding.outside and not _over_time(detector)))
    ]
    return sorted(chosen, key=lambda finding: not finding.outside)


def measured_again(pipeline: Pipeline, report: SurveyReport) -> Iterator[Finding]:
    """What the detectors say of the result, one finding after another, as `due` lists them. In the source's format:
    what a step changes of size or colour is no part of it.

    A fault of single frames is looked for in its worst frame, one over time in the frames around it, there behind
    the steps that treat it alone: no other changes it, and none need run on every frame."""
    result = pipeline.following(pipeline.plan.only(lambda treatment: not treatment.reshapes))
    for finding in due(pipeline.plan, report):
        yield _again(result, MEASURED[finding.kind], finding, report)


def _over_time(detector: Detector) -> int:
    """Frames to each side of the worst one that the detector needs."""
    return LONGEST // 2 if detector.every_frame else detector.beside


def _again(pipeline: Pipeline, detector: Detector, was: Finding, report: SurveyReport) -> Finding:
    side = _over_time(detector)
    if side:
        pipeline = pipeline.following(pipeline.plan.treating(detector.kind))
    return read_by(detector, Treated(pipeline), was.frame, side, report.profile.curve)


def read_by(detector: Detector, footage: Source, n: int, side: int, curve: NoiseCurve) -> Finding:
    """What a detector says of frame n of footage, seen with so many frames to each side."""
    chosen = range(max(n - side, 0), min(n + side + 1, footage.info.frames))
    looking = DetectorPass(footage.info, chosen, [detector])
    for k in chosen:
        frame = footage.read(k)
        wanted = looking.wants(k)
        looking.show(k, luma(frame), frame if wanted else None, curve, said_of(footage, k, wanted=wanted))
    return looking.findings()[0]
