"""The test strip: one region at a ladder of values of one setting, with what each leaves and loses."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import numpy as np
from pydantic import BaseModel, Field

from ..errors import BadInput
from ..footage import Footage
from ..frames import Region, StopCheck, never, raise_if
from ..pipeline import Pipeline
from ..plan import Plan
from .ladder import best_of
from .repaired import RepairAt, Repaired
from .risk import Risk, RiskAt

T = TypeVar("T")

RUNGS = 7

ALIKE, BARELY = 0.1, 0.05
"""Part of a tolerance in which two repairs leave the same, and of a limit in which they break the same."""


class Scale(BaseModel):
    """What a figure of the rungs says."""

    title: str
    unit: str


class StripRung(BaseModel):
    """One value of the setting, and what it leaves and loses, on the strip's scales."""

    value: float
    left: float
    lost: float


class Strip(BaseModel):
    """Seven rungs, and where to stop."""

    rungs: list[StripRung]
    left: Scale
    lost: Scale
    about: str = Field(description="What the figures are, in a line.")
    stop: int = Field(description="Number of the suggested rung, counted from 0.")
    reason: str


NOISE = Scale(title="noise", unit="%"), Scale(title="structure", unit="%")
ABOUT_NOISE = "Shares of the noise's own power, estimated here without knowing the truth."
ABOUT_REPAIR = "What is left by the finding's own measure around here, and damage by those of overwork."


def strip_values(plan: Plan, step: int, setting: str) -> list[float]:
    """Seven values over the range of a setting, each a multiple of its step. Raises `BadInput`."""
    treatment = plan.step(step).treatment
    known = treatment.parameters.model_json_schema()["properties"]
    if setting not in known:
        raise BadInput(f"{setting}: no such setting of {treatment.kind}; use one of {', '.join(known)}.")
    least, most, unit = (known[setting][name] for name in ("minimum", "maximum", "step"))
    return sorted({float(round(v / unit) * unit) for v in np.linspace(least, most, RUNGS)})


def strip_at(
    footage: Footage, plan: Plan, step: int, setting: str, n: int, region: Region, *, stopped: StopCheck = never
) -> Strip:
    """Judge a region of frame n at each of the setting's values: steps that take noise by the estimated error of
    all that the plan takes, steps that mend or restore detail by what they leave and break."""
    values, treatment = strip_values(plan, step, setting), plan.step(step).treatment
    if treatment.reshapes:
        raise BadInput(
            f"step {step + 1} changes the size or colour of the picture: its rungs cannot be laid side by side."
            " Try a setting of another step."
        )
    region = Pipeline(footage, plan).large_enough(region)
    unit = treatment.parameters.model_json_schema()["properties"][setting]["unit"]
    plans = [plan.with_setting(step, setting, value) for value in values]
    if treatment.mends or treatment.restores:
        repairs = RepairAt(footage, plan, treatment, n, region)
        present = float(getattr(plan.step(step).parameters, setting))
        return _of_repairs(repairs, _each(repairs.of, plans, stopped), values, unit, present)
    judge = RiskAt(footage, plan.taking(), n, region)
    risks = _each(judge.of, [plan.taking() for plan in plans], stopped)
    return _of_noise(risks, values, unit, held_out=judge.held_out)


def _each(judged: Callable[[Plan], T], plans: list[Plan], stopped: StopCheck) -> list[T]:
    found = []
    for plan in plans:
        raise_if(stopped)
        found.append(judged(plan))
    return found


def _of_noise(risks: list[Risk], values: list[float], unit: str, *, held_out: bool) -> Strip:
    """Luma counts for half, as the eye has it (common practice, no source)."""
    shares = np.array([[(s.error, s.noise, s.structure) for s in (r.luma, r.chroma)] for r in risks]).mean(axis=1)
    rungs = [
        StripRung(value=v, left=100 * left, lost=100 * lost)
        for v, (_, left, lost) in zip(values, shares, strict=True)
    ]
    stop = best_of(shares[:, 0], held_out=held_out)
    return Strip(
        rungs=rungs,
        left=NOISE[0],
        lost=NOISE[1],
        about=ABOUT_NOISE,
        stop=stop,
        reason=_noise_told(rungs, stop, unit),
    )


def _noise_told(rungs: list[StripRung], stop: int, unit: str) -> str:
    here = rungs[stop]
    told = (
        f"At {here.value:g} {unit} at most {here.left:.1f} % of the noise's power is left and"
        f" {here.lost:.1f} % as much structure is lost"
    )
    if stop == len(rungs) - 1:
        return f"{told}; nothing further up was tried."
    after = rungs[stop + 1]
    less, more = here.left - after.left, after.lost - here.lost
    return f"{told}; the next rung takes {less:.1f} % more noise and costs {more:.1f} % more structure."


def _of_repairs(judge: RepairAt, found: list[Repaired], values: list[float], unit: str, present: float) -> Strip:
    rungs = [StripRung(value=v, left=f.left, lost=100 * f.damage) for v, f in zip(values, found, strict=True)]
    tolerance = judge.detector.tolerance
    stop = repair_stop(rungs, tolerance, present)
    here = rungs[stop]
    told = (
        f"At {here.value:g} {unit}: {judge.detector.kind} {here.left:.2g} {judge.detector.unit}, without the step"
        f" {judge.before:.2g} (tolerance {tolerance:g}); damage at {here.lost:.0f} % of what is too much"
    )
    if len({(round(r.left / tolerance / ALIKE), round(r.lost / 100 / BARELY)) for r in rungs}) == 1:
        told += "; all rungs do the same here"
    elif here.lost >= 100 * BARELY:
        told += f" ({found[stop].most.lower()})"
    return Strip(
        rungs=rungs, left=Scale(title=judge.detector.kind, unit=judge.detector.unit),
        lost=Scale(title="damage", unit="% of its limit"), about=ABOUT_REPAIR, stop=stop, reason=f"{told}.",
    )  # fmt: skip


def repair_stop(rungs: list[StripRung], tolerance: float, present: float) -> int:
    """The rung to stop at: of those that do not break too much, the ones that leave least, of these the one that
    breaks least, and of several alike the nearest to the present value."""
    whole = [k for k, rung in enumerate(rungs) if rung.lost < 100] or list(range(len(rungs)))
    least = min(rungs[k].left for k in whole)
    best = [k for k in whole if rungs[k].left <= least + ALIKE * tolerance]
    kindest = min(rungs[k].lost for k in best)
    alike = [k for k in best if rungs[k].lost <= kindest + 100 * BARELY]
    return min(alike, key=lambda k: abs(rungs[k].value - present))
