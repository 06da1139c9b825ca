"""The test strip: what seven values of one setting leave and lose."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router

from ...engine.frames import Region, StopCheck
from ...engine.judge.strip import Strip, strip_at
from ..models import PlanVersion
from ..views import pipeline_for
from .frames import unless_gone
from .schemas import StripIn

router = Router(tags=["strips"])


@router.post("/versions/{version_id}/strip", response=Strip)
async def make_strip(request: HttpRequest, version_id: int, payload: StripIn) -> Strip:
    """Judge a region of frame `n` with one setting of a step at seven values."""
    version = await PlanVersion.objects.select_related("shot").aget(pk=version_id)

    def tried(stopped: StopCheck) -> Strip:
        footage = pipeline_for(version.shot, version.plan, stopped).footage
        region = Region(payload.x, payload.y, payload.width, payload.height)
        inside = region.clipped(footage.info.width, footage.info.height)
        return strip_at(footage, version.plan, payload.step, payload.setting, payload.n, inside, stopped=stopped)

    return await unless_gone(tried)
