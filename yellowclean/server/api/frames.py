"""Pictures. A request that the browser gives up ends the work behind it."""

from __future__ import annotations

import asyncio
import threading
from concurrent.futures import ThreadPoolExecutor

from asgiref.sync import sync_to_async
from django.http import HttpRequest, HttpResponse
from ninja import Field, Query, Router, Schema

from ...engine.frames import CV_SCALE, Region, never
from ...engine.judge.looks import Signal
from ...engine.plan import Plan
from ..models import PlanVersion, Shot
from ..views import Asked, View, picture, pipeline_for

router = Router(tags=["frames"])

_workers = ThreadPoolExecutor(2, thread_name_prefix="picture")
"""Two at a time: kernels spread over the cores by themselves, and a second waits for data meanwhile."""

FOR_EVER = "private, max-age=31536000, immutable"


class FrameQuery(Schema):
    """What to show of a frame, and how."""

    n: int
    view: View = "source"
    version_id: int | None = None
    region: str = Field("", description="x,y,width,height in source pixels; all of the frame when empty.")
    scale: float = 1.0
    step: int = Field(0, description="Whose matte the view 'reach' shows, and whose setting is changed.")
    setting: str = Field("", description="Name of a setting of the step that is shown at `value` instead.")
    value: float = 0.0
    draft: bool = Field(False, description="The coarse picture, without the steps that look at other frames.")
    signal: Signal = "all"
    stress: float = Field(0.0, ge=0, le=100, description="How far contrast is raised, in percent.")
    gain: float = Field(8.0, ge=1, le=64, description="Times that what was removed is amplified.")
    key: str = Field("", description="Names the content, so that a browser may keep the picture for ever.")

    @property
    def asked(self) -> Asked:
        part = Region(*(int(v) for v in self.region.split(","))) if self.region.count(",") == 3 else None
        scale = min(max(self.scale, 0.02), 1.0)
        return Asked(self.n, self.view, part, scale, self.step, self.signal, self.stress, self.gain)


@router.get("/shots/{shot_id}/frame")
async def get_frame(request: HttpRequest, shot_id: int, query: Query[FrameQuery]) -> HttpResponse:
    """One view of a frame as PNG."""
    gone = threading.Event()
    shot, plan = await _looked_up(shot_id, query.version_id if query.view != "source" else None)
    if query.setting:
        plan = plan.with_setting(query.step, query.setting, query.value)
    if query.draft:
        plan = plan.draft()
    asked = query.asked
    work = asyncio.get_running_loop().run_in_executor(_workers, lambda: picture(shot, plan, asked, gone.is_set))
    try:
        data = await work
    except asyncio.CancelledError:
        gone.set()
        raise
    response = HttpResponse(data, content_type="image/png")
    response["Cache-Control"] = FOR_EVER if query.key else "no-store"
    return response


class Pixel(Schema):
    """One pixel in 10-bit code values, R', G' and B'; `result` only where a version was asked for."""

    source: list[float]
    result: list[float] | None


@router.get("/shots/{shot_id}/pixel", response=Pixel)
def get_pixel(request: HttpRequest, shot_id: int, n: int, x: int, y: int, version_id: int | None = None) -> Pixel:
    shot = Shot.objects.get(pk=shot_id)
    plan = PlanVersion.objects.get(pk=version_id, shot=shot).plan if version_id else Plan()
    pipeline, place = pipeline_for(shot, plan, never), Region(x, y, 1, 1)
    source = (pipeline.source_frame(n, place)[0, 0] * CV_SCALE).tolist()
    return Pixel(source=source, result=(pipeline.frame(n, place)[0, 0] * CV_SCALE).tolist() if version_id else None)


@sync_to_async
def _looked_up(shot_id: int, version_id: int | None) -> tuple[Shot, Plan]:
    shot = Shot.objects.get(pk=shot_id)
    if version_id is None:
        return shot, Plan()
    return shot, PlanVersion.objects.get(pk=version_id, shot=shot).plan
