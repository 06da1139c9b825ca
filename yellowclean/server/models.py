"""What is kept: jobs, shots, noise profiles, plan versions, surveys and renders."""

from __future__ import annotations

import json
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any, ClassVar, TypeVar, cast

from django.conf import settings
from django.db import models
from django.utils import timezone
from pydantic import BaseModel, ValidationError

from ..engine.colour.look import Look
from ..engine.errors import BadInput
from ..engine.judge.patches import Remaining
from ..engine.measure.findings import Finding
from ..engine.measure.report import SurveyReport, with_tolerances
from ..engine.media import OUTPUT_FORMATS, Fields, MediaInfo, Source, fingerprint, open_source, stamp
from ..engine.noise.profile import NoiseProfile, profile_from_json
from ..engine.plan import Plan, plan_from_json
from ..engine.reel.finding import Found
from ..engine.reel.taking import Placed
from .managers import RenderQuerySet, ShotQuerySet, WorkQuerySet

Document = TypeVar("Document", bound=BaseModel)


REPLACED = (
    "the footage was replaced on disk since it was added; its figures and plans belong to the earlier one."
    " Add the new footage as a shot of its own."
)
ANOTHER_RELEASE = "measured by another release of the program; measure again."


class Job(models.Model):
    """A body of work."""

    name = models.CharField(max_length=200)
    created = models.DateTimeField(auto_now_add=True)
    tolerances = models.JSONField(default=dict, help_text="By kind of finding, where they differ from the default.")
    wanted = models.JSONField(default=dict, help_text="The engine's Wanted: how its shots are written.")

    class Meta:
        ordering = ("-created",)

    def __str__(self) -> str:
        return self.name

    @property
    def listed_shots(self) -> models.QuerySet[Shot]:
        """The shots that are worked on, see `ShotQuerySet`."""
        found: models.QuerySet[Shot] = Shot.objects.filter(job=self).listed()
        return found

    @property
    def folder(self) -> Path:
        """Where uploaded footage of this job lies."""
        return Path(settings.YELLOW_CLEAN.data) / "footage" / f"job_{self.pk}"


class Timeline(models.Model):
    """A timeline that events were, or are to be, taken from."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="timelines")
    name = models.CharField(max_length=255)
    document = models.TextField(help_text="OpenTimelineIO's own JSON.")
    media = models.JSONField(default=list, help_text="The engine's Found, one for each medium.")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return self.name

    @property
    def found(self) -> list[Found]:
        return [Found.model_validate(one) for one in self.media]


class Shot(models.Model):
    """One piece of footage: a file or sequence, or the frames of one that an event plays. `media` and `survey` are
    the engine's documents."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="shots")
    name = models.CharField(max_length=255)
    path = models.TextField()
    first = models.PositiveIntegerField(null=True, help_text="First frame of the file that is the shot's.")
    stop = models.PositiveIntegerField(null=True, help_text="The frame behind its last one.")
    origin = models.ForeignKey(
        "self", on_delete=models.SET_NULL, null=True, related_name="derived",
        help_text="The shot that it was made of: the whole of a scene, the source of a stand-in.",
    )  # fmt: skip
    generation = models.PositiveSmallIntegerField(default=0, help_text="How often its frames were treated before.")
    timeline = models.ForeignKey(Timeline, on_delete=models.SET_NULL, null=True, related_name="shots")
    place = models.JSONField(null=True, help_text="The engine's Placed: where it stands in its timeline.")
    position = models.PositiveIntegerField(default=0, help_text="Its place in the reel.")
    fingerprint = models.CharField(max_length=64)
    stamp = models.CharField(
        max_length=64, default="", help_text="Size and time of the files; tells a replacement."
    )
    media = models.JSONField()
    survey = models.JSONField(null=True)
    findings = models.JSONField(null=True, help_text="The survey's findings without their places, for lists.")
    noise = models.JSONField(null=True, help_text="The engine's Heard: noise of the survey, to be compared by.")
    cuts = models.JSONField(default=list, help_text="Frames with which another picture begins, by the survey.")
    look = models.JSONField(default=dict, help_text="The engine's Look that the shot is judged under.")
    space = models.CharField(
        max_length=200, blank=True, default="", help_text="The input space chosen by hand; empty: by the file."
    )
    fields = models.CharField(
        max_length=6, blank=True, default="", help_text="The lines seen first, where each field is a frame."
    )
    created = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[Any] = ShotQuerySet.as_manager()

    class Meta:
        ordering = ("position", "name", "pk")

    def __str__(self) -> str:
        return self.name

    @property
    def shown_under(self) -> Look:
        return _look(self.look)

    @property
    def info(self) -> MediaInfo:
        return MediaInfo.model_validate(self.media | {"space": self.space})

    def opened(self) -> Source:
        """Its footage, for reading."""
        return open_source(
            self.path, self.index_file, space=self.space, frames=self.frames, fields=self.lines_first
        )

    @property
    def lines_first(self) -> Fields:
        """The lines that were seen first, where each field is a frame of its own."""
        return cast(Fields, self.fields)

    @property
    def frames(self) -> range | None:
        """The frames of its file that are meant; None for all."""
        return None if self.first is None or self.stop is None else range(self.first, self.stop)

    @property
    def placed(self) -> Placed | None:
        """Where it stands in its timeline; None where it came without one."""
        return _readable(Placed, self.place)

    @property
    def content(self) -> str:
        """What its pictures are known by: the footage, and what its values are said to be in."""
        piece = f"{self.first}:{self.stop}" if self.frames else ""
        return f"{self.fingerprint}{self.space}{piece}{self.fields}"

    @property
    def trouble(self) -> str:
        """Why the footage cannot be worked with, in one line; empty when it can. Reads no more than the state of
        the files, unless that has changed."""
        try:
            now = stamp(self.path)
        except (BadInput, OSError) as error:
            return " ".join(str(error).split())
        if now == self.stamp:
            return ""
        if _fingerprint_of(self.path, now) != self.fingerprint:
            return REPLACED
        self.stamp = now
        type(self).objects.filter(pk=self.pk).update(stamp=now)
        return ""

    def require_footage(self) -> None:
        """Refuse work on footage that is gone, or is another one. Raises `BadInput`."""
        trouble = self.trouble
        if trouble:
            raise BadInput(f"{self.name}: {trouble}")

    @property
    def index_file(self) -> Path:
        """Where the index of the footage is kept, so that no request reads through a file."""
        return Path(settings.YELLOW_CLEAN.data) / "indexes" / f"{self.fingerprint}.json"

    @property
    def report(self) -> SurveyReport | None:
        """The survey, held against the tolerances of the job; None where there is none that this release reads."""
        found = _readable(SurveyReport, self.survey)
        return found.with_tolerances(self.job.tolerances) if found else None

    @cached_property
    def listed_findings(self) -> list[Finding] | None:
        """The findings without their places, against the job's tolerances; None where there are none to read."""
        if self.findings is None:
            return None
        found = _readable(_Findings, {"findings": self.findings})
        return with_tolerances(found.findings, self.job.tolerances) if found else None

    @property
    def problem(self) -> str:
        """What the user has to know before anything else, in one line."""
        if self.trouble:
            return self.trouble
        return ANOTHER_RELEASE if self.findings is not None and self.listed_findings is None else ""


class _Findings(BaseModel):
    """What is kept of a survey for lists."""

    findings: list[Finding]


class Profile(models.Model):
    """A saved noise profile."""

    name = models.CharField(max_length=200)
    camera = models.CharField(max_length=200, blank=True)
    gain = models.CharField(max_length=100, blank=True, help_text="ISO or gain, as the camera names it.")
    notes = models.TextField(blank=True)
    document = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name

    @property
    def profile(self) -> NoiseProfile:
        return profile_from_json(_text(self.document), self.name)


class CameraSpace(models.Model):
    """The input space that was chosen for all shots of a camera."""

    camera = models.CharField(max_length=200, unique=True)
    space = models.CharField(max_length=200)

    def __str__(self) -> str:
        return f"{self.camera}: {self.space}"


class Lut(models.Model):
    """A LUT file that looks may use; its path is made from its content and never means another."""

    name = models.CharField(max_length=255)
    path = models.TextField(unique=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name


class Still(models.Model):
    """A kept frame of a version: the plan and the look are copies, so that later edits do not change it."""

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE, related_name="stills")
    name = models.CharField(max_length=100)
    n = models.PositiveIntegerField()
    label = models.CharField(
        max_length=8, blank=True, help_text="The version it was taken from; empty: the source."
    )
    document = models.JSONField()
    look = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return self.name

    @property
    def plan(self) -> Plan:
        return plan_from_json(_text(self.document), f"still {self.name}")

    @property
    def shown_under(self) -> Look:
        return _look(self.look)


class Preset(models.Model):
    """Steps under a name; they become a plan with the profile of the shot they are applied to."""

    name = models.CharField(max_length=100, unique=True)
    steps = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name


class PlanVersion(models.Model):
    """One version (A, B, C …) of a shot's plan."""

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE, related_name="versions")
    label = models.CharField(max_length=8)
    document = models.JSONField()
    note = models.TextField(blank=True)
    remaining = models.JSONField(null=True, help_text="The engine's Remaining, with the plan's digest as key.")
    revision = models.PositiveIntegerField(
        default=0, help_text="Counts its changes: who saves says which was seen."
    )
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("label",)
        constraints = (models.UniqueConstraint(fields=("shot", "label"), name="one_label_a_shot"),)

    def __str__(self) -> str:
        return f"{self.shot} {self.label}"

    @property
    def plan(self) -> Plan:
        return plan_from_json(_text(self.document), f"version {self.label}")

    def left(self, plan: Plan) -> Remaining | None:
        """What was measured to be left under this very plan, if that was measured."""
        known = self.remaining if self.remaining and self.remaining.get("plan") == plan.digest() else None
        return _readable(Remaining, known)

    @property
    def left_when_seen(self) -> Remaining | None:
        """What was measured to be left since the plan was last changed: for lists, which do not read it."""
        known = self.remaining if (self.remaining or {}).get("revision") == self.revision else None
        return _readable(Remaining, known)


class State(models.TextChoices):
    """The states of a piece of background work."""

    QUEUED = "queued"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


class Work(models.Model):
    """Background work: durable, cancellable, resumable."""

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE, related_name="%(class)ss")
    state = models.CharField(max_length=10, choices=State.choices, default=State.QUEUED)
    progress = models.FloatField(default=0.0)
    message = models.TextField(blank=True)
    cancel_requested = models.BooleanField(default=False)
    attempts = models.PositiveSmallIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)

    objects: ClassVar[Any] = WorkQuerySet.as_manager()

    class Meta:
        abstract = True
        ordering = ("-pk",)

    @property
    def active(self) -> bool:
        return self.state in {State.QUEUED, State.RUNNING}

    def ended(self, state: State, message: str = "") -> None:
        """Record how the work ended, unless it was deleted meanwhile."""
        self.state, self.message, self.finished = state, message, timezone.now()
        if state is State.DONE:
            self.progress = 1.0
        told = {"state": state, "message": message, "finished": self.finished, "progress": self.progress}
        type(self).objects.filter(pk=self.pk).update(**told)


class Survey(Work):
    """A measuring pass; `patches` are the user's own (engine documents), empty for automatic ones."""

    patches = models.JSONField(default=list)


class Render(Work):
    """A result being written. The plan is a copy, so that later edits do not change it."""

    label = models.CharField(max_length=8)
    document = models.JSONField()
    format = models.CharField(max_length=20)
    name = models.CharField(max_length=200, blank=True, help_text="The file's, without number and ending.")
    first = models.PositiveIntegerField()
    stop = models.PositiveIntegerField()
    out = models.TextField(blank=True, help_text="The folder that its file goes to; empty for its own.")
    path = models.TextField(blank=True)
    report = models.JSONField(null=True)
    rank = models.IntegerField(default=0, help_text="Its place in the queue, the lowest first.")
    paused = models.BooleanField(default=False)
    judging = models.BooleanField(default=False, help_text="Whether what the plan damaged is told with the file.")

    objects: ClassVar[Any] = RenderQuerySet.as_manager()

    @property
    def plan(self) -> Plan:
        return plan_from_json(_text(self.document), f"version {self.label}")

    @property
    def folder(self) -> Path:
        """Where its unfinished segments lie, and the result where it goes nowhere else."""
        return Path(settings.YELLOW_CLEAN.data) / "renders" / f"render_{self.pk}"

    @property
    def target_path(self) -> Path:
        """The name that its file will have. Pictures of a sequence lie in a folder of their own."""
        fmt, name = OUTPUT_FORMATS[self.format], self.name or f"render_{self.pk}"
        folder = Path(self.out) if self.out else self.folder
        if not fmt.is_sequence:
            return folder / f"{name}{fmt.ending}"
        return (folder / name if self.out else folder) / f"{name}_####{fmt.ending}"


def _text(document: Any) -> str:
    return json.dumps(document)


def _readable(kind: type[Document], document: Any) -> Document | None:
    """A stored document, or None where this release cannot read it."""
    try:
        return kind.model_validate(document) if document is not None else None
    except ValidationError:
        return None


def _look(document: Any) -> Look:
    """A stored look; a plain one where this release cannot read it."""
    return _readable(Look, document) or Look()


@lru_cache(maxsize=256)
def _fingerprint_of(path: str, now: str) -> str:
    """The fingerprint of footage whose stamp is `now`."""
    return fingerprint(path)
