"""The test strip: what seven values of one setting leave and lose."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router

from ...engine.frames import Region, never
from ...engine.judge.strip import Strip, strip_at
from ..models import PlanVersion
from ..views import pipeline_for
from .schemas import StripIn

router = Router(tags=["strips"])


@router.post("/versions/{version_id}/strip", response=Strip)
def make_strip(request: HttpRequest, version_id: int, payload: StripIn) -> Strip:
    """Judge a region of frame `n` with one setting of a step at seven values."""
    version = PlanVersion.objects.select_related("shot").get(pk=version_id)
    pipeline = pipeline_for(version.shot, version.plan, never)
    info = pipeline.footage.info
    region = Region(payload.x, payload.y, payload.width, payload.height).clipped(info.width, info.height)
    return strip_at(pipeline.footage, version.plan, payload.step, payload.setting, payload.n, region)
