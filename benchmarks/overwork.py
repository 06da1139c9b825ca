"""Each measure of overwork against planted strengths of its own fault and against honest treatments."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import cv2
import numpy as np

from yellowclean.engine.chain import noise_chain
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame, Region, luma
from yellowclean.engine.judge.overwork import MEASURES, Evidence
from yellowclean.engine.judge.risk import RiskAt
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.media.formats import OutputFormat
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.testcamera.shoot import CODECS

from .clips import Clip

FRAMES, LONGER = 9, 27
"""Frames of a clip, of which the middle one is judged; of a compressed one there are enough to hold some out."""

SIZE = 480, 270

Change = Callable[[Pipeline, Frame, int, Region], Frame]
"""What is done to a result: pipeline, the whole result of a frame, its number, the region that is asked for."""


class Changed(Pipeline):
    """A pipeline with a fault (or a better hand) behind its last step."""

    def __init__(self, footage: Footage, plan: Plan, change: Change) -> None:
        super().__init__(footage, plan)
        self._change = change

    def frame(self, n: int, region: Region | None = None, scale: float | None = None) -> Frame:
        where = region or self.footage.whole
        whole = super().frame(n)
        return np.ascontiguousarray(self._change(self, whole, n, where)[where.slices])


def blurred(strength: float) -> Change:
    return lambda _, whole, n, where: whole + np.float32(strength) * (cv2.GaussianBlur(whole, (0, 0), 1.5) - whole)


def ironed(share: float) -> Change:
    """Of the places that stand out above the noise in truth, that share, in blotches, is smoothed: the plastic
    look."""

    def change(pipeline: Pipeline, whole: Frame, n: int, where: Region) -> Frame:
        truth = pipeline.footage.source.truth[n]  # type: ignore[attr-defined]
        fine = luma(truth) - cv2.GaussianBlur(luma(truth), (0, 0), 4)
        stands_out = cv2.GaussianBlur(np.abs(fine), (0, 0), 6)
        textured = stands_out > pipeline.around.profile.typical_cv("luma") / CV_SCALE
        blotches = cv2.GaussianBlur(np.random.default_rng(3).standard_normal(textured.shape), (0, 0), 20)
        flat = textured & (blotches < np.quantile(blotches[textured], share))
        return np.where(flat[..., None], cv2.GaussianBlur(whole, (0, 0), 4), whole).astype(np.float32)

    return change


def sharpened(strength: float) -> Change:
    return lambda _, whole, n, where: whole + np.float32(strength) * (whole - cv2.GaussianBlur(whole, (0, 0), 2))


def tinted(strength: float) -> Change:
    shift = np.array([1, 0, -1], np.float32) * np.float32(strength / CV_SCALE)
    return lambda _, whole, n, where: whole + shift


def trailing(strength: float) -> Change:
    """A part of the frame before, where it lay."""

    def change(pipeline: Pipeline, whole: Frame, n: int, where: Region) -> Frame:
        before = Pipeline.frame(pipeline, max(n - 1, 0))
        return whole + np.float32(strength) * (before - whole)

    return change


def boiling(strength: float) -> Change:
    def change(_: Pipeline, whole: Frame, n: int, where: Region) -> Frame:
        blotches = cv2.GaussianBlur(np.random.default_rng(n).standard_normal(whole.shape[:2]), (0, 0), 4)
        return whole + (blotches / blotches.std() * strength / CV_SCALE).astype(np.float32)[..., None]

    return change


def pumping(strength: float) -> Change:
    return lambda _, whole, n, where: whole + np.float32((n % 2) * strength / CV_SCALE)


def rimmed(strength: float) -> Change:
    def change(_: Pipeline, whole: Frame, n: int, where: Region) -> Frame:
        out = whole.copy()
        out[:, :5] -= np.float32(strength / CV_SCALE)
        return out

    return change


def oracle(clip: Clip, share: float) -> Change:
    """The truth takes that share of the picture's place, whatever the plan did."""

    def change(pipeline: Pipeline, whole: Frame, n: int, where: Region) -> Frame:
        source = pipeline.footage.frame(n)
        return source + np.float32(share) * (clip.truth[n] - source)

    return change


FAULTS: dict[str, tuple[Callable[[float], Change], tuple[float, ...]]] = {
    "structure": (blurred, (0.2, 0.3, 0.4, 0.6, 0.8, 1.0)),
    "texture": (blurred, (0.2, 0.3, 0.4, 0.6, 0.8, 1.0)),
    "flatness": (ironed, (0.05, 0.1, 0.2, 0.35, 0.5, 0.8)),
    "halos": (sharpened, (0.2, 0.3, 0.45, 0.6, 0.8, 1.2)),
    "cast": (tinted, (4, 6, 8, 12, 16, 24)),
    "trails": (trailing, (0.15, 0.2, 0.3, 0.4, 0.5, 0.7)),
    "boiling": (boiling, (2, 3, 4, 5, 6, 8)),
    "flicker": (pumping, (0.5, 1, 1.5, 2, 3, 4)),
    "borders": (rimmed, (4, 6, 8, 10, 12, 16)),
}


class Shot(NamedTuple):
    """Scene, camera, its path (pixels a frame across and down, and sway), and what it is recorded as."""

    scene: str
    camera: Camera
    motion: tuple[float, float, float]
    fmt: OutputFormat | None = None

    @property
    def frames(self) -> int:
        return LONGER if self.fmt else FRAMES


H264 = CODECS["h264-8bit"](2_500_000)
"""As many bits a pixel as 10 Mbit/s at 960×540."""
PRORES = CODECS["prores-hq"](None)

FOR_LIMITS: tuple[Shot, ...] = (
    Shot("quay", Camera(stops_under=3, bayer=False), (4, 1, 0)),
    Shot("cloth", Camera(stops_under=2), (6, 2, 0)),
    Shot("dusk", Camera(stops_under=4), (5, 1, 0)),
)
HELD_OUT: tuple[Shot, ...] = (
    Shot("quay", Camera(stops_under=3.5, bayer=False), (3, 2, 0.4)),
    Shot("cloth", Camera(stops_under=3), (5, 1, 0)),
    Shot("basin", Camera(stops_under=4, bayer=False), (4, 0, 0)),
    Shot("dusk", Camera(stops_under=3), (6, 2, 0)),
)
COMPRESSED: tuple[Shot, ...] = (
    Shot("quay", Camera(stops_under=4), (3, 1, 0), PRORES),
    Shot("cloth", Camera(stops_under=3), (5, 1, 0), H264),
    Shot("basin", Camera(stops_under=3, bayer=False), (4, 0, 0), PRORES),
    Shot("dusk", Camera(stops_under=3, bayer=False), (6, 2, 0), H264),
)


class Case(NamedTuple):
    """A clip with honest treatments of it, and what may be shared between judging them."""

    footage: Footage
    honest: dict[str, Pipeline]
    proposed: Plan
    risk: RiskAt
    judged: int

    def evidence(self, pipeline: Pipeline) -> Evidence:
        return Evidence(pipeline, self.judged, risk=self.risk)

    def read(self, kind: str, pipeline: Pipeline) -> float:
        return MEASURES[kind].read(self.evidence(pipeline)).value


def case_of(shot: Shot) -> Case:
    clip = Clip(shot.scene, shot.camera, frames=shot.frames, width=SIZE[0], height=SIZE[1], motion=shot.motion)
    if shot.fmt:
        clip.record(shot.fmt)
    reading = measure_noise(clip)
    footage, judged = Footage(clip), shot.frames // 2

    def plan(luma: float) -> Plan:
        return Plan(
            profile=reading.profile,
            steps=noise_chain(shot.frames, reading.movement, luma, luma, carried=reading.profile.carried),
        )

    honest = {f"chain {luma:.0f} %": Pipeline(footage, plan(luma)) for luma in (60, 85, 105)}
    for share in () if shot.fmt else (0.6, 0.8, 1.0):  # to bring back what a codec took changes a picture too
        honest[f"truth {100 * share:.0f} %"] = Changed(footage, plan(100), oracle(clip, share))
    return Case(footage, honest, plan(100), RiskAt(footage, plan(100), judged, footage.whole), judged)


def readings(case: Case) -> tuple[dict[str, list[float]], dict[str, list[float]]]:
    """By kind: the values on honest treatments, and those on the planted strengths, in their order."""
    honest: dict[str, list[float]] = {kind: [] for kind in FAULTS}
    for pipeline in case.honest.values():
        evidence = case.evidence(pipeline)
        for kind, values in honest.items():
            values.append(MEASURES[kind].read(evidence).value)
    planted = {}
    for kind, (fault, strengths) in FAULTS.items():
        pipelines = (Changed(case.footage, case.proposed, fault(s)) for s in strengths)
        planted[kind] = [case.read(kind, pipeline) for pipeline in pipelines]
    return honest, planted


def area_under_roc(honest: list[float], planted: list[float]) -> float:
    """Share of the pairs that stand in the right order (Mann and Whitney 1947), ties for half."""
    apart = np.subtract.outer(planted, honest)
    return float(((apart > 0) + 0.5 * (apart == 0)).mean())


def rows(shots: tuple[Shot, ...]) -> Iterator[str]:
    everything = [readings(case_of(shot)) for shot in shots]
    for kind in FAULTS:  # what repairs can break is measured where each is tested
        measure = MEASURES[kind]
        honest = [v for h, _ in everything for v in h[kind]]
        planted = np.array([p[kind] for _, p in everything])
        strengths = FAULTS[kind][1]
        shown = " · ".join(f"{s:g}: {v:.2f}" for s, v in zip(strengths, np.median(planted, axis=0), strict=True))
        area = area_under_roc(honest, planted.ravel().tolist())
        yield (
            f"| {measure.title} | {measure.limit:g} {measure.unit}"
            f" | {np.median(honest):.2f}, most {max(honest):.2f}"
            f" | {shown} | {planted.min():.2f} | {area:.3f} |"
        )


def main() -> None:
    sets = {
        "Clips the limits were set on": FOR_LIMITS,
        "Clips held out": HELD_OUT,
        "Clips held out, compressed": COMPRESSED,
    }
    for title, shots in sets.items():
        print(f"{title}:\n")
        print("| measure | limit | honest | planted, median by strength | least | area under ROC |")
        print("| --- | --- | --- | --- | ---: | ---: |", flush=True)
        for row in rows(shots):
            print(row, flush=True)
        print()
