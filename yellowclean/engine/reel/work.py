"""What is done with a job as a whole: measured, proposed, rendered, noted, and its timeline written out."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import date
from fractions import Fraction
from pathlib import Path

from ..delivery import delivery_report
from ..errors import BadInput, line_of
from ..frames import Progress, StopCheck, never
from ..media import OUTPUT_FORMATS, MediaInfo, destination
from ..media.formats import OutputFormat, output_format
from ..media.names import plain_stem, shots_in
from ..media.timecode import shifted
from ..noise.profile import NoiseProfile
from ..plan import Plan
from ..propose import propose, untreated
from ..render import render_together
from ..survey import survey
from .finding import VIDEO_ENDINGS, Found, described_footage, found_media
from .folder import FIRST, JobFolder, JobShot, WrittenShot, relative, shot_from
from .naming import TEMPLATE, named
from .note import Note, NoteShot, note_of, shot_of
from .relink import Written, as_edls, as_otio, relinked, written
from .taking import Placed, own_name, taken
from .timeline import Timeline, described, drops_frames, from_json, read

Tell = Callable[[str], None]


def load(data: bytes, name: str, rate: Fraction | None, folders: Sequence[Path]) -> tuple[str, Timeline]:
    """A timeline's document, and what it says. An .edl counts at the rate asked for, else at that of drop-frame
    timecode or of the first of its media that is found."""
    document = read(data, name, rate)
    if rate is None and Path(name).suffix.lower() == ".edl":
        if drops_frames(data.decode("latin-1")):
            document = read(data, name, Fraction(30000, 1001))
        else:
            found = next((f.path for f in found_media(described(document), folders) if f.path), "")
            document = read(data, name, described_footage(Path(found)).fps) if found else document
    return as_otio(document), described(document)


def take(
    root: Path, timeline: Timeline, document: str, media: Sequence[Found], handles: int,
    *, allow_missing: bool = False,
) -> tuple[JobFolder, list[str]]:  # fmt: skip
    """A new job of a timeline's events, and a line for each event whose medium is missing. Raises `BadInput` where
    one is, unless that is allowed, and where all are."""
    shots, missing = taken(timeline, media, handles)
    if missing and (not allow_missing or not shots):
        more = f" ({len(missing)} events in all)" if len(missing) > 1 else ""
        raise BadInput(f"{missing[0].rstrip('.')}{more}; name the folder that holds it.")
    job = JobFolder.create(
        root, root.name, [shot_from(t, root) for t in shots], timeline=document, timeline_name=timeline.name
    )
    return job, missing


def take_folder(root: Path, folder: Path) -> JobFolder:
    """A new job of the footage in a folder. Raises `BadInput` where there is none, or some that cannot be read."""
    paths = [p for p in shots_in(folder) if p.suffix.lower() in VIDEO_ENDINGS or "#" in p.name]
    if not paths:
        raise BadInput(f"{folder}: holds no footage.")
    shots = list[JobShot]()
    for path in paths:
        described_footage(path)
        name = own_name(plain_stem(path), [shot.name for shot in shots])
        shots.append(JobShot(name=name, media=relative(path, root)))
    return JobFolder.create(root, root.name, shots)


def measure(
    job: JobFolder, *, again: bool = False, tell: Tell = print, progress: Progress | None = None,
    stopped: StopCheck = never,
) -> list[str]:  # fmt: skip
    """Measure every shot that was not, or all; the same frames of a file are measured once. A line for each that
    cannot be: the others are measured all the same."""
    known = {_content(shot): report for shot in _shots(job) if not again and (report := job.survey(shot))}
    failed = []
    for shot in _shots(job):
        if not again and job.survey(shot):
            continue
        try:
            if _content(shot) not in known:
                with closing(job.opened(shot)) as source:
                    known[_content(shot)] = survey(source, progress=progress, stopped=stopped)
        except (BadInput, OSError) as error:
            failed.append(f"{shot.name}: {line_of(error)}")
            continue
        job.keep_survey(shot, known[_content(shot)])
        report = known[_content(shot)].with_tolerances(job.document.tolerances)
        outside = [f"{f.kind} {f.value:.3g} {f.unit}" for f in report.findings if f.outside]
        tell(f"{shot.name}: {', '.join(outside) if outside else 'inside all tolerances'}")
    return failed


def _content(shot: JobShot) -> tuple[object, ...]:
    return shot.media, shot.first, shot.stop, shot.space, shot.fields


def _shots(job: JobFolder) -> list[JobShot]:
    if not job.document.shots:
        raise BadInput(f"{job.root}: the job has no shots.")
    return job.shots


def propose_all(
    job: JobFolder, profile: NoiseProfile | None = None, *, sharpen: bool = False,
    scale: float | tuple[int, int] | None = None, space: str | None = None, tell: Tell = print,
) -> None:  # fmt: skip
    """The least plan for every shot that was measured, as version A in place of an earlier one. Raises `BadInput`
    where none was."""
    measured = [shot for shot in _shots(job) if job.survey(shot)]
    if not measured:
        raise BadInput(f"{job.root}: no shot has been measured; run yellow-clean job measure first.")
    for shot in measured:
        report = job.survey(shot)
        assert report
        plan = propose(report, profile, scale=scale, space=space, sharpen=sharpen)
        job.keep_plan(shot, FIRST, plan)
        tell(f"{shot.name}: {', '.join(s.treatment.title for s in plan.steps) or 'left as it is'}")
        for finding in untreated(report, plan):
            tell(f"{shot.name}: {finding.told}")


def render_all(
    job: JobFolder, formats: Collection[str], *, template: str = TEMPLATE, cut: bool = False, label: str = "",
    tell: Tell = print, progress: Progress | None = None, stopped: StopCheck = never,
) -> None:  # fmt: skip
    """Write every shot in every format by its plan `label` (empty: its last one), each format into a folder of its
    own; with handles or at cut length. What was written by the same plan is kept."""
    for name in formats:
        output_format(name)
    pieces = [
        _piece(job, shot, OUTPUT_FORMATS[name], template, cut, label) for shot in _shots(job) for name in formats
    ]
    places: dict[Path, str] = {}
    for piece in pieces:
        if piece.path in places:
            other = places[piece.path]
            raise BadInput(f"{template}: names {piece.shot.name} and {other} alike; add {{shot}} or {{event}}.")
        places[piece.path] = piece.shot.name
    for shot in _shots(job):
        mine = [piece for piece in pieces if piece.shot is shot]
        kept = [piece for piece in mine if _is_written(job, piece)]
        for piece in kept:
            tell(f"{shot.name}: {piece.path.name} is there already")
        _render(job, [piece for piece in mine if piece not in kept], tell, progress, stopped)


@dataclass(frozen=True, slots=True)
class _Piece:
    """One file that is to be written."""

    shot: JobShot
    label: str
    plan: Plan
    format: OutputFormat
    chosen: range
    path: Path


def _piece(job: JobFolder, shot: JobShot, fmt: OutputFormat, template: str, cut: bool, wanted: str) -> _Piece:
    label = _label(job, shot, wanted)
    with closing(job.opened(shot)) as source:
        info = source.info
    chosen = shot.place.cut(info.frames) if cut and shot.place else range(info.frames)
    name = named(template, values_for(job.document.name, shot.name, label, fmt, info, chosen, shot.place))
    folder = job.root / "renders" / fmt.name / (name if fmt.is_sequence else "")
    path = folder / f"{name}{'_####' if fmt.is_sequence else ''}{fmt.ending}"
    return _Piece(shot, label, job.plan(shot, label) if label else Plan(), fmt, chosen, path)


def _label(job: JobFolder, shot: JobShot, wanted: str) -> str:
    labels = job.labels(shot)
    if wanted and wanted not in labels:
        raise BadInput(f"{shot.name}: has no plan {wanted}; it has {', '.join(labels) or 'none'}.")
    return wanted or (labels[-1] if labels else "")


def _is_written(job: JobFolder, piece: _Piece) -> bool:
    asked = (piece.label, piece.plan.digest(), piece.format.name, piece.chosen.start, piece.chosen.stop, piece.path)
    return any(
        (kept.label, kept.plan, kept.format, kept.first, kept.stop, job.path_of(kept)) == asked
        for kept in job.written(piece.shot)
    )


def _render(
    job: JobFolder, pieces: Sequence[_Piece], tell: Tell, progress: Progress | None, stopped: StopCheck
) -> None:
    """Write a shot in several formats at once."""
    if not pieces:
        return
    shot, plan, chosen = pieces[0].shot, pieces[0].plan, pieces[0].chosen
    for piece in pieces:
        piece.path.parent.mkdir(parents=True, exist_ok=True)
    targets = [destination(piece.path, piece.format.name) for piece in pieces]
    with closing(job.opened(shot)) as source:
        render_together(source, plan, targets, frames=chosen, progress=progress, stopped=stopped)
        overwork = None
        for piece, target in zip(pieces, targets, strict=True):
            report = delivery_report(
                source,
                target,
                chosen,
                plan,
                measured=job.survey(shot),
                judging=overwork is None,
                stopped=stopped,
            )
            overwork = overwork or report.overwork
            kept = WrittenShot(
                label=piece.label,
                plan=plan.digest(),
                format=piece.format.name,
                first=chosen.start,
                stop=chosen.stop,
                report=report.model_copy(update={"overwork": overwork}),
            )
            job.keep_written(shot, kept)
            tell(f"{shot.name}: {piece.path.name}, {len(chosen)} frames, {piece.format.title}")


def values_for(
    job: str, shot: str, label: str, fmt: OutputFormat, info: MediaInfo, chosen: range, place: Placed | None
) -> dict[str, object]:
    """What a template may name, of frames of a shot that are to be written."""
    return {
        "job": job,
        "shot": shot,
        "version": label or "source",
        "event": place.number if place else 0,
        "reel": plain_stem(Path(info.path)),
        "format": fmt.name,
        "date": date.today().isoformat(),
        "timecode": shifted(info.timecode, chosen.start, info.fps) if info.timecode else "",
    }


def note(job: JobFolder) -> Note:
    """The job's delivery note, of what is written."""
    shots = [_noted(job, shot) for shot in _shots(job)]
    return note_of(job.document.name, shots, job.document.timeline)


def _noted(job: JobFolder, shot: JobShot) -> NoteShot:
    kept = job.written(shot)
    label = kept[0].label if kept else _label(job, shot, "")
    plan = job.plan(shot, label) if label else None
    with closing(job.opened(shot)) as source:
        return shot_of(
            shot.name, source, job.survey(shot), plan, [job.report_of(k) for k in kept], label=label,
            place=shot.place, generation=shot.generation,
        )  # fmt: skip


def write_note(job: JobFolder, out: Path) -> list[Path]:
    """The note as HTML, PDF and JSON in a folder."""
    told = note(job)
    out.mkdir(parents=True, exist_ok=True)
    files = [out / f"note.{ending}" for ending in ("html", "pdf", "json")]
    from .paper import as_html, as_pdf  # noqa: PLC0415, what sets type takes long to load

    files[0].write_text(as_html(told))
    files[1].write_bytes(as_pdf(told))
    files[2].write_text(told.model_dump_json(by_alias=True, indent=1) + "\n")
    return files


def write_timelines(job: JobFolder, out: Path) -> tuple[list[Path], list[str]]:
    """The timeline, relinked to what was written, once for each format; see `documents_of`."""
    if not job.timeline:
        return [], []
    out.mkdir(parents=True, exist_ok=True)
    made, told = list[Path](), list[str]()
    formats = dict.fromkeys(kept.format for shot in _shots(job) for kept in job.written(shot))
    for name in formats:
        files = {shot.name: _written(job, shot, name) for shot in _shots(job) if shot.place}
        events = [(shot.place, files[shot.name]) for shot in _shots(job) if shot.place]
        documents, lines = documents_of(from_json(job.timeline), events, f"{job.document.name}_{name}")
        told += [f"{name}: {line}" for line in lines]
        for document, text in documents.items():
            (out / document).write_text(text)
            made.append(out / document)
    return made, told


def _written(job: JobFolder, shot: JobShot, format_name: str) -> Written | None:
    """What was written of a shot's event in a format; None where that is not all of it."""
    kept = next((kept for kept in job.written(shot) if kept.format == format_name), None)
    if kept is None or shot.first is None or shot.stop is None:
        return None
    return written_for(shot.place, shot.stop - shot.first, job.path_of(kept), range(kept.first, kept.stop))


def written_for(place: Placed | None, frames: int, path: Path, chosen: range) -> Written | None:
    """A file that holds the frames `chosen` of a shot of so many, as the event plays it; None where some lack."""
    if place is None:
        return None
    cut = place.cut(frames)
    if cut.start < chosen.start or cut.stop > chosen.stop:
        return None
    return written(path, cut.start - chosen.start, len(cut))


def documents_of(
    timeline: object, events: Sequence[tuple[Placed, Written | None]], name: str
) -> tuple[dict[str, str], list[str]]:
    """A timeline relinked to what was written of its events, by the names of its files: as .otio, and as an .edl
    for each track. A line for each event that stays at its source, and for what an .edl cannot hold. Without
    documents where nothing was written."""
    files = {place.clip: file for place, file in events if file}
    if not files:
        return {}, []
    told = [
        f"event {p.number}, {p.name}, stays at its source: it was not written." for p, file in events if not file
    ]
    out = relinked(timeline, files)
    plain = named("{job}", {"job": name})
    lists, lost = as_edls(out, Fraction(described(timeline).rate))
    documents = {f"{plain}.otio": as_otio(out)}
    for track, text in lists.items():
        mark = "" if len(lists) == 1 else f"_{named('{job}', {'job': track})}"
        documents[f"{plain}{mark}.edl"] = text
    return documents, [*told, *lost]
