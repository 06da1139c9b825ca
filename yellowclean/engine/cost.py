"""What a plan costs on this machine, by short trials on the shot itself, and what would make it cheaper."""

from __future__ import annotations

import time
from collections.abc import Iterator

from pydantic import BaseModel, Field

from .footage import Footage
from .frames import StopCheck, never
from .media import Source
from .pipeline import Pipeline
from .plan import Plan, Step

TIMED = 2
"""Frames that are timed, behind one that fills what steps look back and ahead at."""

WORTH_SAYING = 0.1
"""Share of a plan's time that a change has to save before it is told."""


class StepCost(BaseModel):
    """Seconds a frame that a step takes in the plan."""

    title: str
    seconds: float


class Cheaper(BaseModel):
    """A change of one setting that makes the plan quicker."""

    step: int = Field(description="Counted from 0.")
    setting: str
    value: float
    told: str
    seconds: float = Field(description="A frame, with that change alone.")


class Cost(BaseModel):
    """Seconds a frame when frames are made one after another."""

    reading: float
    steps: list[StepCost]
    seconds: float
    cheaper: list[Cheaper]


def cost(source: Source, plan: Plan, n: int, *, stopped: StopCheck = never) -> Cost:
    """The cost of a plan from frame `n` of a shot on, decoding and all steps, but not writing."""
    first = max(min(n, source.info.frames - 1 - TIMED), 0)
    frames = range(first, min(first + 1 + TIMED, source.info.frames))
    reached = [_timed(source, plan.model_copy(update={"steps": plan.steps[:k]}), frames, stopped)
               for k in range(len(plan.steps) + 1)]  # fmt: skip
    steps = [
        StepCost(title=step.treatment.title, seconds=max(after - before, 0.0))
        for step, before, after in zip(plan.steps, reached, reached[1:], strict=False)
    ]
    found = [
        Cheaper(step=k, setting=name, value=value, told=told, seconds=_timed(source, changed, frames, stopped))
        for k, name, value, told, changed in _variants(plan)
    ]
    worth = [change for change in found if change.seconds < (1 - WORTH_SAYING) * reached[-1]]
    return Cost(
        reading=reached[0], steps=steps, seconds=reached[-1], cheaper=sorted(worth, key=lambda c: c.seconds)
    )


def _timed(source: Source, plan: Plan, frames: range, stopped: StopCheck) -> float:
    """Seconds a frame once the first is there."""
    pipeline = Pipeline(Footage(source), plan, stopped=stopped)
    began = time.perf_counter()
    pipeline.frame(frames[0])
    if len(frames) == 1:
        return time.perf_counter() - began
    began = time.perf_counter()
    for n in frames[1:]:
        pipeline.frame(n)
    return (time.perf_counter() - began) / (len(frames) - 1)


def _variants(plan: Plan) -> Iterator[tuple[int, str, float, str, Plan]]:
    """Changes that let a step look at fewer frames: half of a whole number that decides how many."""
    for k, step in enumerate(plan.steps):
        if not step.acts:
            continue
        for name, field in type(step.parameters).model_fields.items():
            value = getattr(step.parameters, name)
            if isinstance(value, bool) or not isinstance(value, int) or value < 2:
                continue
            changed = plan.with_setting(k, name, value // 2)
            before, after = _looked_at(step), _looked_at(changed.steps[k])
            if after < before:
                title = (field.title or name).lower()
                told = f"{title} {value // 2} for {value}: {after} frames are looked at for {before}"
                yield k, name, value // 2, f"{step.treatment.title}, {told}", changed


def _looked_at(step: Step) -> int:
    need = step.treatment.need(step.parameters)
    return need.back + 1 + need.ahead
