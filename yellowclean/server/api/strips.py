"""What a step does at seven values of one setting, and over time."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router

from ...engine.frames import Region, StopCheck
from ...engine.judge.strip import Strip, strip_at
from ...engine.treat import Course, Mark
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


MOST_FRAMES = 240
"""Frames around the one asked for of which a course is drawn: each has to be decoded."""


@router.get("/versions/{version_id}/steps/{step}/course", response=Course)
async def show_course(request: HttpRequest, version_id: int, step: int, n: int = 0) -> Course:
    """What a step changes over time, in the frames around `n`."""
    version = await PlanVersion.objects.select_related("shot").aget(pk=version_id)

    def drawn(stopped: StopCheck) -> Course:
        pipeline = pipeline_for(version.shot, version.plan, stopped)
        count = pipeline.footage.info.frames
        first = min(max(n - MOST_FRAMES // 2, 0), max(count - MOST_FRAMES, 0))
        return pipeline.course(step, range(first, min(first + MOST_FRAMES, count)))

    return await unless_gone(drawn)


@router.get("/versions/{version_id}/steps/{step}/marks", response=list[Mark])
async def list_marks(request: HttpRequest, version_id: int, step: int, n: int = 0) -> list[Mark]:
    """What a step found in frame `n`, thing by thing."""
    version = await PlanVersion.objects.select_related("shot").aget(pk=version_id)
    return await unless_gone(lambda stopped: pipeline_for(version.shot, version.plan, stopped).marks(step, n))
