"""The judge: what a version has damaged, in numbers and as maps."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from ...engine.delivery import LARGEST_JUDGED
from ...engine.errors import BadInput
from ...engine.frames import Region
from ...engine.judge.overwork import Overwork
from ..models import PlanVersion
from ..views import judged, judged_map
from .frames import FOR_EVER, unless_gone

router = Router(tags=["overwork"])


class PartIn(Schema):
    """A part of a frame, in the source's pixels."""

    x: int
    y: int
    width: int = Field(gt=0, le=LARGEST_JUDGED[0])
    height: int = Field(gt=0, le=LARGEST_JUDGED[1])


class OverworkIn(Schema):
    """Which frames to judge, and which part of them: the middle where nothing is named, as of a delivery."""

    frames: list[int] | None = Field(None, min_length=1, max_length=9)
    part: PartIn | None = None


class OverworkOut(Schema):
    """The report; `key` with the kind of a measure names its map."""

    report: Overwork
    key: str


@router.post("/versions/{version_id}/overwork", response=OverworkOut)
async def judge_version(request: HttpRequest, version_id: int, payload: OverworkIn) -> OverworkOut:
    version = await PlanVersion.objects.select_related("shot").aget(pk=version_id)
    info, part = version.shot.info, payload.part
    whole = Region(0, 0, info.width, info.height)
    region = Region(part.x, part.y, part.width, part.height) if part else whole.middle(*LARGEST_JUDGED)
    frames = sorted(set(payload.frames or [info.frames // 2]))
    key, report = await unless_gone(lambda stopped: judged(version.shot, version.plan, frames, region, stopped))
    return OverworkOut(report=report, key=key)


@router.get("/overwork/{key}/{kind}")
def get_map(request: HttpRequest, key: str, kind: str) -> HttpResponse:
    """Where a measure finds damage, as grey PNG: white is twice the limit."""
    data = judged_map(key, kind)
    if data is None:
        raise BadInput("The map is not kept any more; judge again.")
    response = HttpResponse(data, content_type="image/png")
    response["Cache-Control"] = FOR_EVER
    return response
