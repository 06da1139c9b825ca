"""The reel: timelines in and out, renders of many shots, delivery notes."""

from __future__ import annotations

from typing import Literal

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import Field, Query, Router, Schema

from ...engine.errors import BadInput
from ...engine.media import OUTPUT_FORMATS
from ...engine.media.timecode import exact
from ...engine.reel.naming import FIELDS
from ...engine.reel.note import second_generation
from ...engine.reel.paper import as_html, as_pdf
from ..archive import packed_job, point_shot_to, unpacked_job
from ..derived import cut_into_scenes, fields_as_frames, stand_in, take_back
from ..models import Job, Render, Shot, Timeline
from ..reels import (
    HANDLES,
    add_timeline,
    delivery_zip,
    look_in,
    note_for,
    point_to,
    render_many,
    says,
    take_events,
    timeline_out,
)
from ..rendering import Experience
from .jobs import ShotsIn, chosen_of, told_shot
from .renders import told_render
from .schemas import Added, FormatOut, RenderOut, ShotOut

router = Router(tags=["reels"])


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


class RendersOut(Schema):
    """What was queued, one line for each shot that could not be, and one for each that was treated before."""

    renders: list[RenderOut]
    refused: list[str]
    told: list[str]


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


class TimelineFiles(Schema):
    """A timeline's documents by the names of their files, and one line for each thing to know of them."""

    files: dict[str, str]
    told: list[str]


@router.get("/timelines/{timeline_id}/out", response=TimelineFiles)
def write_timeline(request: HttpRequest, timeline_id: int, format: str) -> TimelineFiles:
    """The timeline as .otio and .edl, relinked to what was written in a format."""
    timeline = Timeline.objects.get(pk=timeline_id)
    files, told = timeline_out(timeline, format)
    if not files:
        raise BadInput(f"{timeline.name}: nothing of it is written as {format}; render it first.")
    return TimelineFiles(files=files, told=told)


@router.get("/jobs/{job_id}/delivery")
def get_delivery(request: HttpRequest, job_id: int) -> HttpResponse:
    """Notes and timelines of what is written, as one ZIP."""
    job = Job.objects.get(pk=job_id)
    return _download(f"{job.name}, delivery.zip", delivery_zip(job), "application/zip")


@router.post("/jobs/{job_id}/render", response=RendersOut)
def render_job(request: HttpRequest, job_id: int, payload: ShotsIn) -> RendersOut:
    """Queue the newest version of many shots, as the job wants them written."""
    shots = list(chosen_of(job_id, payload.shot_ids))
    renders, refused = render_many(Job.objects.get(pk=job_id), shots)
    known, queued = Experience(), {render.shot_id for render in renders}
    told = [
        f"{shot.name}: will be {second_generation(shot.generation)}; its source was written by a plan."
        for shot in shots
        if shot.generation and shot.pk in queued
    ]
    return RendersOut(renders=[told_render(r, known) for r in renders], refused=refused, told=told)


class NoteQuery(Schema):
    """In what form a note is asked for, and of which shots: all of the job where none are named."""

    kind: Literal["html", "pdf", "json"] = "html"
    shot_id: list[int] | None = None


@router.get("/jobs/{job_id}/note")
def get_note(request: HttpRequest, job_id: int, query: Query[NoteQuery]) -> HttpResponse:
    """The delivery note: a page to be printed, a PDF, or a document."""
    job = Job.objects.get(pk=job_id)
    note = note_for(job, chosen_of(job_id, query.shot_id).prefetch_related(None).select_related("timeline"))
    if query.kind == "html":
        return HttpResponse(as_html(note))
    if query.kind == "pdf":
        return _download(f"{job.name}, delivery note.pdf", as_pdf(note), "application/pdf")
    return HttpResponse(note.model_dump_json(by_alias=True, indent=1), content_type="application/json")


class CutsIn(Schema):
    """Frames of a shot with which another picture begins."""

    cuts: list[int] = Field(max_length=10_000)


@router.post("/shots/{shot_id}/scenes", response=Added)
def cut_shot(request: HttpRequest, shot_id: int, payload: CutsIn) -> Added:
    """A shot for each scene, in the place of the whole."""
    made = cut_into_scenes(Shot.objects.select_related("job").get(pk=shot_id), payload.cuts)
    return Added(shots=[told_shot(shot) for shot in made], refused=[])


class FieldsIn(Schema):
    """The lines that were seen first in each frame of a shot."""

    first: Literal["measured", "top", "bottom"] = "measured"


@router.post("/shots/{shot_id}/fields", response=ShotOut)
def make_fields_frames(request: HttpRequest, shot_id: int, payload: FieldsIn) -> ShotOut:
    """An interlaced shot with each field as a frame, twice as many at twice the rate, in its place."""
    return told_shot(
        fields_as_frames(Shot.objects.select_related("job", "timeline").get(pk=shot_id), payload.first)
    )


@router.post("/renders/{render_id}/stand-in", response=ShotOut)
def let_stand_in(request: HttpRequest, render_id: int) -> ShotOut:
    """Have what was written stand in for its source: further work reads it."""
    return told_shot(stand_in(Render.objects.select_related("shot__job", "shot__timeline").get(pk=render_id)))


@router.post("/shots/{shot_id}/take-back", response=ShotOut)
def take_shot_back(request: HttpRequest, shot_id: int, sure: bool = False) -> ShotOut:
    """Remove what was made of a shot, all of it, and list the shot again; `sure` where plans are lost with it."""
    return told_shot(take_back(Shot.objects.select_related("job", "origin__job").get(pk=shot_id), sure=sure))


class DeliveryChoices(Schema):
    """What there is to choose from for results: formats, fields of their names in braces, and folders."""

    formats: list[FormatOut]
    fields: dict[str, str]
    folders: list[str]


@router.get("/delivery-choices", response=DeliveryChoices)
def list_choices(request: HttpRequest) -> DeliveryChoices:
    formats = [
        FormatOut(name=f.name, title=f.title, ending=f.ending, bits=f.bits, lost=[])
        for f in OUTPUT_FORMATS.values()
    ]
    folders = [str(folder) for folder in settings.YELLOW_CLEAN.delivery_folders]
    return DeliveryChoices(formats=formats, fields=FIELDS, folders=folders)


def _download(name: str, data: bytes, kind: str) -> HttpResponse:
    response = HttpResponse(data, content_type=kind)
    response["Content-Disposition"] = content_disposition_header(True, name) or ""
    return response


class Unpacked(Schema):
    """A job that was unpacked, and one line for each shot whose media are missing."""

    job_id: int
    missing: list[str]


@router.get("/jobs/{job_id}/packed")
def pack_job(request: HttpRequest, job_id: int) -> HttpResponse:
    """The job without its media, as one ZIP that can be unpacked elsewhere, or worked on by the command line."""
    job = Job.objects.get(pk=job_id)
    return _download(f"{job.name}.zip", packed_job(job), "application/zip")


@router.post("/packed-jobs", response=Unpacked)
def unpack_job(request: HttpRequest, name: str = "") -> Unpacked:
    """A job from its ZIP, the request's body."""
    job, missing = unpacked_job(request.body)
    return Unpacked(job_id=job.pk, missing=missing)


@router.post("/shots/{shot_id}/media", response=ShotOut)
def move_shot(request: HttpRequest, shot_id: int, payload: FolderIn) -> ShotOut:
    """Say where a shot's footage lies now."""
    shot = Shot.objects.select_related("job").get(pk=shot_id)
    point_shot_to(shot, payload.path)
    return told_shot(shot)
