"""A job as one folder, packed: all but the media, to be opened elsewhere, or worked on by the command line."""

from __future__ import annotations

import io
import re
import shutil
import tempfile
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path, PurePosixPath

from django.conf import settings
from django.db import transaction

from ..engine.errors import BadInput
from ..engine.media import fingerprint
from ..engine.plan import plan_from_json
from ..engine.reel.finding import footage_under
from ..engine.reel.folder import DOCUMENT, JobFolder, JobShot, JobStill, relative
from ..engine.reel.paper import as_html
from .models import Job, PlanVersion, Shot, Still, Timeline
from .reels import note_for
from .use_cases import add_shot, allowed_folder, keep_survey

LARGEST, MOST_FILES = 2 << 30, 100_000
"""Bytes and files that an archive may unpack to."""


def packed_job(job: Job) -> bytes:
    """A job as a ZIP of its folder: timeline, surveys, plans, looks, stills, note; media by relative paths."""
    shots = list(Shot.objects.filter(job=job).select_related("job", "timeline", "origin"))
    names = _names(shots)
    timeline = next((shot.timeline for shot in shots if shot.timeline), None)
    with tempfile.TemporaryDirectory(prefix="yellow-clean-job-") as name:
        root = Path(name)
        kept = JobFolder.create(
            root, job.name, [_told(shot, names, root) for shot in shots], tolerances=job.tolerances,
            timeline=timeline.document if timeline else "", timeline_name=timeline.name if timeline else "",
        )  # fmt: skip
        for shot, told in zip(shots, kept.document.shots, strict=True):
            if shot.report:
                kept.keep_survey(told, shot.report)
            for version in shot.versions.all():  # type: ignore[attr-defined]
                kept.keep_plan(told, _label(version.label), version.plan)
        (root / "note.html").write_text(as_html(note_for(job, job.listed_shots)))
        return _zipped(root)


def _label(label: str) -> str:
    return re.sub(r"[^A-Za-z0-9_-]", "_", label) or "_"


def _told(shot: Shot, names: Mapping[int, str], root: Path) -> JobShot:
    return JobShot(
        name=names[shot.pk], origin=names.get(shot.origin_id or 0, ""), generation=shot.generation,
        media=relative(Path(shot.path), root), first=shot.first, stop=shot.stop,
        place=shot.placed, space=shot.space, fields=shot.lines_first, look=shot.shown_under,
        fingerprint=shot.fingerprint,
        stills=[
            JobStill(name=still.name, n=still.n, label=still.label, plan=still.plan, look=still.shown_under)
            for still in shot.stills.all()  # type: ignore[attr-defined]
        ],
    )  # fmt: skip


def _names(shots: Sequence[Shot]) -> dict[int, str]:
    """By key: a name for each shot that a file can have, and no other shot of the job. What stands in for a shot of
    its name keeps it."""
    plain = {shot.pk: "".join("_" if c in "/\\" or ord(c) < 32 else c for c in shot.name) for shot in shots}
    found = list(plain.values())
    put_away = {shot.origin_id for shot in shots}
    own = {name for name in found if found.count(name) == 1}
    own |= {n for n in found if sum(plain[s.pk] == n and s.pk not in put_away for s in shots) == 1}
    return {
        pk: name if name in own and (pk not in put_away or found.count(name) == 1) else f"{name}_{pk}"
        for pk, name in plain.items()
    }


def _zipped(root: Path) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for file in sorted(root.rglob("*")):
            if file.is_file():
                archive.write(file, str(file.relative_to(root)))
    return packed.getvalue()


def unpacked_job(data: bytes) -> tuple[Job, list[str]]:
    """A job from its ZIP, its media looked for by name and fingerprint in the folders that footage may be imported
    from; a line for each shot whose media are missing: those shots wait until they are pointed to. Raises
    `BadInput` for anything that is no job."""
    with tempfile.TemporaryDirectory(prefix="yellow-clean-job-") as name:
        root = Path(name)
        _unzip(data, root)
        kept = JobFolder(root)
        footage = list(footage_under([f for f in settings.YELLOW_CLEAN.media_folders if f.is_dir()]))
        with transaction.atomic():
            job = Job.objects.create(name=kept.document.name[:200], tolerances=kept.document.tolerances)
            timeline = None
            if kept.timeline:
                name_of = kept.document.timeline or "Timeline"
                timeline = Timeline.objects.create(job=job, name=name_of[:255], document=kept.timeline)
            missing = [
                line for told in kept.document.shots if (line := _restored(job, kept, told, timeline, footage))
            ]
            _link(job, kept.document.shots)
        return job, missing


def _link(job: Job, shots: Sequence[JobShot]) -> None:
    """Tell shots that were made of others what they were made of, where that is there too."""
    known = {shot.name: shot for shot in job.shots.all()}  # type: ignore[attr-defined]
    for told in shots:
        if told.origin in known and told.name in known:
            Shot.objects.filter(pk=known[told.name].pk).update(origin=known[told.origin])


def _restored(job: Job, kept: JobFolder, told: JobShot, timeline: Timeline | None, footage: Sequence[Path]) -> str:
    """Add a shot with all that is kept of it; a line where its media are missing."""
    media = _found(told, footage)
    frames = None if told.first is None or told.stop is None else range(told.first, told.stop)
    survey = kept.survey(told)
    if media is not None:
        shot = add_shot(job, media, told.name, frames, told.fields)
    elif survey is None:
        return f"{told.name}: {told.media} was not found, and nothing was measured of it; add it anew."
    else:
        shot = Shot(
            job=job, name=told.name, path=told.media, fingerprint=told.fingerprint, first=told.first,
            stop=told.stop, fields=told.fields,
        )  # fmt: skip
        shot.media = survey.media.model_dump()
    shot.generation = told.generation
    shot.space, shot.look = told.space, told.look.model_dump(mode="json")
    shot.place = told.place.model_dump() if told.place else None
    shot.timeline, shot.position = (timeline, told.place.number) if told.place else (None, shot.position)
    shot.save()
    if survey:
        keep_survey(shot, survey)
    for label in kept.labels(told):
        document = plan_from_json(kept.plan(told, label).to_json()).model_dump(mode="json", by_alias=True)
        PlanVersion.objects.create(shot=shot, label=label[:8], document=document)
    for still in told.stills:
        Still.objects.create(
            shot=shot, name=still.name, n=still.n, label=still.label, look=still.look.model_dump(mode="json"),
            document=still.plan.model_dump(mode="json", by_alias=True),
        )  # fmt: skip
    return "" if media else f"{told.name}: {told.media} was not found; point to it on the Bench."


def _found(told: JobShot, footage: Sequence[Path]) -> Path | None:
    """A shot's footage among what there is: of its name and fingerprint, else of its name alone."""
    name = PurePosixPath(told.media).name
    alike = [path for path in footage if path.name == name]
    return next((path for path in alike if fingerprint(path) == told.fingerprint), alike[0] if alike else None)


def _unzip(data: bytes, root: Path) -> None:
    """Unpack below a folder; refuses what would lie elsewhere, or never end."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            members = archive.infolist()
            if len(members) > MOST_FILES or sum(member.file_size for member in members) > LARGEST:
                raise BadInput("The archive unpacks to more than a job can be; is it one?")
            for member in members:
                target = (root / member.filename).resolve()
                if root.resolve() not in target.parents or member.is_dir():
                    continue
                target.parent.mkdir(parents=True, exist_ok=True)
                with archive.open(member) as packed, target.open("wb") as plain:
                    shutil.copyfileobj(packed, plain)
    except (
        zipfile.BadZipFile,
        zipfile.LargeZipFile,
        NotImplementedError,
        RuntimeError,
        EOFError,
        OSError,
    ) as error:
        raise BadInput(f"The file is no packed job ({error}); pack it again.") from error
    if not (root / DOCUMENT).is_file():
        raise BadInput("The file is no packed job: it holds no job.json.")


def point_shot_to(shot: Shot, path: str) -> None:
    """Say where a shot's footage lies now. Raises `BadInput` where it is other footage than was measured."""
    where = allowed_folder(path)
    if fingerprint(where) != shot.fingerprint:
        raise BadInput(
            f"{where.name}: is not the footage of {shot.name}; choose the file that it was made of, under its name."
        )
    shot.path, shot.stamp = str(where), ""
    shot.save(update_fields=["path", "stamp"])
