"""Findings measured again, each by its own detector, on what a plan makes of the shot."""

from __future__ import annotations

from ..frames import Array, Frame, luma
from ..measure.detecting import DetectorPass
from ..measure.findings import DETECTORS, Detector, Finding
from ..measure.report import SurveyReport
from ..media import MediaInfo, Source
from ..pipeline import Pipeline

LONGEST = 96
"""Frames, around the worst one, of a shot in which a fault over time is measured again."""


class Treated(Source):
    """The result of a pipeline as footage."""

    def __init__(self, pipeline: Pipeline) -> None:
        self._pipeline = pipeline
        self.info: MediaInfo = pipeline.footage.info

    def read(self, n: int) -> Frame:
        return self._pipeline.frame(n)

    def luma(self, n: int) -> Array:
        return luma(self.read(n))

    def damage(self, n: int) -> str:
        return self._pipeline.footage.source.damage(n)

    def close(self) -> None:
        """Nothing is open."""


def measured_again(pipeline: Pipeline, report: SurveyReport) -> list[Finding]:
    """What the detectors say of the result, of the faults that its steps treat; noise is not among them.

    A fault of single frames is looked for in its worst frame, one over time in the frames around it, there behind
    the steps that treat it alone: no other changes it, and none need run on every frame."""
    detectors = {detector.kind: detector for detector in DETECTORS}
    treated = {kind for step in pipeline.plan.steps if step.acts for kind in step.treatment.treats}
    return [
        _again(pipeline, detectors[finding.kind], finding, report)
        for finding in report.findings
        if finding.kind in treated and finding.kind in detectors
    ]


def _again(pipeline: Pipeline, detector: Detector, was: Finding, report: SurveyReport) -> Finding:
    side = LONGEST // 2 if detector.every_frame else detector.beside
    if side:
        pipeline = Pipeline(pipeline.footage, pipeline.plan.treating(detector.kind))
    chosen = range(max(was.frame - side, 0), min(was.frame + side + 1, report.media.frames))
    footage = Treated(pipeline)
    looking = DetectorPass(report.media, chosen, [detector])
    for n in chosen:
        frame = footage.read(n)
        looking.show(n, luma(frame), frame if looking.wants(n) else None, report.profile.curve, footage.damage(n))
    return looking.findings()[0]
