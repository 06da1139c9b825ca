"""The survey: the measuring pass over a shot, with the ladder of the noise chain judged on it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .colour.opponent import OPPONENT
from .frames import Progress, StopCheck, never
from .judge.ladder import ladder
from .measure.detecting import DetectorPass
from .measure.findings import Finding, Place
from .measure.noise import NoiseReading, measure_noise
from .measure.patch import Patch
from .measure.report import TOLERANCES, NoiseReport, SurveyReport, in_order, source_check
from .media import Source
from .media.info import Tame
from .noise.profile import NoiseCurve, NoiseProfile


def survey(
    source: Source, patches: Sequence[Patch] = (), *, frames: range | None = None,
    progress: Progress | None = None, stopped: StopCheck = never,
) -> SurveyReport:  # fmt: skip
    """Measure a shot. See `measure_noise` for the arguments and errors."""
    if source.info.is_float:
        source = Tame(source)
    chosen = frames or range(source.info.frames)
    watcher = DetectorPass(source.info, chosen)
    reading = measure_noise(source, patches, frames=frames, progress=progress, stopped=stopped, watcher=watcher)
    others = watcher.findings()
    middle = (chosen.start + chosen.stop) // 2
    return SurveyReport(
        media=source.info,
        source=source_check(others),
        noise=_report(reading),
        patches=reading.patches,
        findings=in_order(_noise_findings(reading, chosen.start), others),
        profile=reading.profile,
        motion_px=reading.movement.px,
        standing=reading.movement.standing,
        cuts=watcher.cuts.found(),
        ladder=ladder(source, reading.profile, reading.movement, middle, stopped=stopped),
    )


def _report(reading: NoiseReading) -> NoiseReport:
    profile = reading.profile
    return NoiseReport(
        luma_cv=profile.typical_cv("luma"),
        chroma_cv=profile.chroma_cv,
        r_cv=profile.typical_cv("r"),
        g_cv=profile.typical_cv("g"),
        b_cv=profile.typical_cv("b"),
        curve=profile.curve,
        coded=reading.coded,
        grain_px=profile.grain_px,
        confidence=profile.confidence,
        by_frame_cv=reading.by_frame_cv,
    )


def _noise_findings(reading: NoiseReading, first: int) -> list[Finding]:
    profile = reading.profile
    place = None
    if reading.patches:
        patch = reading.patches[0].patch
        place = Place(x=patch.x, y=patch.y, width=patch.width, height=patch.height)
    frame = reading.patches[0].patch.frame if reading.patches else first + reading.noisiest
    share = monochrome_share(profile)
    values = [
        ("noise", profile.typical_cv("luma"), "CV", _broken_channels(profile.curve)),
        ("colour noise", profile.chroma_cv, "CV", ""),
        ("grain", profile.grain_px, "px", f"{100 * share:.0f} % of its power is monochrome"),
    ]
    return [
        Finding(
            kind=kind, value=value, unit=unit, tolerance=TOLERANCES[kind],
            confidence=profile.confidence, frame=frame, region=place, detail=detail,
        )
        for kind, value, unit, detail in values
    ]  # fmt: skip


CHANNEL_NAMES = {"r": "red", "g": "green", "b": "blue"}


def _broken_channels(curve: NoiseCurve) -> str:
    """What is said of channels that are cut off."""
    told = []
    for channels, what in (
        (curve.dead, "cut off everywhere and left as it is"),
        (curve.cut, "cut off in part everywhere"),
    ):
        told += [f"{CHANNEL_NAMES[name]} is {what}" for name in channels]
    return "; ".join(told)


def monochrome_share(profile: NoiseProfile) -> float:
    """Share of the noise power that R', G' and B' have in common: 0 for independent, 1 for equal noise."""
    power = np.diag(OPPONENT @ np.array(profile.correlation) @ OPPONENT.T)
    return float(np.clip((power[0] - power[1:].mean()) / power.sum(), 0, 1))
