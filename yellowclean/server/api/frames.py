"""Pictures. A request that the browser gives up ends the work behind it."""

from __future__ import annotations

import asyncio
import threading
from concurrent.futures import ThreadPoolExecutor

from asgiref.sync import sync_to_async
from django.http import HttpRequest, HttpResponse
from ninja import Router

from ...engine.frames import Region
from ...engine.plan import Plan
from ..models import PlanVersion, Shot
from ..views import Asked, View, picture

router = Router(tags=["frames"])

_workers = ThreadPoolExecutor(2, thread_name_prefix="picture")
"""Two at a time: kernels spread over the cores by themselves, and a second waits for data meanwhile."""

FOR_EVER = "private, max-age=31536000, immutable"


@router.get("/shots/{shot_id}/frame")
async def get_frame(
    request: HttpRequest,
    shot_id: int,
    n: int,
    view: View = "source",
    version_id: int | None = None,
    region: str = "",
    scale: float = 1.0,
    step: int = 0,
    draft: bool = False,
    key: str = "",
) -> HttpResponse:
    """One view of frame `n` as PNG. `region` is x,y,width,height in source pixels, `step` the one whose matte
    is shown by "reach", `draft` asks for the coarse picture; `key` only names the content, so that a browser
    may keep the picture for ever."""
    gone = threading.Event()
    shot, plan = await _looked_up(shot_id, version_id if view != "source" else None)
    plan = plan.draft() if draft else plan
    part = Region(*(int(v) for v in region.split(","))) if region.count(",") == 3 else None
    asked = Asked(n, view, part, min(max(scale, 0.02), 1.0), step)
    work = asyncio.get_running_loop().run_in_executor(_workers, lambda: picture(shot, plan, asked, gone.is_set))
    try:
        data = await work
    except asyncio.CancelledError:
        gone.set()
        raise
    response = HttpResponse(data, content_type="image/png")
    response["Cache-Control"] = FOR_EVER if key else "no-store"
    return response


@sync_to_async
def _looked_up(shot_id: int, version_id: int | None) -> tuple[Shot, Plan]:
    shot = Shot.objects.get(pk=shot_id)
    if version_id is None:
        return shot, Plan()
    return shot, PlanVersion.objects.get(pk=version_id, shot=shot).plan
