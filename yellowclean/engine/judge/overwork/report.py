"""All measures together: values, verdicts, and one line that sums them up."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from pydantic import BaseModel

from ...errors import BadInput
from ...frames import Array, Region, StopCheck, never, raise_if
from ...pipeline import Pipeline
from .base import Evidence, Measure, Reading
from .borders import BORDERS
from .cast import CAST
from .enlarged import UNSUPPORTED
from .gamut import GAMUT
from .halos import HALOS
from .over_time import BOILING, FLICKER, TRAILS
from .repairs import DRAINED, ERRORS, FADES, GHOSTS, POINTS, SHAPES
from .restored import CRAWLING, INVENTED, NOISE, OVERSHOOT
from .structure import FLATNESS, STRUCTURE, TEXTURE

MEASURES: dict[str, Measure] = {
    m.kind: m
    for m in (
        STRUCTURE,
        TEXTURE,
        FLATNESS,
        HALOS,
        CAST,
        TRAILS,
        BOILING,
        FLICKER,
        POINTS,
        GHOSTS,
        FADES,
        SHAPES,
        ERRORS,
        DRAINED,
        BORDERS,
        GAMUT,
        OVERSHOOT,
        NOISE,
        CRAWLING,
        INVENTED,
        UNSUPPORTED,
    )
}

Verdict = Literal["fine", "look here", "too far"]
LOOK_FROM = 0.5
"""Share of the limit from which a measure deserves a look."""


class Measured(BaseModel):
    """One measure over the frames that were judged: the worst value, and where it was."""

    kind: str
    title: str
    says: str
    value: float
    unit: str
    limit: float
    verdict: Verdict
    frame: int
    detail: str


class Overwork(BaseModel):
    """What a plan has damaged; `frames` were judged, over one region."""

    frames: list[int]
    measures: list[Measured]
    verdict: Verdict
    summary: str


@dataclass(frozen=True, slots=True)
class Judged:
    """What was found, and by measure where: H×W over the region in its worst frame, from 1 on too much."""

    report: Overwork
    maps: dict[str, Array]


def overwork(
    pipeline: Pipeline, frames: Sequence[int], region: Region | None = None, *, stopped: StopCheck = never
) -> Judged:
    """Judge a plan's result on frames of a shot. Raises `BadInput` for a plan that does nothing, or a region
    in which nothing can be judged."""
    judged = pipeline.large_enough(region)
    if not any(step.acts for step in pipeline.plan.steps):
        raise BadInput("the plan does nothing, so there is nothing to judge; add a step.")
    worst: dict[str, Measured] = {}
    maps: dict[str, Array] = {}
    for n in frames:
        evidence = Evidence(pipeline, n, judged)
        for kind, measure in MEASURES.items():
            raise_if(stopped)
            reading = measure.read(evidence)
            if kind not in worst or reading.value > worst[kind].value:
                worst[kind], maps[kind] = _measured(measure, reading, n), reading.map
    return Judged(_summed(list(frames), list(worst.values())), maps)


def verdict_of(value: float, limit: float) -> Verdict:
    return "too far" if value >= limit else "look here" if value >= LOOK_FROM * limit else "fine"


def _measured(measure: Measure, reading: Reading, n: int) -> Measured:
    return Measured(
        kind=measure.kind, title=measure.title, says=measure.says, value=reading.value, unit=measure.unit,
        limit=measure.limit, verdict=verdict_of(reading.value, measure.limit), frame=n, detail=reading.detail,
    )  # fmt: skip


def _summed(frames: list[int], measures: list[Measured]) -> Overwork:
    far = [m.title.lower() for m in measures if m.verdict == "too far"]
    near = [m.title.lower() for m in measures if m.verdict == "look here"]
    verdict: Verdict = "too far" if far else "look here" if near else "fine"
    summary = {
        "too far": f"Too far: {', '.join(far)}.",
        "look here": f"Look here: {', '.join(near)}.",
        "fine": "Fine: nothing was damaged that can be measured.",
    }[verdict]
    return Overwork(frames=frames, measures=measures, verdict=verdict, summary=summary)
