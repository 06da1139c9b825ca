"""What users do, as plain functions that endpoints and commands share."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
from collections.abc import Iterable, Sequence
from contextlib import closing
from dataclasses import dataclass
from math import inf
from pathlib import Path
from typing import Literal

from django.conf import settings
from django.db import models, transaction
from django.utils import timezone
from pydantic import BaseModel, Field, ValidationError

from ..engine.colour.encodings import checked_space
from ..engine.colour.input_space import encoding_of
from ..engine.colour.look import Look, lut_checked
from ..engine.errors import BadInput, line_of
from ..engine.format import Format
from ..engine.frames import never
from ..engine.judge.patches import Remaining, nothing_yet, remaining_one_by_one
from ..engine.measure.groups import Heard, Taken, groups, pooled
from ..engine.measure.patch import Patch
from ..engine.measure.report import SurveyReport, finding_kinds
from ..engine.media import Fields, fingerprint, sequence_files, stamp
from ..engine.media.names import is_sequence_name, plain_stem
from ..engine.noise.profile import NoiseProfile
from ..engine.plan import Plan, Step
from ..engine.propose import Untreated, propose, untreated
from .afterwards import AFTERWARDS
from .models import CameraSpace, Job, Lut, PlanVersion, Profile, Render, Shot, State, Survey, Work
from .views import pipeline_for

LABELS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


def add_shot(
    job: Job, path: Path, name: str | None = None, frames: range | None = None, fields: Fields = ""
) -> Shot:
    """Probe footage, or the `frames` of it that are meant, and add it to a job, with each of its fields as a frame
    where `fields` names the lines that were seen first. Raises `BadInput` when it is not readable."""
    now = stamp(path)
    shot = Shot(job=job, name=name or plain_stem(path), path=str(path), fingerprint=fingerprint(path), stamp=now)
    shot.position = last_position(job)
    shot.fields = fields
    if frames is not None:
        shot.first, shot.stop = frames.start, frames.stop
    with closing(shot.opened()) as source:
        shot.media = source.info.model_dump()
    known = CameraSpace.objects.filter(camera=shot.info.camera).first() if shot.info.camera else None
    shot.space = known.space if known else ""
    shot.save()
    return shot


def last_position(job: Job) -> int:
    """The place in the reel behind which nothing stands."""
    return job.shots.aggregate(last=models.Max("position"))["last"] or 0  # type: ignore[attr-defined]


FAILURES = (BadInput, OSError, ValueError, ArithmeticError, LookupError, RuntimeError)
"""However a library stumbles over a file: it is that file's line, and the others go on."""


def add_all(job: Job, paths: Iterable[Path]) -> tuple[list[Shot], list[str]]:
    """Add what can be added, and have it measured where the settings say so; the shots, and one line for each that
    could not be added."""
    shots, refusals = [], []
    for path in paths:
        try:
            shots.append(add_shot(job, path))
            if settings.YELLOW_CLEAN.measure_added:
                request_survey(shots[-1])
        except FAILURES as error:
            line = line_of(error).replace(f"{path.parent}/", "")
            refusals.append(line if path.name in line else f"{path.name}: {line}")
    return shots, refusals


def allowed_folder(asked: str) -> Path:
    """A path inside the folders that the settings allow, or `BadInput`."""
    try:
        path = Path(asked).expanduser().resolve()
    except (OSError, RuntimeError, ValueError) as error:  # a loop of links, nobody's home, no name at all
        raise BadInput(f"{asked[:80]!r}: is no path ({' '.join(str(error).split())}).") from error
    for root in settings.YELLOW_CLEAN.media_folders:
        if path == root or root in path.parents:
            return path
    raise BadInput(
        f"{asked}: is not in a folder that footage may be imported from; name it in YELLOW_CLEAN_MEDIA_FOLDERS."
    )


def allowed_footage(asked: str) -> Path:
    """Footage inside the folders that the settings allow, each picture of a sequence too: one may be a link to
    elsewhere. Raises `BadInput`."""
    path = allowed_folder(asked)
    if is_sequence_name(path):
        for file in sequence_files(path):
            allowed_folder(str(file))
    return path


def request_survey(shot: Shot, patches: Sequence[Patch] = ()) -> Survey:
    """Queue a measuring pass, in place of one that still waits or runs."""
    from .tasks import run_survey  # noqa: PLC0415 (tasks import this module)

    for work in shot.surveys.active():  # type: ignore[attr-defined]
        cancel(work)
    run = Survey.objects.create(shot=shot, patches=[p.model_dump() for p in patches])
    transaction.on_commit(lambda: run_survey.enqueue(run.pk))
    return run


def choose_input_space(shot: Shot, space: str, *, whole_camera: bool = False) -> None:
    """Say what a shot's values are in (empty: what its file says), for all shots of its camera and those to come
    where that is asked for. What was measured goes by the space, and is measured again. Raises `BadInput`."""
    if space:
        checked_space(space)
    camera = shot.info.camera
    shots = [shot]
    if whole_camera:
        if not camera:
            raise BadInput(f"{shot.name}: its file names no camera; choose its space for this shot alone.")
        shots = [s for s in Shot.objects.select_related("job") if s.info.camera == camera]
        if space:
            CameraSpace.objects.update_or_create(camera=camera, defaults={"space": space})
        else:
            CameraSpace.objects.filter(camera=camera).delete()
    for each in shots:
        _change_space(each, space)


def _change_space(shot: Shot, space: str) -> None:
    before = encoding_of(shot.info).space
    shot.space = space
    look = shot.shown_under.behind(before, encoding_of(shot.info).space) if before == _looked_from(shot) else None
    shot.look = look.model_dump(mode="json") if look else shot.look
    shot.save(update_fields=["space", "look"])
    PlanVersion.objects.filter(shot=shot).update(remaining=None)
    if shot.survey is not None:
        last = shot.surveys.first()  # type: ignore[attr-defined]
        request_survey(shot, [Patch.model_validate(p) for p in last.patches] if last else [])


def _looked_from(shot: Shot) -> str:
    """The space that a managed look of the built-in configuration takes the shot to be in."""
    managed = shot.shown_under.managed
    return managed.input if managed and not managed.config else ""


class Wishes(BaseModel):
    """What a proposal is asked for beyond the tolerances."""

    sharpen: bool = Field(False, description="Undo the measured blur even where it is inside its tolerance.")
    factor: float | None = Field(None, gt=0, le=8, description="Another size: times the width and height.")


def proposal_for(
    shot: Shot, profile: NoiseProfile | None = None, wishes: Wishes | None = None
) -> tuple[Plan, list[Untreated]]:
    """The least treatment of a measured shot, and what it leaves alone."""
    wishes = wishes or Wishes()
    report = shot.report
    if report is None:
        raise BadInput(f"{shot.name}: has not been measured; measure it first.")
    plan = propose(report, profile, scale=wishes.factor, sharpen=wishes.sharpen)
    return plan, untreated(report, plan)


def propose_version(
    shot: Shot,
    profile: NoiseProfile | None = None,
    steps: Sequence[int] | None = None,
    wishes: Wishes | None = None,
) -> PlanVersion:
    """Make the least treatment of a measured shot its next version, or those of its steps that `steps` numbers."""
    plan = proposal_for(shot, profile, wishes)[0]
    if steps is not None:
        if not all(0 <= k < len(plan.steps) for k in steps):
            raise BadInput(f"{shot.name}: the proposal has {len(plan.steps)} steps; look at it again.")
        plan = plan.model_copy(update={"steps": [plan.steps[k] for k in sorted(set(steps))]})
    return new_version(shot, plan, "Proposed")


By = Literal["own", "camera", "group"]
"""By what noise many shots are treated where no saved profile is named: each by its own, by the saved profile of
its camera, or by that of the shots of the job whose noise is like its own."""


def propose_for(shots: Sequence[Shot], profile: Profile | None, by: By = "own") -> list[PlanVersion]:
    """Propose for many measured shots of a job at once: by one saved profile, or as `by` says."""
    measured = [shot for shot in shots if shot.survey]
    known = dict[int, NoiseProfile]()
    if profile:
        known = {shot.pk: profile.profile for shot in measured}
    elif by == "camera":
        known = {shot.pk: saved.profile for shot in measured if (saved := matching_profile(shot))}
    elif by == "group" and measured:
        known = _of_groups(measured[0].job)
    return [propose_version(shot, known.get(shot.pk)) for shot in measured]


def _of_groups(job: Job) -> dict[int, NoiseProfile]:
    """By shot, the profile that it shares with those like it; one that stands alone has its own."""
    known = dict[int, NoiseProfile]()
    for group in noise_groups(job):
        if len(group.shots) == 1:
            continue
        documents = job.shots.filter(pk__in=group.shots).values_list("survey__profile", flat=True)  # type: ignore[attr-defined]
        shared = pooled([NoiseProfile.model_validate(document) for document in documents])
        known |= dict.fromkeys(group.shots, shared)
    return known


@dataclass(frozen=True, slots=True)
class NoiseGroup:
    """Shots of one camera at one setting, and the noise of the first."""

    shots: list[int]
    noise: Heard


def noise_groups(job: Job) -> list[NoiseGroup]:
    """The measured shots of a job by their noise, those that stand alone too."""
    listed = job.listed_shots.exclude(noise=None)
    found = list[tuple[int, Taken]]()
    for pk, camera, gain, document in listed.values_list("pk", "media__camera", "media__gain", "noise"):
        with contextlib.suppress(ValidationError):  # of a release that this one cannot read
            found.append((pk, Taken(camera or "", gain or "", Heard.model_validate(document))))
    return [
        NoiseGroup([found[k][0] for k in group], found[group[0]][1].noise)
        for group in groups([taken for _, taken in found])
    ]


def matching_profile(shot: Shot) -> Profile | None:
    """The newest saved profile of the camera and gain that the shot's file names."""
    camera, gain = shot.media.get("camera", ""), shot.media.get("gain", "")
    if not camera:
        return None
    return Profile.objects.filter(camera__iexact=camera, gain__iexact=gain).order_by("-created").first()


def set_tolerances(job: Job, tolerances: dict[str, float]) -> None:
    """Change a job's tolerances; those that equal the default are not kept."""
    kinds = {kind.kind: kind.tolerance for kind in finding_kinds()}
    for kind, value in tolerances.items():
        if kind not in kinds:
            raise BadInput(f"{kind}: no such finding; use one of {', '.join(kinds)}.")
        if not 0 <= value < float("inf"):
            raise BadInput(f"{kind}: a tolerance of {value} is out of range; give 0 or more.")
    job.tolerances = {kind: value for kind, value in tolerances.items() if value != kinds[kind]}
    job.save(update_fields=["tolerances"])


def new_version(shot: Shot, plan: Plan, note: str = "", label: str | None = None) -> PlanVersion:
    """Keep a plan under a label, or under the next free letter where that is taken or none is given."""
    document = accepted(shot, plan).model_dump(mode="json", by_alias=True)
    with transaction.atomic():  # nobody else takes the label between looking and keeping
        taken = set(shot.versions.values_list("label", flat=True))
        label = next((x for x in (label, *LABELS) if x and x not in taken), None)
        if label is None:
            raise BadInput(f"{shot.name}: all versions A to Z are taken; delete one first.")
        return PlanVersion.objects.create(shot=shot, label=label, document=document, note=note)


def accepted(shot: Shot, plan: Plan) -> Plan:
    """The plan, which is refused where it holds a look, names files that are not to be read, or asks for a frame
    that there cannot be."""
    for path in plan.luts:
        allowed_lut(path)
    plan.formats(Format.of(shot.info))
    return unbaked(plan)


def unbaked(plan: Plan) -> Plan:
    """The plan, which is refused where it holds a look: that belongs to the shot, and to a render's copy."""
    if not plan.look.plain:
        raise BadInput("A plan of a shot holds no look; set the shot's own, and bake it in when rendering.")
    return plan


def allowed_lut(path: str) -> None:
    """Refuse a file that is neither in the library of LUTs nor in an allowed folder."""
    if not Lut.objects.filter(path=path).exists():
        allowed_folder(path)


def allowed_look(look: Look) -> Look:
    """The look, which is refused where it cannot be shown, or names files that are neither in the library nor in an
    allowed folder. Raises `BadInput`."""
    for path in (look.lut, look.managed.config if look.managed else ""):
        if path:
            allowed_lut(path)
    look.check()
    return look


def copy_look(of: Shot, shots: Iterable[Shot]) -> list[tuple[Shot, Look]]:
    """Judge shots under the look of another, managed from what each one's own values are in. The shots, each with
    the look that it had."""
    look, before, had = of.shown_under, encoding_of(of.info).space, []
    with transaction.atomic():
        for shot in shots:
            had.append((shot, shot.shown_under))
            set_look(shot, look.behind(before, encoding_of(shot.info).space))
    return had


def set_look(shot: Shot, look: Look) -> None:
    """Judge a shot under another look. Raises `BadInput` for one that cannot be shown, and the old one stays."""
    shot.look = allowed_look(look).model_dump(mode="json")
    shot.save(update_fields=["look"])


def rename(version: PlanVersion, label: str) -> None:
    """Give a version another label, which no other of its shot may have. Raises `BadInput`."""
    if not label or version.shot.versions.filter(label=label).exists():  # type: ignore[attr-defined]
        raise BadInput(f"{label or 'An empty name'}: a version needs a name of its own; choose another.")
    version.label = label


def save_version(version: PlanVersion, seen: int | None) -> bool:
    """Save a version that was changed, unless it is no longer the revision that was `seen`; at once, so that of two
    who saw the same one gets through."""
    rows = PlanVersion.objects.filter(pk=version.pk, **({} if seen is None else {"revision": seen}))
    changed = {name: getattr(version, name) for name in ("document", "note", "label")}
    if not rows.update(**changed, revision=models.F("revision") + 1, changed=timezone.now()):
        return False
    version.refresh_from_db(fields=["revision"])
    return True


def apply_steps(shots: Iterable[Shot], steps: list[Step], note: str) -> tuple[list[PlanVersion], list[str]]:
    """Give shots a new version of these steps, each with its own noise profile; one line for each that cannot."""
    made, refused = [], []
    for shot in shots:
        report = shot.report
        if report is None:
            refused.append(f"{shot.name}: has not been measured; measure it first.")
            continue
        try:
            made.append(new_version(shot, Plan(profile=report.profile, steps=steps), note))
        except BadInput as error:
            refused.append(str(error))
    return made, refused


def measure_remaining(version: PlanVersion, *, patience: float = inf) -> Remaining:
    """What a version leaves of the shot's findings, by the detectors themselves; kept with the version until its
    plan changes. Measured in the background: what is known after `patience` seconds, the rest named as coming."""
    report = version.shot.report
    if report is None:
        raise BadInput(f"{version.shot.name}: has not been measured; measure it first.")
    plan = version.plan
    places = hashlib.sha256(repr([r.patch for r in report.patches]).encode()).hexdigest()[:16]
    known = version.left(plan)
    if known is None or (version.remaining or {}).get("places") != places:
        pipeline = pipeline_for(version.shot, plan, never)
        told = AFTERWARDS.told(
            version.pk,
            (plan.digest(), places),
            lambda stopped: remaining_one_by_one(pipeline.until(stopped), report),
            patience,
        )
        if told is None or told.coming:
            return told or nothing_yet(plan, report)
        known = told
        about = {"plan": plan.digest(), "revision": version.revision, "places": places}
        version.remaining = {**about, **known.model_dump()}
        PlanVersion.objects.filter(pk=version.pk).update(remaining=version.remaining)
    return known


def keep_survey(shot: Shot, report: SurveyReport) -> None:
    """Keep a survey with its shot; what was measured to remain by the earlier one is forgotten."""
    shot.survey = report.model_dump(mode="json", by_alias=True)
    shot.findings = [f.model_dump(mode="json", exclude={"spots"}) for f in report.findings]
    shot.cuts, shot.noise = report.cuts, Heard.of(report.profile).model_dump(mode="json")
    told = {name: getattr(shot, name) for name in ("survey", "findings", "cuts", "noise")}
    Shot.objects.filter(pk=shot.pk).update(**told)
    PlanVersion.objects.filter(shot=shot).update(remaining=None)


def save_profile(profile: NoiseProfile, name: str, camera: str = "", gain: str = "", notes: str = "") -> Profile:
    """Keep a noise profile in the library."""
    if not name.strip():
        raise BadInput("A noise profile needs a name; the camera and its ISO make a good one.")
    named = profile.model_copy(update={"name": name.strip()[:200]})
    document = named.model_dump(mode="json", by_alias=True)
    return Profile.objects.create(name=named.name, camera=camera, gain=gain, notes=notes, document=document)


def cancel(work: Work) -> None:
    """Ask for an end. Waiting work ends at once."""
    type(work).objects.filter(pk=work.pk).cancel()
    work.refresh_from_db()
    if work.state == State.QUEUED:
        work.ended(State.CANCELLED, "Cancelled before it began.")


def delete_shot(shot: Shot) -> None:
    """Remove a shot, its uploaded footage and its renders; imported footage stays where it is. Work on it ends."""
    for kind in (Survey, Render):
        kind.objects.filter(shot=shot).cancel()
    for render in Render.objects.filter(shot=shot):
        shutil.rmtree(render.folder, ignore_errors=True)
    path = Path(shot.path)
    if shot.job.folder in path.parents and not Shot.objects.filter(path=shot.path).exclude(pk=shot.pk).exists():
        for file in sequence_files(path) if "#" in path.name else [path]:
            file.unlink(missing_ok=True)
    shot.delete()


def keep_lut(data: bytes, name: str, folder: Path) -> Lut:
    """Keep a LUT file under a path made from its content. Raises `BadInput` when it is none."""
    folder.mkdir(parents=True, exist_ok=True)
    ending = ".clf" if name.lower().endswith(".clf") else ".cube"
    path = folder / f"{hashlib.sha256(data).hexdigest()[:24]}{ending}"
    path.write_bytes(data)
    try:
        lut_checked(path)
    except BadInput as error:
        path.unlink()
        raise BadInput(str(error).replace(path.name, name)) from error
    return Lut.objects.get_or_create(path=str(path), defaults={"name": name})[0]
