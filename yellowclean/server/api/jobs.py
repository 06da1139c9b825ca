"""Jobs and their contact sheets."""

from __future__ import annotations

from django.db.models import Count, QuerySet
from django.http import HttpRequest
from ninja import Router, Schema

from ...engine.errors import BadInput
from ...engine.measure.findings import Finding
from ...engine.measure.survey import FindingKind, finding_kinds
from ..models import Job, Profile, Shot, Work
from ..use_cases import delete_shot, propose_for, set_tolerances
from .schemas import FindingOut, JobChange, JobIn, JobOut, ShotOut, WorkOut

router = Router(tags=["jobs"])


class ProposeMany(Schema):
    """By what to propose, and for which shots: all measured ones where none are named."""

    profile_id: int | None = None
    matching: bool = False
    shot_ids: list[int] | None = None


def _told(job: Job, shots: int) -> JobOut:
    return JobOut(id=job.pk, name=job.name, created=job.created, shots=shots, tolerances=job.tolerances)


def told_work(work: Work | None) -> WorkOut | None:
    return WorkOut.from_orm(work) if work else None


def _told_finding(finding: Finding, left: float | None) -> FindingOut:
    now = finding.value if left is None else left
    outside = finding.model_copy(update={"value": now}).outside
    return FindingOut(**finding.model_dump(), remaining=left, outside=outside)


def told_shot(shot: Shot) -> ShotOut:
    """A shot as the contact sheet shows it."""
    report = shot.report
    versions = list(shot.versions.all())
    left = (versions[-1].remaining or {}).get("values", {}) if versions else {}
    findings = [_told_finding(f, left.get(f.kind)) for f in report.findings] if report else None
    return ShotOut(
        id=shot.pk,
        job_id=shot.job_id,
        name=shot.name,
        fingerprint=shot.fingerprint,
        media=shot.media,
        findings=findings,
        source=report.source if report else None,
        survey=told_work(next(iter(shot.surveys.all()), None)),  # type: ignore[attr-defined]
        render=told_work(next(iter(shot.renders.all()), None)),  # type: ignore[attr-defined]
        versions=[v.label for v in versions],
    )


def _shots_of(job_id: int) -> QuerySet[Shot]:
    """The shots of a job with all that `told_shot` needs."""
    shots = Job.objects.get(pk=job_id).shots.select_related("job")
    return shots.prefetch_related("surveys", "renders", "versions")


@router.get("/jobs", response=list[JobOut])
def list_jobs(request: HttpRequest) -> list[JobOut]:
    return [_told(job, job.count) for job in Job.objects.annotate(count=Count("shots"))]


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
    return _told(job, job.shots.count())


@router.get("/findings", response=list[FindingKind])
def list_findings(request: HttpRequest) -> list[FindingKind]:
    """What can be found, in working order, with default tolerances."""
    return finding_kinds()


@router.post("/jobs/{job_id}/propose", response=list[ShotOut])
def propose_for_job(request: HttpRequest, job_id: int, payload: ProposeMany) -> list[ShotOut]:
    """A new version for every measured shot of the job, or for those named."""
    shots = (
        Job.objects.get(pk=job_id).shots.select_related("job").prefetch_related("surveys", "renders", "versions")
    )
    chosen = shots if payload.shot_ids is None else shots.filter(pk__in=payload.shot_ids)
    profile = Profile.objects.get(pk=payload.profile_id) if payload.profile_id else None
    propose_for(chosen, profile, matching=payload.matching)
    return [told_shot(shot) for shot in shots.all()]


@router.delete("/jobs/{job_id}", response={204: None})
def delete_job(request: HttpRequest, job_id: int) -> tuple[int, None]:
    job = Job.objects.get(pk=job_id)
    for shot in job.shots.all():
        delete_shot(shot)
    job.delete()
    return 204, None


@router.get("/jobs/{job_id}/shots", response=list[ShotOut])
def list_shots(request: HttpRequest, job_id: int) -> list[ShotOut]:
    shots = (
        Job.objects.get(pk=job_id).shots.select_related("job").prefetch_related("surveys", "renders", "versions")
    )
    return [told_shot(shot) for shot in shots]
