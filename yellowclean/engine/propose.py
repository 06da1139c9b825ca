"""The proposal: the least treatment that brings the noise of a shot inside its tolerance."""

from __future__ import annotations

from .measure.profile import NoiseProfile
from .measure.survey import TOLERANCES, SurveyReport
from .plan import Plan, Step

FRAMES_FOR_MOTION = ((1.0, 5), (8.0, 3), (36.0, 2))
"""Motion between frames in pixels up to which so many neighbours on each side still bring something (set on
test-camera clips); beyond the last, one."""


def propose(report: SurveyReport, profile: NoiseProfile | None = None) -> Plan:
    """A plan for a surveyed shot; without steps when nothing lies outside its tolerance.

    `profile` replaces the shot's own one, for example a saved profile of the same camera and ISO.
    """
    used = profile or report.profile
    tolerance = {finding.kind: finding.tolerance for finding in report.findings}
    luma, chroma = used.typical_cv("luma"), used.chroma_cv
    luma_share = _needed(luma, tolerance.get("noise", TOLERANCES["noise"]))
    chroma_share = _needed(chroma, tolerance.get("colour noise", TOLERANCES["colour noise"]))
    if luma_share == chroma_share == 0:
        return Plan(profile=used)
    steps = []
    if report.media.frames > 1:
        steps.append(_temporal(report.motion_px, luma_share, chroma_share))
    steps.append(
        Step(
            kind="spatial",
            settings={"luma": luma_share, "chroma": chroma_share},
            reason=f"Luma noise of {luma:.1f} CV and colour noise of {chroma:.1f} CV: what the neighbours"
            " leave is taken within the frame.",
        )
    )
    return Plan(profile=used, steps=steps)


def _needed(sigma_cv: float, tolerance_cv: float) -> float:
    """Percent of the measured noise to treat: nothing inside tolerance, all of it from twice that on."""
    if sigma_cv <= tolerance_cv:
        return 0.0
    return float(round(min(60 + 40 * (sigma_cv / tolerance_cv - 1), 100)))


def _temporal(motion_px: float, luma: float, chroma: float) -> Step:
    frames = next((count for limit, count in FRAMES_FOR_MOTION if motion_px <= limit), 1)
    search = min(max(32, 8 * round(motion_px * 2.5 / 8)), 128)
    return Step(
        kind="temporal",
        settings={
            "frames": frames, "search": search,
            "luma": 100.0 if luma else 0.0, "chroma": 100.0 if chroma else 0.0,
        },
        reason=f"Motion of up to {motion_px:.0f} px a frame: {frames} frames each side still match.",
    )  # fmt: skip
