"""Jobs and their contact sheets."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated

from django.db.models import Count, Max, Prefetch, Q, QuerySet
from django.http import HttpRequest
from ninja import Field, Router, Schema
from pydantic import ValidationError

from ...engine.colour.input_space import input_space
from ...engine.errors import BadInput, YellowCleanError
from ...engine.judge.standing import standings
from ...engine.measure.report import FindingKind, finding_kinds, source_check
from ...engine.media import MediaInfo
from ...engine.noise.profile import first_problem
from ..derived import made_of
from ..models import Job, PlanVersion, Profile, Render, Shot, Survey, Work
from ..rendering import delivery_folder, wanted_of
from ..use_cases import By, cancel, delete_shot, noise_groups, propose_for, request_survey, set_tolerances
from ..views import picture_key
from .schemas import JobChange, JobIn, JobOut, ShotOut, WorkOut

router = Router(tags=["jobs"])


class ProposeMany(Schema):
    """By what to propose, and for which shots: all measured ones where none are named."""

    profile_id: int | None = None
    by: By = "own"
    shot_ids: list[int] | None = None


def _told(job: Job, shots: int) -> JobOut:
    return JobOut(
        id=job.pk, name=job.name, created=job.created, shots=shots, tolerances=job.tolerances, wanted=wanted_of(job)
    )


def told_work(work: Work | None) -> WorkOut | None:
    return WorkOut.from_orm(work) if work else None


def told_shot(shot: Shot) -> ShotOut:
    """A shot as the contact sheet shows it: its findings as its newest version leaves them, where that is known."""
    versions = list(shot.versions.all())
    findings = shot.listed_findings
    return ShotOut(
        id=shot.pk,
        job_id=shot.job_id,
        name=shot.name,
        fingerprint=shot.fingerprint,
        picture_key=picture_key(shot),
        media=shot.info,
        place=shot.placed,
        cuts=shot.cuts,
        origin_id=shot.origin_id,
        made_of=made_of(shot),
        generation=shot.generation,
        input_space=input_space(shot.info),
        findings=None
        if findings is None
        else standings(findings, versions[-1].left_when_seen if versions else None),
        source=source_check(findings) if findings is not None else None,
        survey=told_work(next(iter(shot.surveys.all()), None)),  # type: ignore[attr-defined]
        render=told_work(next(iter(shot.renders.all()), None)),  # type: ignore[attr-defined]
        versions=[v.label for v in versions],
        newest_version=versions[-1].pk if versions else None,
        problem=shot.problem,
    )


def _told_shots(shots: Iterable[Shot]) -> list[ShotOut]:
    """Each shot for itself: one that cannot be told says so, and spoils no other."""
    told = []
    for shot in shots:
        try:
            told.append(told_shot(shot))
        except (ValidationError, YellowCleanError) as error:
            told.append(_untold(shot, error))
    return told


def _untold(shot: Shot, error: Exception) -> ShotOut:
    """A shot whose documents cannot be read by this release."""
    reason = first_problem(error) if isinstance(error, ValidationError) else str(error)
    unknown = MediaInfo(
        path=shot.path, kind="video", width=16, height=9, frames=1, rate="24", bit_depth=8, chroma="rgb", codec="",
        pixel_format="", range="full", primaries="", transfer="", matrix="rgb",
    )  # fmt: skip
    return ShotOut(
        id=shot.pk, job_id=shot.job_id, name=shot.name, fingerprint=shot.fingerprint, picture_key="", media=unknown,
        findings=None, source=None, survey=None, render=None, versions=[],
        problem=f"What is kept of it cannot be read ({reason}) Remove it and add it again.",
    )  # fmt: skip


def shots_of(job_id: int) -> QuerySet[Shot]:
    """The shots of a job with all that `told_shot` needs, in a fixed number of queries."""
    shots = (
        Job.objects.get(pk=job_id).listed_shots.select_related("job", "origin").defer("survey", "origin__survey")
    )
    newest = [
        Prefetch(name, kind.objects.filter(pk__in=kind.objects.values("shot").annotate(n=Max("pk")).values("n")))
        for name, kind in (("surveys", Survey), ("renders", Render))
    ]
    return shots.prefetch_related(Prefetch("versions", PlanVersion.objects.defer("document")), *newest)


@router.get("/jobs", response=list[JobOut])
def list_jobs(request: HttpRequest) -> list[JobOut]:
    counted = Job.objects.annotate(count=Count("shots", filter=Q(shots__derived__isnull=True), distinct=True))
    return [_told(job, job.count) for job in counted.order_by("-created")]  # counting forgets it


@router.post("/jobs", response=JobOut)
def create_job(request: HttpRequest, payload: JobIn) -> JobOut:
    name = payload.name.strip()
    if not name:
        raise BadInput("A job needs a name.")
    return _told(Job.objects.create(name=name[:200]), 0)


@router.patch("/jobs/{job_id}", response=JobOut)
def change_job(request: HttpRequest, job_id: int, payload: JobChange) -> JobOut:
    job = Job.objects.get(pk=job_id)
    if payload.name and payload.name.strip():
        job.name = payload.name.strip()[:200]
        job.save(update_fields=["name"])
    if payload.tolerances is not None:
        set_tolerances(job, payload.tolerances)
    if payload.wanted is not None:
        delivery_folder(payload.wanted.folder)
        job.wanted = payload.wanted.model_dump()
        job.save(update_fields=["wanted"])
    return _told(job, job.listed_shots.count())


@router.get("/findings", response=list[FindingKind])
def list_findings(request: HttpRequest) -> list[FindingKind]:
    """What can be found, in working order, with default tolerances."""
    return finding_kinds()


class Proposed(Schema):
    """The job's shots, and the versions that were made."""

    shots: list[ShotOut]
    made: list[int]


@router.post("/jobs/{job_id}/propose", response=Proposed)
def propose_for_job(request: HttpRequest, job_id: int, payload: ProposeMany) -> Proposed:
    """A new version for every measured shot of the job, or for those named."""
    profile = Profile.objects.get(pk=payload.profile_id) if payload.profile_id else None
    made = propose_for(list(chosen_of(job_id, payload.shot_ids)), profile, payload.by)
    return Proposed(shots=_told_shots(shots_of(job_id)), made=[version.pk for version in made])


class NoiseGroupOut(Schema):
    """Shots of a job of one camera at one setting."""

    name: str
    shot_ids: list[int]
    luma_cv: float


@router.get("/jobs/{job_id}/noise-groups", response=list[NoiseGroupOut])
def list_noise_groups(request: HttpRequest, job_id: int) -> list[NoiseGroupOut]:
    """The measured shots of a job by their noise."""
    return [
        NoiseGroupOut(
            name=str(k + 1), shot_ids=group.shots, luma_cv=group.noise.curve.typical_cv("luma"),
        )
        for k, group in enumerate(noise_groups(Job.objects.get(pk=job_id)))
    ]  # fmt: skip


class ShotsIn(Schema):
    """Shots of a job: all of it where none are named."""

    shot_ids: list[int] | None = None


class VersionsIn(Schema):
    version_ids: list[int]


def chosen_of(job_id: int, shot_ids: list[int] | None) -> QuerySet[Shot]:
    """The shots of a job that are named, whole; all of them where none are."""
    shots = shots_of(job_id).defer(None)
    return shots if shot_ids is None else shots.filter(pk__in=shot_ids)


@router.post("/jobs/{job_id}/measure", response=list[ShotOut])
def measure_shots(request: HttpRequest, job_id: int, payload: ShotsIn) -> list[ShotOut]:
    """Measure shots of a job, those anew that are or were."""
    for shot in chosen_of(job_id, payload.shot_ids):
        request_survey(shot)
    return _told_shots(shots_of(job_id))


@router.post("/jobs/{job_id}/stop-measuring", response=list[ShotOut])
def stop_measuring(request: HttpRequest, job_id: int, payload: ShotsIn) -> list[ShotOut]:
    """Stop what is being measured of shots of a job."""
    for survey in Survey.objects.active().filter(shot__in=chosen_of(job_id, payload.shot_ids)):
        cancel(survey)
    return _told_shots(shots_of(job_id))


@router.post("/jobs/{job_id}/take-back", response=list[ShotOut])
def take_back(request: HttpRequest, job_id: int, payload: VersionsIn) -> list[ShotOut]:
    """Undo what was done to many shots: remove versions."""
    PlanVersion.objects.filter(shot__job=job_id, pk__in=payload.version_ids).delete()
    return _told_shots(shots_of(job_id))


@router.delete("/jobs/{job_id}", response={204: None})
def delete_job(request: HttpRequest, job_id: int) -> tuple[int, None]:
    job = Job.objects.get(pk=job_id)
    for shot in job.shots.all():
        delete_shot(shot)
    job.delete()
    return 204, None


Most = Annotated[int, Field(ge=1, le=10**6)]


@router.get("/jobs/{job_id}/shots", response=list[ShotOut])
def list_shots(request: HttpRequest, job_id: int, most: Most | None = None) -> list[ShotOut]:
    """The shots of a job in the order of the reel, `most` of them at most."""
    return _told_shots(shots_of(job_id)[:most])
