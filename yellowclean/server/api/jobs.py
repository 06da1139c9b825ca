"""Jobs and their contact sheets."""

from __future__ import annotations

from django.db.models import Count
from django.http import HttpRequest
from ninja import Router

from ...engine.errors import BadInput
from ...engine.measure.findings import Finding
from ..models import Job, Shot, Work
from ..use_cases import delete_shot
from .schemas import FindingOut, JobIn, JobOut, ShotOut, WorkOut

router = Router(tags=["jobs"])


def _told(job: Job, shots: int) -> JobOut:
    return JobOut(id=job.pk, name=job.name, created=job.created, shots=shots)


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
        survey=told_work(next(iter(shot.surveys.all()), None)),  # type: ignore[attr-defined]
        render=told_work(next(iter(shot.renders.all()), None)),  # type: ignore[attr-defined]
        versions=[v.label for v in versions],
    )


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
def rename_job(request: HttpRequest, job_id: int, payload: JobIn) -> JobOut:
    job = Job.objects.get(pk=job_id)
    job.name = payload.name.strip()[:200] or job.name
    job.save(update_fields=["name"])
    return _told(job, job.shots.count())


@router.delete("/jobs/{job_id}", response={204: None})
def delete_job(request: HttpRequest, job_id: int) -> tuple[int, None]:
    job = Job.objects.get(pk=job_id)
    for shot in job.shots.all():
        delete_shot(shot)
    job.delete()
    return 204, None


@router.get("/jobs/{job_id}/shots", response=list[ShotOut])
def list_shots(request: HttpRequest, job_id: int) -> list[ShotOut]:
    shots = Job.objects.get(pk=job_id).shots.prefetch_related("surveys", "renders", "versions")
    return [told_shot(shot) for shot in shots]
