"""The reel: timelines in and out, renders of many shots, delivery notes."""

from __future__ import annotations

from typing import Literal

from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import Field, Query, Router, Schema

from ...engine.errors import BadInput
from ...engine.media.dither import How
from ...engine.reel.naming import FIELDS, TEMPLATE
from ...engine.reel.paper import as_html, as_pdf
from ...engine.reel.timeline import exact
from ..models import Job, Shot, Timeline
from ..reels import add_timeline, look_in, note_for, point_to, render_many, says, take_events, timeline_out
from .jobs import shots_of, told_shot
from .renders import told_render
from .schemas import Added, RenderOut

router = Router(tags=["reels"])

HANDLES = 12


class MediumOut(Schema):
    """A medium of a timeline: what it is called there, what plays it, and where it was found."""

    key: str
    name: str
    reel: str
    events: list[int]
    path: str
    how: str


class EventOut(Schema):
    """An event: its range in its medium's own counting, and what of its timing is not taken over."""

    number: int
    name: str
    track: str
    medium: str
    start: int
    frames: int
    record: int
    told: list[str]
    taken: bool


class TimelineOut(Schema):
    """A timeline with its events, and a line for each thing that is none."""

    id: int
    name: str
    rate: str
    events: list[EventOut]
    media: list[MediumOut]
    left_out: list[str]


class FolderIn(Schema):
    path: str


class MediumIn(Schema):
    """Which file a medium is."""

    key: str
    path: str


class TakeIn(Schema):
    handles: int = HANDLES


class RenderManyIn(Schema):
    """What to write of many shots: all of the job where none are named."""

    formats: list[str] = Field(min_length=1, max_length=12)
    shot_ids: list[int] | None = None
    cut: bool = Field(False, description="Events at cut length, without their handles.")
    template: str = TEMPLATE
    bake_look: bool = False
    dither: How = "moving"


class RendersOut(Schema):
    """What was queued, and one line for each shot that could not be."""

    renders: list[RenderOut]
    refused: list[str]


def told_timeline(timeline: Timeline) -> TimelineOut:
    told = says(timeline)
    found = {one.key: one for one in timeline.found}
    clips = {shot.placed.clip for shot in timeline.shots.all() if shot.placed}  # type: ignore[attr-defined]
    return TimelineOut(
        id=timeline.pk,
        name=timeline.name,
        rate=told.rate,
        events=[
            EventOut(
                number=e.number, name=e.name, track=e.track, medium=e.medium, start=e.start, frames=e.frames,
                record=e.record, told=e.told, taken=e.clip in clips,
            )
            for e in told.events
        ],
        media=[
            MediumOut(
                key=m.key, name=m.name, reel=m.reel, events=[e.number for e in told.events if e.medium == m.key],
                path=found[m.key].path if m.key in found else "", how=found[m.key].how if m.key in found else "",
            )
            for m in told.media
        ],
        left_out=told.left_out,
    )  # fmt: skip


@router.post("/jobs/{job_id}/timelines", response=TimelineOut)
def send_timeline(request: HttpRequest, job_id: int, name: str, rate: float | None = None) -> TimelineOut:
    """Keep a timeline, the request's body, with a job, and look for its media. `rate` is that of an .edl."""
    if rate is not None and not 1 <= rate <= 1000:
        raise BadInput(f"{rate} frames a second are out of range.")
    job = Job.objects.get(pk=job_id)
    return told_timeline(add_timeline(job, request.body, name, exact(rate) if rate else None))


@router.get("/jobs/{job_id}/timelines", response=list[TimelineOut])
def list_timelines(request: HttpRequest, job_id: int) -> list[TimelineOut]:
    return [told_timeline(timeline) for timeline in Timeline.objects.filter(job=job_id)]


@router.post("/timelines/{timeline_id}/look", response=TimelineOut)
def look_for_media(request: HttpRequest, timeline_id: int, payload: FolderIn) -> TimelineOut:
    """Look for what is missing in a folder."""
    timeline = Timeline.objects.get(pk=timeline_id)
    look_in(timeline, payload.path)
    return told_timeline(timeline)


@router.post("/timelines/{timeline_id}/media", response=TimelineOut)
def point_to_medium(request: HttpRequest, timeline_id: int, payload: MediumIn) -> TimelineOut:
    """Say which file a medium is."""
    timeline = Timeline.objects.get(pk=timeline_id)
    point_to(timeline, payload.key, payload.path)
    return told_timeline(timeline)


@router.post("/timelines/{timeline_id}/take", response=Added)
def take_timeline(request: HttpRequest, timeline_id: int, payload: TakeIn) -> Added:
    """Its events as shots of the job."""
    shots, refused = take_events(Timeline.objects.select_related("job").get(pk=timeline_id), payload.handles)
    return Added(shots=[told_shot(shot) for shot in shots], refused=refused)


@router.delete("/timelines/{timeline_id}", response={204: None})
def remove_timeline(request: HttpRequest, timeline_id: int) -> tuple[int, None]:
    """Forget a timeline; shots that came from it stay."""
    Timeline.objects.get(pk=timeline_id).delete()
    return 204, None


@router.get("/timelines/{timeline_id}/out")
def write_timeline(
    request: HttpRequest, timeline_id: int, format: str, kind: Literal["otio", "edl"] = "otio"
) -> HttpResponse:
    """The timeline, relinked to what was written in a format."""
    name, data = timeline_out(Timeline.objects.get(pk=timeline_id), format, kind)
    return _download(name, data, "application/octet-stream")


@router.post("/jobs/{job_id}/renders", response=RendersOut)
def render_job(request: HttpRequest, job_id: int, payload: RenderManyIn) -> RendersOut:
    """Queue the newest version of many shots, in several formats."""
    shots = shots_of(job_id)
    chosen = shots if payload.shot_ids is None else shots.filter(pk__in=payload.shot_ids)
    renders, refused = render_many(
        chosen.defer(None), list(dict.fromkeys(payload.formats)), cut=payload.cut, template=payload.template,
        bake_look=payload.bake_look, dither=payload.dither,
    )  # fmt: skip
    return RendersOut(renders=[told_render(render) for render in renders], refused=refused)


class NoteQuery(Schema):
    """In what form a note is asked for, and of which shots: all of the job where none are named."""

    kind: Literal["html", "pdf", "json"] = "html"
    shot_id: list[int] | None = None


@router.get("/jobs/{job_id}/note")
def get_note(request: HttpRequest, job_id: int, query: Query[NoteQuery]) -> HttpResponse:
    """The delivery note: a page to be printed, a PDF, or a document."""
    job = Job.objects.get(pk=job_id)
    shots = Shot.objects.filter(job=job).select_related("job", "timeline").prefetch_related("renders")
    note = note_for(job, shots if query.shot_id is None else shots.filter(pk__in=query.shot_id))
    if query.kind == "html":
        return HttpResponse(as_html(note))
    if query.kind == "pdf":
        return _download(f"{job.name}, delivery note.pdf", as_pdf(note), "application/pdf")
    return HttpResponse(note.model_dump_json(by_alias=True, indent=1), content_type="application/json")


@router.get("/render-names", response=dict[str, str])
def list_name_fields(request: HttpRequest) -> dict[str, str]:
    """What a template for the names of files may hold, in braces."""
    return FIELDS


def _download(name: str, data: bytes, kind: str) -> HttpResponse:
    response = HttpResponse(data, content_type=kind)
    response["Content-Disposition"] = content_disposition_header(True, name) or ""
    return response
