"""A job as a folder: one document, and beside it the timeline, surveys, plans, results and notes.

What the command line works on, and what a job of the application is exported as and imported from. Media are named
by paths relative to the folder where they lie on the same disk, so that both can be moved together.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..colour.look import Look
from ..delivery import DeliveryReport
from ..errors import BadInput
from ..measure.report import SurveyReport
from ..media import Fields, Source, open_source
from ..noise.profile import first_problem
from ..plan import Plan, plan_from_json
from .taking import Placed, Taken

D = TypeVar("D", bound=BaseModel)

DOCUMENT, TIMELINE = "job.json", "timeline.otio"
FIRST = "A"


class JobStill(BaseModel):
    """A kept frame of a shot, with the plan and the look that it was kept under."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field(max_length=100)
    n: int = Field(ge=0)
    label: str = Field("", max_length=8)
    plan: Plan = Plan()
    look: Look = Look()


class JobShot(BaseModel):
    """A shot of a job; its survey, plans and reports lie under its name."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field(min_length=1, max_length=255, pattern=r"^[^/\\\x00-\x1f]*$")
    media: str
    first: int | None = Field(None, ge=0, description="First frame of the file that is the shot's; none for all.")
    stop: int | None = Field(None, ge=1)
    place: Placed | None = None
    space: str = ""
    fields: Fields = Field("", description="The lines seen first, where each field is a frame.")
    look: Look = Look()
    origin: str = Field("", description="Name of the shot that it was made of, and stands in the place of.")
    generation: int = Field(0, ge=0, le=1000, description="How often its frames were treated and written before.")
    fingerprint: str = Field("", description="Tells its footage from other footage under its name.")
    stills: list[JobStill] = []


class JobDocument(BaseModel):
    """What a job is made of."""

    model_config = ConfigDict(populate_by_name=True, extra="forbid")

    schema_id: Literal["yellow-clean/job/1"] = Field("yellow-clean/job/1", alias="schema")
    name: str
    timeline: str = Field("", description="Name of the timeline that its shots come from.")
    tolerances: dict[str, float] = {}
    shots: list[JobShot]


class WrittenShot(BaseModel):
    """A file that was written for a shot, and by what."""

    label: str
    plan: str = Field(description="The digest of the plan that it was written by.")
    format: str
    first: int
    stop: int
    report: DeliveryReport


class JobFolder:
    """A job on disk. Raises `BadInput` for a folder that is none, or a document that cannot be read."""

    def __init__(self, root: Path) -> None:
        self.root = root.absolute()
        if not (self.root / DOCUMENT).is_file():
            raise BadInput(f"{root}: is no job, it holds no {DOCUMENT}; make one with: yellow-clean job import.")
        self.document = _read(self.root / DOCUMENT, JobDocument)
        names = [shot.name for shot in self.document.shots]
        if len(set(names)) < len(names):
            raise BadInput(f"{root}: two shots have one name; give each its own in {DOCUMENT}.")

    @classmethod
    def create(
        cls, root: Path, name: str, shots: Sequence[JobShot], *, timeline: str = "", timeline_name: str = "",
        tolerances: dict[str, float] | None = None,
    ) -> JobFolder:  # fmt: skip
        """A new job; `timeline` is OpenTimelineIO's own JSON. Raises `BadInput` where there is one already."""
        if (root / DOCUMENT).exists():
            raise BadInput(f"{root}: holds a job already; choose another folder.")
        root.mkdir(parents=True, exist_ok=True)
        document = JobDocument(
            schema_id="yellow-clean/job/1", name=name, timeline=timeline_name, tolerances=tolerances or {},
            shots=list(shots),
        )  # fmt: skip
        if timeline:
            _write(root / TIMELINE, timeline)
        _write(root / DOCUMENT, document.model_dump_json(by_alias=True, indent=1) + "\n")
        return cls(root)

    @property
    def shots(self) -> list[JobShot]:
        """The shots that are worked on: all of which no others were made."""
        replaced = {shot.origin for shot in self.document.shots}
        return [shot for shot in self.document.shots if shot.name not in replaced]

    @property
    def timeline(self) -> str:
        """The document of the timeline; empty where the job has none."""
        file = self.root / TIMELINE
        return file.read_text() if file.is_file() else ""

    def media_of(self, shot: JobShot) -> Path:
        """Where the document says that a shot's footage lies."""
        return Path(os.path.normpath(self.root / shot.media))

    def named(self, media: Path) -> str:
        """How a file is named in the document."""
        return relative(media, self.root)

    def opened(self, shot: JobShot) -> Source:
        """A shot's footage. Raises `BadInput`."""
        frames = None if shot.first is None or shot.stop is None else range(shot.first, shot.stop)
        return open_source(
            self.media_of(shot), self._index(shot), space=shot.space, frames=frames, fields=shot.fields
        )

    def _index(self, shot: JobShot) -> Path:
        name = hashlib.sha256(shot.media.encode()).hexdigest()[:24]
        return self.root / "indexes" / f"{name}.json"

    def survey(self, shot: JobShot) -> SurveyReport | None:
        """A shot's survey, held against the tolerances of the job."""
        file = self.root / "surveys" / f"{shot.name}.json"
        return _read(file, SurveyReport).with_tolerances(self.document.tolerances) if file.is_file() else None

    def keep_survey(self, shot: JobShot, survey: SurveyReport) -> None:
        _write(self.root / "surveys" / f"{shot.name}.json", survey.to_json() + "\n")

    def labels(self, shot: JobShot) -> list[str]:
        """The letters of a shot's plans."""
        folder, stem = self.root / "plans", f"{shot.name}."
        found = [f.name[len(stem) : -5] for f in folder.glob("*.json") if f.name.startswith(stem)]
        return sorted(label for label in found if label and "." not in label)

    def plan(self, shot: JobShot, label: str) -> Plan:
        file = self.root / "plans" / f"{shot.name}.{label}.json"
        return plan_from_json(file.read_bytes(), str(file))

    def keep_plan(self, shot: JobShot, label: str, plan: Plan) -> None:
        _write(self.root / "plans" / f"{shot.name}.{label}.json", plan.to_json() + "\n")

    def written(self, shot: JobShot) -> list[WrittenShot]:
        """What was written for a shot and is still there, by format."""
        files = sorted((self.root / "reports").glob("*/*.json"))
        found = [_read(file, WrittenShot) for file in files if file.stem == shot.name]
        return [kept for kept in found if self._is_there(kept)]

    def keep_written(self, shot: JobShot, kept: WrittenShot) -> None:
        path = Path(kept.report.path)
        told = kept.report.model_copy(update={"path": self.named(path)})
        _write(
            self.root / "reports" / kept.format / f"{shot.name}.json",
            kept.model_copy(update={"report": told}).model_dump_json(indent=1) + "\n",
        )

    def report_of(self, kept: WrittenShot) -> DeliveryReport:
        """Its report, with the path where the file lies now."""
        return kept.report.model_copy(update={"path": str(self.path_of(kept))})

    def path_of(self, kept: WrittenShot) -> Path:
        return Path(os.path.normpath(self.root / kept.report.path))

    def _is_there(self, kept: WrittenShot) -> bool:
        path = self.path_of(kept)
        return path.exists() or ("#" in path.name and path.parent.is_dir() and any(path.parent.iterdir()))


def shot_from(taken: Taken, root: Path) -> JobShot:
    """An event as a shot of the job in a folder."""
    return JobShot(
        name=taken.name, media=relative(taken.path, root.absolute()), first=taken.frames.start,
        stop=taken.frames.stop, place=taken.place,
    )  # fmt: skip


def relative(media: Path, root: Path) -> str:
    """A path from a folder to a file, with slashes; the whole path where they share nothing but the root."""
    media = media.absolute()
    shared = os.path.commonpath([media, root])
    return os.path.relpath(media, root) if shared != os.path.sep else str(media)


def _read(file: Path, kind: type[D]) -> D:
    try:
        return kind.model_validate_json(file.read_bytes())
    except ValidationError as error:
        raise BadInput(f"{file}: {first_problem(error)}") from error


def _write(file: Path, text: str) -> None:
    """Complete or not at all."""
    file.parent.mkdir(parents=True, exist_ok=True)
    begun = file.with_name(f".{file.name}.partial")
    begun.write_text(text)
    begun.replace(file)
