"""The test strip: one region at a ladder of values of one setting, with what each leaves and loses."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, Field

from ..errors import BadInput
from ..frames import Region, StopCheck, never, raise_if
from ..pipeline import Footage, Pipeline
from ..plan import Plan
from .ladder import best_of
from .risk import RiskAt, Share

RUNGS = 7


class StripRung(BaseModel):
    """One value of the setting; shares of the noise's own power, luma and chroma together."""

    value: float
    error: float = Field(description="Estimated mean square error.")
    noise_left: float = Field(description="At most so much of the noise is left.")
    structure_lost: float = Field(description="The rest: detail that is gone, and what stands in its place.")


class Strip(BaseModel):
    """Seven rungs, and where to stop: the least value whose error is near the lowest."""

    rungs: list[StripRung]
    stop: int = Field(description="Number of the suggested rung, counted from 0.")
    reason: str


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
    """Judge a region of frame n at each of the setting's values."""
    values = strip_values(plan, step, setting)
    if plan.step(step).treatment.reshapes:
        raise BadInput(
            f"step {step + 1} changes the size or colour of the picture: its rungs cannot be laid side by side."
            " Try a setting of another step."
        )
    judge = RiskAt(footage, plan, n, Pipeline(footage, plan).large_enough(region))
    rungs = []
    for value in values:
        raise_if(stopped)
        risk = judge.of(plan.with_setting(step, setting, value))
        rungs.append(StripRung(value=value, **_together(risk.luma, risk.chroma)))
    stop = suggested_rung(rungs, held_out=judge.held_out)
    unit = plan.step(step).treatment.parameters.model_json_schema()["properties"][setting]["unit"]
    return Strip(rungs=rungs, stop=stop, reason=_reason(rungs, stop, unit))


def _together(luma: Share, chroma: Share) -> dict[str, float]:
    """Luma counts for half, as the eye has it (common practice, no source)."""
    return {
        "error": (luma.error + chroma.error) / 2,
        "noise_left": (luma.noise + chroma.noise) / 2,
        "structure_lost": (luma.structure + chroma.structure) / 2,
    }


def suggested_rung(rungs: list[StripRung], *, held_out: bool = False) -> int:
    """The rung to stop at; `held_out` tells that frames held out told the errors."""
    return best_of(np.array([rung.error for rung in rungs]), held_out=held_out)


def _reason(rungs: list[StripRung], stop: int, unit: str) -> str:
    here = rungs[stop]
    told = (
        f"At {here.value:g} {unit} at most {100 * here.noise_left:.1f} % of the noise's power is left and"
        f" {100 * here.structure_lost:.1f} % as much structure is lost"
    )
    if stop == len(rungs) - 1:
        return f"{told}; nothing further up was tried."
    after = rungs[stop + 1]
    less, more = here.noise_left - after.noise_left, after.structure_lost - here.structure_lost
    return f"{told}; the next rung takes {100 * less:.1f} % more noise and costs {100 * more:.1f} % more structure."
