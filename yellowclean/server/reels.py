"""What users do with a whole reel: timelines in, many shots at once, notes and timelines out."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable
from contextlib import closing
from fractions import Fraction
from pathlib import Path

from django.conf import settings
from django.db import transaction

from ..engine.delivery import DeliveryReport
from ..engine.errors import BadInput, line_of
from ..engine.reel.finding import Found, described_footage, found_media
from ..engine.reel.note import Note, NoteShot, note_of, shot_of, unopened
from ..engine.reel.paper import as_html, as_pdf
from ..engine.reel.relink import Written
from ..engine.reel.taking import Placed, taken
from ..engine.reel.timeline import Timeline as Described
from ..engine.reel.timeline import described, from_json
from ..engine.reel.work import documents_of, load, written_for
from .models import Job, PlanVersion, Render, Shot, State, Timeline
from .rendering import Experience, request_render, wanted_of
from .use_cases import add_shot, allowed_folder, last_position, request_survey

HANDLES = 12
"""Frames around an event that are taken where nothing else is asked for."""


def add_timeline(job: Job, data: bytes, name: str, rate: Fraction | None = None) -> Timeline:
    """Keep a timeline with a job, its media looked for in the folders that footage may be imported from. Raises
    `BadInput` for a document that is none."""
    folders = _folders(job)
    document, told = load(data, Path(name).name, rate, folders)
    media = [found.model_dump() for found in found_media(told, folders)]
    return Timeline.objects.create(job=job, name=told.name[:255], document=document, media=media)


def _folders(job: Job) -> list[Path]:
    return [folder for folder in (*settings.YELLOW_CLEAN.media_folders, job.folder) if folder.is_dir()]


def says(timeline: Timeline) -> Described:
    """What a timeline's document says."""
    return described(from_json(timeline.document))


def look_in(timeline: Timeline, folder: str) -> None:
    """Look for the media that are still missing in an allowed folder. Raises `BadInput`."""
    where = allowed_folder(folder)
    if not where.is_dir():
        raise BadInput(f"{folder}: is not a folder.")
    fresh = {found.key: found for found in found_media(says(timeline), [where])}
    kept = [found if found.path else fresh.get(found.key, found) for found in timeline.found]
    _keep(timeline, kept)


def point_to(timeline: Timeline, key: str, path: str) -> None:
    """Say which file a medium is, whatever it is called. Raises `BadInput` where that is no footage."""
    where = allowed_folder(path)
    described_footage(where)
    if key not in {found.key for found in timeline.found}:
        raise BadInput(f"{key}: the timeline has no such medium; reload the page.")
    told = Found(key=key, path=str(where), how="pointed to by hand")
    _keep(timeline, [told if found.key == key else found for found in timeline.found])


def _keep(timeline: Timeline, media: Iterable[Found]) -> None:
    timeline.media = [found.model_dump() for found in media]
    timeline.save(update_fields=["media"])


def take_events(timeline: Timeline, handles: int, *, measured: bool | None = None) -> tuple[list[Shot], list[str]]:
    """Every event whose medium was found and that was not taken yet as a shot, with handles; a line for each that
    cannot be. They stand behind the shots that the job had before the timeline, and are `measured` at once where
    that is said, or else where the settings say so."""
    job, there = timeline.job, list(timeline.shots.all())  # type: ignore[attr-defined]
    clips = {shot.placed.clip for shot in there if shot.placed}
    before = min((shot.position - shot.placed.number for shot in there if shot.placed), default=last_position(job))
    names = set(job.shots.values_list("name", flat=True))
    events, refused = taken(says(timeline), timeline.found, handles, names)
    shots = []
    with transaction.atomic():  # a timeline is taken whole or not at all
        for event in events:
            if event.place.clip not in clips:
                shot = add_shot(job, event.path, event.name, event.frames)
                shot.timeline, shot.place = timeline, event.place.model_dump()
                shot.position = before + event.place.number
                shot.save(update_fields=["timeline", "place", "position"])
                shots.append(shot)
    if settings.YELLOW_CLEAN.measure_added if measured is None else measured:
        for shot in shots:
            request_survey(shot)
    return shots, refused


def render_many(job: Job, shots: Iterable[Shot]) -> tuple[list[Render], list[str]]:
    """Queue renders of the newest version of each shot, as the job wants them; a line for each shot that cannot be
    written."""
    wanted, known = wanted_of(job), Experience()
    renders, refused = list[Render](), list[str]()
    for shot in shots:
        version = PlanVersion.objects.filter(shot=shot).order_by("-pk").first()
        if version is None:
            refused.append(f"{shot.name}: has no plan; propose one first.")
            continue
        version.shot = shot
        try:
            chosen = shot.placed.cut(shot.info.frames) if wanted.cut and shot.placed else range(shot.info.frames)
            for name in wanted.formats:
                renders.append(request_render(version, name, (chosen.start, chosen.stop), wanted, known=known))
        except BadInput as error:
            refused.append(f"{shot.name}: {error}".replace(f"{shot.name}: {shot.name}", shot.name))
    return renders, refused


def delivered(shot: Shot) -> list[Render]:
    """The newest finished render of a shot in each format, of the version that was rendered last."""
    done = list(shot.renders.filter(state=State.DONE))  # type: ignore[attr-defined]
    newest: dict[str, Render] = {}
    for render in done:
        if render.label == done[0].label:
            newest.setdefault(render.format, render)
    return sorted(newest.values(), key=lambda render: render.pk)


def note_for(job: Job, shots: Iterable[Shot]) -> Note:
    """The delivery note of some shots of a job."""
    chosen = list(shots)
    names = {shot.timeline.name for shot in chosen if shot.timeline}
    return note_of(job.name, [_noted(shot) for shot in chosen], ", ".join(sorted(names)))


def _noted(shot: Shot) -> NoteShot:
    renders = delivered(shot)
    plan = renders[0].plan if renders else None
    reports = [DeliveryReport.model_validate(render.report) for render in renders if render.report]
    try:
        shot.require_footage()
        source = shot.opened()
    except (BadInput, OSError) as error:  # the note says so, and goes on with the others
        return unopened(shot.name, shot.info, line_of(error), place=shot.placed)
    with closing(source):
        return shot_of(
            shot.name, source, shot.report, plan, reports, label=renders[0].label if renders else "",
            place=shot.placed, generation=shot.generation,
        )  # fmt: skip


def timeline_out(timeline: Timeline, format_name: str) -> tuple[dict[str, str], list[str]]:
    """A timeline relinked to what was written in a format, and what there is to know of it; see `documents_of`."""
    events = list[tuple[Placed, Written | None]]()
    for shot in timeline.shots.listed():  # type: ignore[attr-defined]
        place, render = shot.placed, next((r for r in delivered(shot) if r.format == format_name), None)
        if place:
            chosen = range(render.first, render.stop) if render else range(0)
            path = Path(render.path) if render else Path()
            events.append((place, written_for(place, shot.info.frames, path, chosen) if render else None))
    return documents_of(from_json(timeline.document), events, f"{timeline.name}_{format_name}")


def delivery_zip(job: Job) -> bytes:
    """Notes and timelines of a job, packed. Raises `BadInput` where nothing is written."""
    shots = list(job.listed_shots.select_related("job", "timeline").prefetch_related("renders"))
    formats = list(dict.fromkeys(r.format for shot in shots for r in delivered(shot)))
    if not formats:
        raise BadInput(f"{job.name}: nothing is written yet; render it first.")
    note = note_for(job, shots)
    told = list[str]()
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("note.html", as_html(note))
        archive.writestr("note.pdf", as_pdf(note))
        archive.writestr("note.json", note.model_dump_json(by_alias=True, indent=1))
        for timeline in job.timelines.all():  # type: ignore[attr-defined]
            for name in formats:
                documents, lines = timeline_out(timeline, name)
                told += [f"{name}: {line}" for line in lines]
                for file, text in documents.items():
                    archive.writestr(file, text)
        if told:
            archive.writestr("to know.txt", "\n".join(told) + "\n")
    return packed.getvalue()
