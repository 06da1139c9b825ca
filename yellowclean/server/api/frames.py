"""Pictures. A request that the browser gives up ends the work behind it."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable
from typing import NamedTuple, TypeVar

from asgiref.sync import sync_to_async
from django.http import HttpRequest, HttpResponse
from ninja import Field, Query, Router, Schema
from ninja.errors import HttpError

from ...engine.colour.look import Look
from ...engine.frames import CV_SCALE, Frame, Region, StopCheck, never
from ...engine.judge.closer import Signal
from ...engine.plan import Plan
from ..lanes import IN_VIEW, Lanes
from ..models import PlanVersion, Shot, Still
from ..views import Asked, View, content_of, kept_picture, picture, picture_key, pipeline_for

router = Router(tags=["frames"])

T = TypeVar("T")

_lanes = Lanes(2)
"""Two at a time: kernels spread over the cores by themselves, and a second waits for data meanwhile."""

_URGENCY = re.compile(r"(?:^|,)\s*u=([0-7])\b")

LEAST_DRAFT, MOST_DRAFT = 0.25, 0.5
"""Shares of its size to which a coarse picture is reduced: two alone, since its noise has to be found once for
each."""

FOR_EVER = "private, max-age=31536000, immutable"


REGION = r"^(-?\d{1,6},-?\d{1,6},\d{1,6},\d{1,6})?$"


class PlaceQuery(Schema):
    """A place on a frame of a shot: of its source, of a version's result, or of a still."""

    n: int
    version_id: int | None = None
    still_id: int | None = None
    region: str = Field(
        "", pattern=REGION, description="x,y,width,height in source pixels; all of the frame when empty."
    )
    look: bool = Field(False, description="Whether it is shown under the look.")
    key: str = Field("", description="Names the content, so that a browser may keep the answer for ever.")

    @property
    def part(self) -> Region | None:
        return Region(*(int(v) for v in self.region.split(","))) if self.region else None


class FrameQuery(PlaceQuery):
    """What to show of a frame, and how."""

    view: View = "source"
    scale: float = Field(1.0, gt=0, le=16, allow_inf_nan=False)
    step: int = Field(0, description="Whose matte the view 'reach' shows, whose view 'own', whose setting changes.")
    own: str = Field("", description="Name of the view that the step offers of its own work.")
    setting: str = Field("", description="Name of a setting of the step that is shown at `value` instead.")
    value: float = Field(0.0, allow_inf_nan=False)
    draft: bool = Field(False, description="A coarse one: reduced, without the steps that look at other frames.")
    signal: Signal = "all"
    stress: float = Field(0.0, ge=0, le=100, description="How far contrast is raised, in percent.")
    gain: float = Field(8.0, ge=1, le=64, description="Times that what was removed is amplified.")


class Subject(NamedTuple):
    """What a picture is made of."""

    shot: Shot
    plan: Plan
    look: Look


@router.get("/shots/{shot_id}/frame")
async def get_frame(request: HttpRequest, shot_id: int, query: Query[FrameQuery]) -> HttpResponse:
    """One view of a frame as PNG."""
    shot, plan, look = await looked_up(shot_id, query)
    check_key(query, shot, "" if query.view == "source" else content_of(plan, query.view, query.step), look)
    if query.setting:
        plan = plan.with_setting(query.step, query.setting, query.value)
    if query.draft:
        plan = plan.draft(LEAST_DRAFT if query.scale <= LEAST_DRAFT else MOST_DRAFT)
    asked = Asked(
        query.n, query.view, query.part, max(query.scale, 0.02), query.step, look, query.signal, query.stress,
        query.gain, query.own,
    )  # fmt: skip
    shown = await sync_to_async(kept_picture)(shot, plan, asked)
    if shown is None:
        shown = await unless_gone(lambda stopped: picture(shot, plan, asked, stopped), _urgency(request))
    response = answered(shown.png, query)
    response["Picture-Area"] = ",".join(f"{value:.6g}" for value in shown.area)
    return response


class Pixel(Schema):
    """One pixel of the source in 10-bit code values, R', G' and B', and the mean of what the result has in its
    place, where a version was asked for and its result was made there already: reading makes nothing."""

    source: list[float]
    result: list[float] | None


@router.get("/shots/{shot_id}/pixel", response=Pixel)
def get_pixel(request: HttpRequest, shot_id: int, n: int, x: int, y: int, version_id: int | None = None) -> Pixel:
    shot = Shot.objects.get(pk=shot_id)
    plan = PlanVersion.objects.get(pk=version_id, shot=shot).plan if version_id else Plan()
    pipeline, place = pipeline_for(shot, plan, never), Region(x, y, 1, 1)
    source, known = pipeline.source_frame(n, place), pipeline.known(n, place) if version_id else None
    return Pixel(source=_in_cv(source), result=None if known is None else _in_cv(known))


def _in_cv(piece: Frame) -> list[float]:
    mean: list[float] = (piece.mean(axis=(0, 1)) * CV_SCALE).tolist()
    return mean


def _urgency(request: HttpRequest) -> int:
    """What a request says of its urgency (RFC 9218, section 4.1): pictures in view go before pictures ahead."""
    told = _URGENCY.search(request.headers.get("Priority", ""))
    return int(told[1]) if told else IN_VIEW


async def unless_gone(work: Callable[[StopCheck], T], urgency: int = IN_VIEW) -> T:
    """Do work in a thread; when the request is given up, the work's stop check says so."""
    task = _lanes.submit(work, urgency)
    try:
        found: T = await asyncio.wrap_future(task.future)
        return found
    except asyncio.CancelledError:
        task.gone.set()
        raise


def answered(png: bytes, query: PlaceQuery) -> HttpResponse:
    response = HttpResponse(png, content_type="image/png")
    response["Cache-Control"] = FOR_EVER if query.key else "no-store"
    return response


def check_key(query: PlaceQuery, shot: Shot, content: str, look: Look) -> None:
    """Refuse a picture whose plan or look has changed since it was asked for: kept under that key, it would come
    back where another belongs. The page asks again by itself."""
    if query.key and query.key != f"{picture_key(shot)}{content}{look.digest()}":
        raise HttpError(409, "The picture has changed meanwhile; reload the page.")


@sync_to_async
def looked_up(shot_id: int, query: PlaceQuery) -> Subject:
    shot = Shot.objects.get(pk=shot_id)
    if query.still_id is not None:
        still = Still.objects.get(pk=query.still_id, shot=shot)
        return Subject(shot, still.plan, still.shown_under if query.look else Look())
    look = shot.shown_under if query.look else Look()
    if query.version_id is None:
        return Subject(shot, Plan(), look)
    return Subject(shot, PlanVersion.objects.get(pk=query.version_id, shot=shot).plan, look)
