"""The proposal: the least treatment that brings the noise of a shot inside its tolerance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from pydantic import BaseModel, ValidationError

from .colour.opponent import chroma_sigma
from .errors import BadPlan
from .format import Format
from .frames import CV_SCALE
from .judge.ladder import Stop, merging_leaves, suggested_stop
from .measure.report import TOLERANCES, Rung, SurveyReport, finding_kinds
from .noise.profile import NoiseCurve, NoiseProfile, first_problem
from .plan import Plan, Step
from .reach.model import Reach, Tones
from .treat import TREATMENTS, Amount, Case, Treatment

LEVEL_PRESENT = 0.01
"""Share of the pixels from which on a level counts as present."""

WORTH_KEEPING = 0.2
"""Share of the picture that must lie above the noisy tones, all of it within tolerance, for it to be left out."""

SHOULDER_CV = 64.0


LEAST_SEEN_CV = 0.5
"""Colour noise below this is not seen, however quiet the rest is (common practice, no source)."""

NOTHING, EVERYTHING = Stop(0.0), Stop(100.0)

Signal = Literal["luma", "chroma"]
NAMES: dict[Signal, str] = {"luma": "Luma noise", "chroma": "Colour noise"}


@dataclass(frozen=True, slots=True)
class _Judged:
    """Noise of a signal and its tolerance, in CV, and how many percent of it to take; `beside` where colour noise
    inside its tolerance is treated since luma is."""

    signal: Signal
    sigma: float
    limit: float
    stop: Stop
    beside: bool = False

    @property
    def amount(self) -> float:
        return self.stop.strength


def propose(
    report: SurveyReport, profile: NoiseProfile | None = None, *,
    scale: float | tuple[int, int] | None = None, space: str | None = None, sharpen: bool = False,
) -> Plan:  # fmt: skip
    """A plan for a surveyed shot; without steps when nothing lies outside its tolerance and nothing is asked for.

    `profile` replaces the shot's own one, for example a saved profile of the same camera and ISO. `scale` asks for
    another size (a factor, or width and height in pixels), `space` for another colour encoding, by name,
    `sharpen` for the measured blur to be undone even inside its tolerance. Every treatment says for itself what it
    would do. Raises `BadPlan` for a size or encoding that there is none of.
    """
    case = replace(_case(report, profile or report.profile), scale=scale, space=space, sharpen=sharpen)
    try:
        return Plan(profile=case.profile, steps=[s for t in TREATMENTS.values() if (s := _step(t, case))])
    except ValidationError as error:
        raise BadPlan(first_problem(error)) from error


class Untreated(BaseModel):
    """A finding outside its tolerance that no step of a plan treats, and what to do instead."""

    kind: str
    value: float
    unit: str
    tolerance: float
    instead: str

    @property
    def told(self) -> str:
        return (
            f"Not treated: {self.kind} of {self.value:.4g} {self.unit} against a tolerance of {self.tolerance:g}."
            f" {self.instead}"
        )


def untreated(report: SurveyReport, plan: Plan) -> list[Untreated]:
    """What the plan leaves alone of the findings outside their tolerances, in their order."""
    treated = {kind for step in plan.steps if step.acts for kind in step.treatment.treats}
    instead = {kind.kind: kind.instead for kind in finding_kinds()}
    return [
        Untreated(
            kind=f.kind, value=f.value, unit=f.unit, tolerance=f.tolerance,
            instead=instead[f.kind] or _by_hand(f.kind),
        )
        for f in report.findings
        if f.outside and f.kind not in treated
    ]  # fmt: skip


def _by_hand(kind: str) -> str:
    able = " or ".join(t.title for t in TREATMENTS.values() if kind in t.treats)
    return (
        f"{able} found nothing here that is surely a fault: it is measured again in the result; add the step if it"
        " stays."
    )


def _step(treatment: Treatment, case: Case) -> Step | None:
    proposal = treatment.propose(case) if treatment.propose else None
    if proposal is None:
        return None
    return Step(kind=treatment.kind, settings=proposal.settings, reach=proposal.reach, reason=proposal.reason)


def offered(report: SurveyReport, kind: str) -> Step:
    """A step of that kind as it would be proposed for a shot if it were asked for; with the usual settings where
    nothing that was measured says more."""
    case = replace(_case(report, report.profile), sharpen=True, by_hand=True)
    return _step(TREATMENTS[kind], case) or Step(kind=kind)


def _case(report: SurveyReport, used: NoiseProfile) -> Case:
    rungs = report.ladder
    tolerance = TOLERANCES | {finding.kind: finding.tolerance for finding in report.findings}
    luma = _judged("luma", used.typical_cv("luma"), tolerance["noise"], report)
    chroma = _beside(luma, _judged("chroma", used.chroma_cv, tolerance["colour noise"], report), report)
    reach = _where_the_noise_lives(used.curve, luma.limit, chroma.limit)
    return Case(
        media=report.media,
        format=Format.of(report.media),
        findings={finding.kind: finding for finding in report.findings},
        profile=used,
        movement=report.movement,
        luma=Amount(luma.amount, _of_amount(luma, rungs)),
        chroma=Amount(chroma.amount, _of_amount(chroma, rungs)),
        reach=reach,
        where=_of_reach(reach),
        difference=rungs[0].difference if rungs else 1.0,
        gentle=bool(rungs) and rungs[0].gentle,
        merging_leaves=merging_leaves(rungs),
    )


def _judged(signal: Signal, sigma: float, limit: float, report: SurveyReport) -> _Judged:
    """Nothing is taken of what is inside tolerance, else up to where more costs more."""
    return _Judged(signal, sigma, limit, _stop(report, signal) if sigma > limit else NOTHING)


def _stop(report: SurveyReport, signal: Signal) -> Stop:
    return suggested_stop(report.ladder, signal, slow=report.movement.slow) if report.ladder else EVERYTHING


def _beside(luma: _Judged, chroma: _Judged, report: SurveyReport) -> _Judged:
    """Colour noise judged again beside quiet luma: inside its tolerance, it would then be what is seen first."""
    if chroma.amount or not luma.amount or chroma.sigma < LEAST_SEEN_CV:
        return chroma
    return replace(chroma, stop=_stop(report, "chroma"), beside=True)


def _where_the_noise_lives(curve: NoiseCurve, luma_limit: float, chroma_limit: float) -> Reach:
    """The tones up to the highest level that is out of tolerance, if a good part of the picture lies above."""
    levels, share = np.array(curve.level_cv), np.array(curve.share)
    chroma = chroma_sigma(curve.signal("cb"), curve.signal("cr"))
    noisy = (curve.signal("luma") > luma_limit) | (chroma > chroma_limit)
    noisy &= share >= LEVEL_PRESENT
    if not noisy.any():
        return Reach()
    top = float(levels[noisy].max())
    if share[levels > top + SHOULDER_CV].sum() < WORTH_KEEPING * share.sum():
        return Reach()
    return Reach(tones=Tones(high_cv=min(top, CV_SCALE), soft_cv=SHOULDER_CV))


def _of_amount(judged: _Judged, rungs: Sequence[Rung]) -> str:
    told = f"{NAMES[judged.signal]} of {judged.sigma:.1f} CV"
    if not judged.amount:
        return f"{told} is inside its tolerance of {judged.limit:.1f}: left alone."
    if judged.beside:
        told += f" is inside its tolerance of {judged.limit:.1f}, but would be seen first once luma is quiet"
    else:
        told += f" against a tolerance of {judged.limit:.1f}"
    if not rungs:
        return f"{told}: all of it is taken."
    if judged.stop.because:
        return f"{told}: {judged.amount:.0f} % are taken, since {judged.stop.because}."
    return (
        f"{told}: at {judged.amount:.0f} % the error estimated in the middle of the picture is lowest; beyond, more"
        " detail goes there than noise."
    )


def _of_reach(reach: Reach) -> str:
    if not reach.tones:
        return ""
    return f"Above {reach.tones.high_cv:.0f} CV the shot is inside its tolerance: only what is darker is treated."
