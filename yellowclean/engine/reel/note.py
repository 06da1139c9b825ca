"""The delivery note: what was wrong, what was done, and what was measured again on the written files."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from datetime import UTC, datetime
from fractions import Fraction
from typing import Literal

import cv2
import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..colour.input_space import input_space
from ..delivery import DeliveryReport
from ..errors import BadInput
from ..frames import as_uint8, scaled
from ..judge.standing import Standing, standings
from ..measure.report import SurveyReport
from ..media import MediaInfo, Source, open_source
from ..media.timecode import shifted
from ..plan import Plan, Step
from ..propose import untreated
from ..reach.model import Reach
from ..release import release
from .taking import Placed

PICTURE_WIDTH = 320


class NoteFile(BaseModel):
    """One written file and what was read back from it."""

    name: str
    report: DeliveryReport


class Compared(BaseModel):
    """One finding: as measured in the source, and in each written file (None: not read there)."""

    kind: str
    unit: str
    tolerance: float
    before: float
    was_outside: bool
    after: list[float | None]
    still: list[bool] = Field(description="For each file, whether it was read to lie outside its tolerance.")
    outside: bool = Field(description="Whether it does in any of them; that of the source where none tells.")


class NoteShot(BaseModel):
    """A shot in the note."""

    name: str
    place: Placed | None = None
    source: MediaInfo
    input_space: str
    version: str = ""
    plan: list[str] = Field([], description="The steps in words, in their order.")
    findings: list[Compared] = []
    remarks: list[str] = Field([], description="What nobody treated, and what the reader has to know.")
    files: list[NoteFile] = []
    before: str = Field("", description="The middle frame of the source, as a data address.")
    after: str = ""

    @property
    def outside(self) -> list[Compared]:
        return [finding for finding in self.findings if finding.outside]

    @property
    def told(self) -> list[Compared]:
        """The findings that were outside their tolerance, or are."""
        return [
            finding for finding in self.findings if finding.outside or finding.was_outside or any(finding.still)
        ]

    @property
    def inside(self) -> str:
        """The others, in a sentence or two."""
        kinds: dict[str, list[str]] = {}
        for finding in self.findings:
            if finding not in self.told:
                read = any(value is not None for value in finding.after)
                where = "before and after" if read else "in the source, not read in what was written"
                kinds.setdefault(where, []).append(finding.kind)
        return " ".join(f"Inside {where}: {', '.join(several)}." for where, several in kinds.items())


class Note(BaseModel):
    """The delivery note of a reel, or of one shot."""

    model_config = ConfigDict(populate_by_name=True)

    schema_id: Literal["yellow-clean/note/1"] = Field("yellow-clean/note/1", alias="schema")
    job: str
    timeline: str = ""
    written: str = Field(description="When, in UTC.")
    program: dict[str, str] = Field(description="Versions of the program and the libraries that it computed with.")
    shots: list[NoteShot]
    remarks: list[str] = Field([], description="What concerns the reel as a whole.")


def note_of(job: str, shots: Sequence[NoteShot], timeline: str = "", remarks: Sequence[str] = ()) -> Note:
    """The note of shots that were described by `shot_of`."""
    return Note(
        schema="yellow-clean/note/1", job=job, timeline=timeline, shots=list(shots), remarks=list(remarks),
        written=datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC"), program=release(),
    )  # fmt: skip


def shot_of(
    name: str, source: Source, survey: SurveyReport | None, plan: Plan | None, files: Sequence[DeliveryReport],
    *, label: str = "", place: Placed | None = None, generation: int = 0,
) -> NoteShot:  # fmt: skip
    """A shot's part of the note; `files` are the reports of what was written by this plan, `generation` how often
    the frames that it read had been treated and written before."""
    info, remarks = source.info, list(place.told) if place else []
    if generation:
        remarks.append(f"{second_generation(generation)}: the source named here was itself written by a plan")
    if survey is None:
        remarks.append("was not measured")
    elif plan is not None:
        remarks += [u.told for u in untreated(survey, plan)]
    for file in files:
        if file.damaged:
            listed = ", ".join(str(n) for n in file.damaged[:8]) + (" …" if len(file.damaged) > 8 else "")
            remarks.append(f"damaged in the source: frames {listed}; copy it again from the original")
            break
    beside = [_file_name(file) for file in files if file.grain_beside]
    if beside:
        remarks.append(
            f"players lay grain over {', '.join(beside)}; what was measured there is the picture under it"
        )
    if not files:
        remarks.append("was not written")
    return NoteShot(
        name=name, place=place, source=info, input_space=input_space(info).space, version=label,
        plan=[words_of(step) for step in plan.steps if step.acts] if plan else [],
        findings=_compared(standings(survey.findings) if survey else [], files),
        remarks=remarks,
        files=[NoteFile(name=_file_name(file), report=file) for file in files],
        before=_picture(source, info.frames // 2),
        after=_picture_of(files[0], info) if files else "",
    )  # fmt: skip


def second_generation(generation: int) -> str:
    """What treating frames is called that were treated and written so often before."""
    return "second generation" if generation == 1 else f"generation {generation + 1}"


def unopened(name: str, info: MediaInfo, why: str, *, place: Placed | None = None) -> NoteShot:
    """The part of a shot whose footage cannot be read."""
    return NoteShot(name=name, place=place, source=info, input_space=input_space(info).space, remarks=[why])


def words_of(step: Step) -> str:
    """A step as a sentence: what it is, what it was set to, how much of it, and why."""
    fields = type(step.parameters).model_fields
    told = []
    for name, value in step.settings.items():
        extra = fields[name].json_schema_extra
        unit = extra.get("unit", "") if isinstance(extra, dict) else ""
        if isinstance(value, bool) or not isinstance(value, int | float | str) or value == "":
            continue
        number = f"{value:.4g}" if isinstance(value, float) else str(value)
        told.append(f"{(fields[name].title or name).lower()} {number} {unit}".strip())
    amounts = ", ".join(told)
    mix = f"; {step.mix:.3g} % of it used" if step.mix < 100 else ""
    where = "; in a part of the picture" if step.reach != Reach() else ""
    why = f". {step.reason}" if step.reason else ""
    return f"{step.treatment.title}{': ' + amounts if amounts else ''}{mix}{where}{why}"


def _compared(found: Sequence[Standing], files: Sequence[DeliveryReport]) -> list[Compared]:
    rows = []
    for finding in found:
        read = [next((s for s in file.findings if s.kind == finding.kind), None) for file in files]
        after = [s.remaining if s else None for s in read]
        still = [bool(s and s.remaining is not None and s.outside) for s in read]
        told = any(value is not None for value in after)
        rows.append(
            Compared(
                kind=finding.kind,
                unit=finding.unit,
                tolerance=finding.tolerance,
                before=finding.value,
                was_outside=finding.was_outside,
                after=after,
                still=still,
                outside=any(still) if told else finding.outside,
            )
        )
    return rows


def _file_name(file: DeliveryReport) -> str:
    return file.path.rsplit("/", 1)[-1]


def _picture_of(file: DeliveryReport, source: MediaInfo) -> str:
    """The written frame that stands for the source's middle one, or the nearest to it."""
    try:
        written = open_source(file.path)
    except (BadInput, OSError):
        return ""
    try:
        n = min(max(source.frames // 2 - file.first_frame, 0), written.info.frames - 1)
        return _picture(written, n)
    finally:
        written.close()


def _picture(source: Source, n: int) -> str:
    """A frame in square pixels, small, as a data address."""
    frame = source.read(n)
    aspect = float(Fraction(source.info.pixel_aspect))
    across = min(1.0, aspect, PICTURE_WIDTH / frame.shape[1])
    small = as_uint8(np.ascontiguousarray(scaled(frame, across, across / aspect)))
    done, data = cv2.imencode(".jpg", small[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 88])
    return f"data:image/jpeg;base64,{base64.b64encode(data.tobytes()).decode()}" if done else ""


def span_of(info: MediaInfo) -> str:
    """From which timecode to which, or how many frames."""
    if not info.timecode:
        return f"{info.frames} frames"
    return f"{info.timecode} to {shifted(info.timecode, info.frames - 1, info.fps)}, {info.frames} frames"


def tags_of(info: MediaInfo) -> str:
    """What a file says of its values."""
    return f"{info.primaries} primaries, {info.transfer} transfer, {info.matrix} matrix, {info.range} range"
