"""The proposal: the least treatment that brings the noise of a shot inside its tolerance."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np

from .chain import frames_each_side, noise_chain
from .colour.opponent import chroma_sigma
from .frames import CV_SCALE
from .judge.ladder import Rung, suggested_stop
from .measure.profile import NoiseCurve, NoiseProfile
from .measure.survey import TOLERANCES, SurveyReport
from .motion import STANDS, Movement
from .plan import Plan
from .reach.model import Reach, Tones

LEVEL_PRESENT = 0.01
"""Share of the pixels from which on a level counts as present."""

WORTH_KEEPING = 0.2
"""Share of the picture that must lie above the noisy tones, all of it within tolerance, for it to be left out."""

SHOULDER_CV = 64.0


Signal = Literal["luma", "chroma"]
Two = dict[Signal, float]


def propose(report: SurveyReport, profile: NoiseProfile | None = None) -> Plan:
    """A plan for a surveyed shot; without steps when nothing lies outside its tolerance.

    `profile` replaces the shot's own one, for example a saved profile of the same camera and ISO.
    """
    used = profile or report.profile
    tolerance = TOLERANCES | {finding.kind: finding.tolerance for finding in report.findings}
    sigma: Two = {"luma": used.typical_cv("luma"), "chroma": used.chroma_cv}
    limit: Two = {"luma": tolerance["noise"], "chroma": tolerance["colour noise"]}
    amounts: Two = {signal: _amount(report.ladder, signal, sigma, limit) for signal in sigma}
    if not any(amounts.values()):
        return Plan(profile=used)
    reach = _where_the_noise_lives(used.curve, limit)
    steps = noise_chain(report.media.frames, report.movement, amounts["luma"], amounts["chroma"], reach)
    told = f"{_of_amounts(sigma, limit, amounts, report.ladder)} {_of_reach(reach)}".strip()
    reasons = {"temporal": _of_frames(report.movement), "spatial": told}
    return Plan(profile=used, steps=[step.model_copy(update={"reason": reasons[step.kind]}) for step in steps])


def _amount(rungs: Sequence[Rung], signal: Signal, sigma: Two, limit: Two) -> float:
    """Percent of the measured noise to take: nothing inside tolerance, else up to where more costs more."""
    if sigma[signal] <= limit[signal]:
        return 0.0
    return suggested_stop(rungs, signal) if rungs else 100.0


def _where_the_noise_lives(curve: NoiseCurve, limit: Two) -> Reach:
    """The tones up to the highest level that is out of tolerance, if a good part of the picture lies above."""
    levels, share = np.array(curve.level_cv), np.array(curve.share)
    chroma = chroma_sigma(curve.signal("cb"), curve.signal("cr"))
    noisy = (curve.signal("luma") > limit["luma"]) | (chroma > limit["chroma"])
    noisy &= share >= LEVEL_PRESENT
    if not noisy.any():
        return Reach()
    top = float(levels[noisy].max())
    if share[levels > top + SHOULDER_CV].sum() < WORTH_KEEPING * share.sum():
        return Reach()
    return Reach(tones=Tones(high_cv=min(top, CV_SCALE), soft_cv=SHOULDER_CV))


def _of_frames(movement: Movement) -> str:
    count = frames_each_side(movement)
    side = "1 frame each side still matches" if count == 1 else f"{count} frames each side still match"
    if movement.standing >= STANDS:
        return f"{100 * movement.standing:.0f} % of the picture stands still: {side}."
    return f"Motion of up to {movement.px:.0f} px a frame: {side}."


def _of_amounts(sigma: Two, limit: Two, amounts: Two, rungs: Sequence[Rung]) -> str:
    names: dict[Signal, str] = {"luma": "Luma noise", "chroma": "Colour noise"}
    return " ".join(_of_amount(names[s], s, sigma[s], limit[s], amounts[s], rungs) for s in names)


def _of_amount(name: str, signal: Signal, sigma: float, limit: float, amount: float, rungs: Sequence[Rung]) -> str:
    if not amount:
        return f"{name} of {sigma:.1f} CV is inside its tolerance of {limit:.1f}: left alone."
    if not rungs:
        return f"{name} of {sigma:.1f} CV against a tolerance of {limit:.1f}: all of it is taken."
    return (
        f"{name} of {sigma:.1f} CV against a tolerance of {limit:.1f}: at {amount:.0f} % the error estimated in the"
        " middle of the picture is lowest; beyond, more detail goes there than noise."
    )


def _of_reach(reach: Reach) -> str:
    if not reach.tones:
        return ""
    return f"Above {reach.tones.high_cv:.0f} CV the shot is inside its tolerance: only what is darker is treated."
