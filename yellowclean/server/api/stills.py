"""Stills: kept frames of a version, to compare against."""

from __future__ import annotations

from datetime import datetime

from django.http import HttpRequest
from ninja import Field, Router, Schema

from ...engine.bounded import Label, Name
from ...engine.colour.look import Look
from ...engine.plan import Plan
from ..models import PlanVersion, Shot, Still
from ..use_cases import allowed_look, unbaked
from .schemas import FormatOfResult

router = Router(tags=["stills"])


class StillIn(Schema):
    """The frame to keep: of a version as it is now, or of a plan and look of one's own (a still that comes back);
    of the source where neither is named."""

    n: int = Field(ge=0)
    version_id: int | None = None
    name: Name = ""
    label: Label = ""
    plan: Plan | None = None
    look: Look | None = None


class StillOut(Schema):
    """A still; `key` names its picture for caches, `look_key` the look it was kept under."""

    id: int
    shot_id: int
    shot_name: str
    name: str
    n: int
    label: str
    plan: Plan
    look: Look
    key: str
    look_key: str
    format: FormatOfResult
    created: datetime


class StillName(Schema):
    name: str = Field(min_length=1, max_length=100)


def told_still(still: Still) -> StillOut:
    plan = still.plan
    return StillOut(
        id=still.pk,
        shot_id=still.shot_id,
        shot_name=still.shot.name,
        name=still.name,
        n=still.n,
        label=still.label,
        plan=plan,
        look=still.shown_under,
        key=plan.digest(),
        look_key=still.shown_under.digest(),
        format=FormatOfResult.of(still.shot.info, plan),
        created=still.created,
    )


@router.get("/jobs/{job_id}/stills", response=list[StillOut])
def list_stills(request: HttpRequest, job_id: int) -> list[StillOut]:
    return [told_still(s) for s in Still.objects.filter(shot__job=job_id).select_related("shot")]


@router.post("/shots/{shot_id}/stills", response=StillOut)
def keep_still(request: HttpRequest, shot_id: int, payload: StillIn) -> StillOut:
    shot = Shot.objects.get(pk=shot_id)
    version = PlanVersion.objects.get(pk=payload.version_id, shot=shot) if payload.version_id else None
    plan, label = (version.plan, version.label) if version else (payload.plan or Plan(), payload.label)
    look = allowed_look(payload.look) if payload.look else shot.shown_under
    still = Still.objects.create(
        shot=shot,
        name=payload.name or f"{label or 'Source'}, frame {payload.n}",
        n=min(payload.n, shot.media["frames"] - 1),
        label=label,
        document=unbaked(plan).model_dump(mode="json", by_alias=True),
        look=look.model_dump(mode="json"),
    )
    return told_still(still)


@router.patch("/stills/{still_id}", response=StillOut)
def rename_still(request: HttpRequest, still_id: int, payload: StillName) -> StillOut:
    still = Still.objects.select_related("shot").get(pk=still_id)
    still.name = payload.name
    still.save(update_fields=["name"])
    return told_still(still)


@router.delete("/stills/{still_id}", response={204: None})
def delete_still(request: HttpRequest, still_id: int) -> tuple[int, None]:
    Still.objects.get(pk=still_id).delete()
    return 204, None
