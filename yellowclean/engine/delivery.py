"""The delivery report: what was written, opened and measured again."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import BaseModel, Field

from .errors import BadInput
from .footage import Footage
from .frames import StopCheck, luma, never
from .judge.overwork import Overwork, overwork
from .judge.patches import (
    LEAST_PIECE,
    PatchBeforeAfter,
    Remaining,
    comparable,
    patch_before_after,
    shares_left,
)
from .judge.standing import Standing, standings
from .measure.detecting import DetectorPass
from .measure.findings import DETECTORS, said_of
from .measure.noise import measure_noise
from .measure.patch import Patch, PatchReading
from .measure.report import ABOUT_SOURCE, SurveyReport
from .media import Destination, MediaInfo, Source, files_of, open_source
from .noise.profile import NoiseCurve
from .pipeline import Pipeline
from .plan import Plan
from .render import damaged_frames

LARGEST_JUDGED = (1920, 1080)
"""Pixels of the middle of a frame that are judged for what the plan damaged."""


class DeliveryReport(BaseModel):
    """What was written, opened and measured again."""

    path: str
    format: str
    frames: int
    first_frame: int
    patches: list[PatchBeforeAfter]
    look_baked: bool = Field(False, description="Whether the written values are those under a look.")
    damaged: list[int] = Field([], description="Frames that were damaged in the source, and so are in the result.")
    findings: list[Standing] = Field([], description="The survey's findings, and what the file was read to have.")
    media: MediaInfo | None = Field(None, description="What the written file says of itself.")
    size_bytes: int = 0
    checksum: str = Field("", description="MD5 of the file; of a sequence, that of the list of its files' sums.")
    grain_beside: bool = Field(
        False,
        description="Whether grain travels as a table; what was measured is the picture under it.",
    )
    overwork: Overwork | None = Field(None, description="What the plan damaged, judged on the middle frame.")


def delivery_report(
    source: Source, target: Destination, chosen: range, plan: Plan, *, measured: SurveyReport | None = None,
    judging: bool = False, stopped: StopCheck = never,
) -> DeliveryReport:  # fmt: skip
    """Open what was written, count it, and measure it: flat patches beside the source's, those of the survey that
    lie in the frames written, where it is given, else of the middle; and all that the survey looks for. With
    `judging`, what the plan damaged as well."""
    patches = measured.patches if measured else []
    known = [f for f in measured.findings if f.kind == "damaged frames"] if measured else []
    damaged = {spot.frame for finding in known for spot in finding.spots} | set(damaged_frames(source, chosen))
    written = open_source(target.path, grain=False)
    try:
        if written.info.frames < len(chosen):
            raise BadInput(
                f"{target.path}: holds {written.info.frames} frames, {len(chosen)} were written; render it again."
            )
        curve = measured.profile.curve if measured else plan.profile.curve if plan.profile else None
        here = [r for r in patches if r.patch.frame in chosen and curve and comparable(r, curve)]
        flat = here or _patches_of_middle(source, chosen, curve)
        pipeline = Pipeline(Footage(source), plan)
        flat = [r for r in flat if pipeline.covered(r.patch.region).shortest >= LEAST_PIECE]
        pairs = [_written_patch(r.patch, pipeline, written, chosen) for r in flat]
        return DeliveryReport(
            path=str(target.path),
            format=target.format.title,
            frames=len(chosen),
            first_frame=chosen.start,
            patches=pairs,
            look_baked=not plan.look.plain,
            damaged=sorted(damaged & set(chosen)),
            findings=_findings(measured, pairs, pipeline, written, chosen) if measured else [],
            media=written.info,
            size_bytes=sum(file.stat().st_size for file in files_of(target.path)),
            checksum=checksum(files_of(target.path)),
            grain_beside=target.format.grain,
            overwork=_judged(pipeline.until(stopped), chosen, stopped) if judging else None,
        )
    finally:
        written.close()


def _judged(pipeline: Pipeline, chosen: range, stopped: StopCheck) -> Overwork | None:
    """What a plan damaged on the middle frame; None for one that does nothing, or where nothing can be judged."""
    where = pipeline.footage.whole.middle(*LARGEST_JUDGED)
    try:
        return overwork(pipeline, [chosen[len(chosen) // 2]], where, stopped=stopped).report
    except BadInput:
        return None


def checksum(files: Sequence[Path]) -> str:
    """MD5 (RFC 1321) in hexadecimal: of a file, or of the lines "sum  name" of several."""
    sums = []
    for file in files:
        with file.open("rb") as stream:
            sums.append(hashlib.file_digest(stream, _md5).hexdigest())
    if len(sums) == 1:
        return sums[0]
    lines = "".join(f"{found}  {file.name}\n" for found, file in zip(sums, files, strict=True))
    return _md5(lines.encode()).hexdigest()


def _md5(data: bytes = b"") -> Any:
    return hashlib.md5(data, usedforsecurity=False)


def _findings(
    measured: SurveyReport, pairs: Sequence[PatchBeforeAfter], pipeline: Pipeline, written: Source, chosen: range
) -> list[Standing]:
    """How the findings about the picture stand in the file: noise by patches, the rest by the detectors that found
    it, where size and colour are the source's and the file tells of it."""
    shares = shares_left(pairs) if pairs else {}
    values = {f.kind: f.value * shares[f.kind] for f in measured.findings if f.kind in shares}
    if pipeline.plan.look.plain and not pipeline.plan.reshaping().steps:
        looking = DetectorPass(written.info, chosen, [d for d in DETECTORS if not d.about_source])
        for n in chosen:
            frame = written.read(_index(pipeline, written, chosen, n))
            wanted = looking.wants(n)
            said = said_of(pipeline.footage.source, n, wanted=wanted)
            looking.show(n, luma(frame), frame if wanted else None, measured.profile.curve, said)
        values |= {f.kind: f.value for f in looking.findings() if f.confidence > 0}
    about_picture = [f for f in measured.findings if f.kind not in ABOUT_SOURCE]
    return standings(about_picture, Remaining(values=values, basis="patches", patches=list(pairs)))


def _index(pipeline: Pipeline, written: Source, chosen: range, n: int) -> int:
    """The number in the written file of the source's frame n."""
    if written.info.kind == "sequence":
        return pipeline.footage.info.first_number + n - written.info.first_number
    return n - chosen.start


def _written_patch(patch: Patch, pipeline: Pipeline, written: Source, chosen: range) -> PatchBeforeAfter:
    """A patch of the source and what stands in its place in what was written."""
    n = _index(pipeline, written, chosen, patch.frame)
    source = pipeline.reference.frame(patch.frame, patch.region)
    return patch_before_after(patch, source, written.read(n)[pipeline.covered(patch.region).slices])


def _patches_of_middle(source: Source, chosen: range, curve: NoiseCurve | None) -> list[PatchReading]:
    """Patches of the middle of a shot that can tell what is left, by the shot's curve or that of these frames."""
    middle = chosen.start + len(chosen) // 2
    few = range(max(middle - 2, chosen.start), min(middle + 3, chosen.stop))
    try:
        reading = measure_noise(source, frames=few)
    except BadInput:  # nothing in these frames can hold noise
        return []
    return [r for r in reading.patches if comparable(r, curve or reading.profile.curve)]
