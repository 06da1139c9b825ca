"""The Bench: one shot, its survey, its plan versions."""

from __future__ import annotations

from fractions import Fraction

from django.http import HttpRequest
from ninja import Query, Router, Schema
from ninja.errors import HttpError

from ...engine.colour.encodings import spaces_known
from ...engine.errors import BadInput, BadPlan
from ...engine.format import Format
from ...engine.frames import never
from ...engine.judge.patches import patch_at
from ...engine.judge.standing import frame_noise, said_of, standings
from ...engine.measure.patch import Patch, measure_patch
from ...engine.measure.places import better_patch
from ...engine.media import OUTPUT_FORMATS
from ...engine.media.timecode import frames_between, shifted
from ...engine.noise.profile import NoiseProfile
from ...engine.plan import Plan, Step
from ...engine.propose import offered
from ...engine.treat import TREATMENTS
from ..derived import check_listed
from ..models import PlanVersion, Profile, Shot
from ..use_cases import (
    Wishes,
    accepted,
    cancel,
    choose_input_space,
    delete_shot,
    matching_profile,
    measure_remaining,
    new_version,
    proposal_for,
    propose_version,
    rename,
    request_survey,
    save_version,
)
from ..views import pipeline_for
from .jobs import told_shot, told_work
from .schemas import (
    FormatOfResult,
    FormatOut,
    InputSpaceIn,
    LeftOut,
    OwnViewOut,
    PatchVerdict,
    ProposalOut,
    ShotDetail,
    SurveyIn,
    TimecodeOut,
    TreatmentOut,
    VersionIn,
    VersionOut,
    WorkOut,
)

router = Router(tags=["shots"])

PATIENCE = 0.5
"""Seconds that a question about what is being measured waits for more before it is answered."""


class ProposeIn(Schema):
    """A saved profile to use, or none for the shot's own; numbers of the steps to take, or none for all."""

    profile_id: int | None = None
    steps: list[int] | None = None
    wishes: Wishes = Wishes()


def told_version(version: PlanVersion) -> VersionOut:
    try:
        plan = version.plan
    except BadPlan as error:
        told = f"It was written by another release and cannot be read: {error}"
        return VersionOut(
            id=version.pk,
            revision=version.revision,
            label=version.label,
            note=version.note,
            plan=Plan(),
            key="",
            matte_keys=[],
            view_keys=[],
            advice=[],
            problem=told,
        )
    return VersionOut(
        id=version.pk,
        revision=version.revision,
        label=version.label,
        note=version.note,
        plan=plan,
        key=plan.digest(),
        matte_keys=[plan.matte_digest(k) for k in range(len(plan.steps))],
        view_keys=[plan.view_digest(k) for k in range(len(plan.steps))],
        advice=plan.advice([found.kind for found in version.shot.listed_findings or [] if found.outside]),
        works_in=plan.works_in(Format.of(version.shot.info)),
        states=plan.states(Format.of(version.shot.info)),
        format=FormatOfResult.of(version.shot.info, plan),
    )


@router.get("/shots/{shot_id}", response=ShotDetail, by_alias=True)
def get_shot(request: HttpRequest, shot_id: int) -> ShotDetail:
    shot = Shot.objects.select_related("job").get(pk=shot_id)
    match, report = matching_profile(shot), shot.report
    measured = standings(report.findings) if report else []
    return ShotDetail(
        **told_shot(shot).model_dump(),
        report=report,
        measured=measured,
        by_frame=frame_noise(report.noise.by_frame_cv, measured) if report else None,
        spectrum=report.profile.against_white().tolist() if report else None,
        plans=[told_version(v) for v in shot.versions.all()],
        matching_profile=match.pk if match else None,
        look=shot.shown_under,
        look_key=shot.shown_under.digest(),
    )


@router.delete("/shots/{shot_id}", response={204: None})
def remove_shot(request: HttpRequest, shot_id: int) -> tuple[int, None]:
    shot = Shot.objects.get(pk=shot_id)
    check_listed(shot)
    delete_shot(shot)
    return 204, None


@router.get("/spaces", response=list[str])
def list_spaces(request: HttpRequest) -> list[str]:
    """The colour spaces that footage may be in, by name."""
    return list(spaces_known())


@router.put("/shots/{shot_id}/input-space", response={204: None})
def change_input_space(request: HttpRequest, shot_id: int, payload: InputSpaceIn) -> tuple[int, None]:
    """Say what a shot's values are in; it is measured again where it was measured."""
    choose_input_space(
        Shot.objects.select_related("job").get(pk=shot_id), payload.space, whole_camera=payload.whole_camera
    )
    return 204, None


@router.post("/shots/{shot_id}/survey", response=WorkOut)
def survey_shot(request: HttpRequest, shot_id: int, payload: SurveyIn) -> WorkOut | None:
    return told_work(request_survey(Shot.objects.get(pk=shot_id), payload.patches))


@router.post("/shots/{shot_id}/survey/cancel", response={204: None})
def cancel_survey(request: HttpRequest, shot_id: int) -> tuple[int, None]:
    for work in Shot.objects.get(pk=shot_id).surveys.active():  # type: ignore[attr-defined]
        cancel(work)
    return 204, None


@router.post("/shots/{shot_id}/patch", response=PatchVerdict)
def read_patch(request: HttpRequest, shot_id: int, payload: Patch, version_id: int | None = None) -> PatchVerdict:
    """The verdict on a patch that the user draws, before anything is measured by it; and what a version leaves."""
    shot = Shot.objects.select_related("job").get(pk=shot_id)
    plan = PlanVersion.objects.get(pk=version_id, shot=shot).plan if version_id else Plan()
    pipeline = pipeline_for(shot, plan, never)
    report = shot.report
    curve = report.profile.curve if report and report.media.frames > 1 else None
    frame, limits = pipeline.source_frame(payload.frame), pipeline.footage.info.clip_levels
    reading = measure_patch(frame, payload, curve, limits=limits)
    result = None
    if version_id:
        result = patch_at(pipeline, payload)
    better = None if reading.flat else better_patch(frame, payload, curve, limits)
    return PatchVerdict(reading=reading, better=better, result=result)


@router.get("/shots/{shot_id}/proposal", response=ProposalOut, by_alias=True)
def get_proposal(
    request: HttpRequest, shot_id: int, wishes: Query[Wishes], profile_id: int | None = None
) -> ProposalOut:
    """What would be proposed, before anything is made of it."""
    plan, left = proposal_for(Shot.objects.select_related("job").get(pk=shot_id), _noise_of(profile_id), wishes)
    return ProposalOut(plan=plan, untreated=left)


@router.post("/shots/{shot_id}/propose", response=VersionOut, by_alias=True)
def propose_plan(request: HttpRequest, shot_id: int, payload: ProposeIn) -> VersionOut:
    profile, shot = _noise_of(payload.profile_id), Shot.objects.get(pk=shot_id)
    return told_version(propose_version(shot, profile, payload.steps, payload.wishes))


def _noise_of(profile_id: int | None) -> NoiseProfile | None:
    return Profile.objects.get(pk=profile_id).profile if profile_id else None


@router.post("/shots/{shot_id}/versions", response=VersionOut, by_alias=True)
def create_version(request: HttpRequest, shot_id: int, payload: VersionIn) -> VersionOut:
    return told_version(new_version(Shot.objects.get(pk=shot_id), payload.plan, payload.note or "", payload.label))


@router.put("/versions/{version_id}", response=VersionOut, by_alias=True)
def change_version(request: HttpRequest, version_id: int, payload: VersionIn) -> VersionOut:
    version = PlanVersion.objects.select_related("shot").get(pk=version_id)
    version.plan  # noqa: B018 (one that cannot be read is not written over)
    version.document = accepted(version.shot, payload.plan).model_dump(mode="json", by_alias=True)
    if payload.note is not None:
        version.note = payload.note
    if payload.label is not None and payload.label != version.label:
        rename(version, payload.label.strip())
    if not save_version(version, payload.revision):
        raise HttpError(409, f"Version {version.label} was changed from elsewhere meanwhile.")
    return told_version(version)


@router.delete("/versions/{version_id}", response={204: None})
def delete_version(request: HttpRequest, version_id: int) -> tuple[int, None]:
    PlanVersion.objects.get(pk=version_id).delete()
    return 204, None


@router.get("/versions/{version_id}/remaining", response=LeftOut)
def get_remaining(request: HttpRequest, version_id: int) -> LeftOut:
    """What the version leaves of the findings, measured in the result itself where it can be: so much as is known.
    Ask again while anything is coming."""
    version = PlanVersion.objects.select_related("shot__job").get(pk=version_id)
    left = measure_remaining(version, patience=PATIENCE)
    report = version.shot.report
    stands = standings(report.findings if report else [], left)
    by_frame = frame_noise(report.noise.by_frame_cv if report else [], stands)
    return LeftOut(left=left, standings=stands, by_frame=by_frame, said=said_of(version.plan, stands))


@router.get("/shots/{shot_id}/offer", response=Step, by_alias=True)
def get_offer(request: HttpRequest, shot_id: int, kind: str) -> Step:
    """A step of a kind as one asks for it by hand: set by what was measured, where that says something."""
    report = Shot.objects.get(pk=shot_id).report
    if kind not in TREATMENTS:
        raise BadInput(f"{kind}: no such treatment; use one of {', '.join(TREATMENTS)}.")
    return offered(report, kind) if report else Step(kind=kind)


@router.get("/shots/{shot_id}/timecode", response=TimecodeOut)
def get_timecode(request: HttpRequest, shot_id: int, frame: int = 0, at: str = "") -> TimecodeOut:
    """The source's timecode of a frame; or the frame of a timecode, where `at` names one."""
    info = Shot.objects.get(pk=shot_id).info
    start, rate = info.timecode or "00:00:00:00", Fraction(info.rate)
    if at:
        frame = frames_between(start, at, rate)
        if not 0 <= frame < info.frames:
            last = shifted(start, info.frames - 1, rate)
            raise BadInput(f"{at}: lies outside the shot, which runs from {start} to {last}.")
    return TimecodeOut(frame=frame, timecode=shifted(start, frame, rate))


@router.get("/treatments", response=list[TreatmentOut])
def list_treatments(request: HttpRequest) -> list[TreatmentOut]:
    return [
        TreatmentOut(
            kind=t.kind,
            title=t.title,
            treats=list(t.treats),
            parameters=t.parameters.model_json_schema(),
            reshapes=t.reshapes,
            course=t.course is not None,
            marks=t.marks is not None,
            views=[OwnViewOut(name=v.name, title=v.title, help=v.help) for v in t.views],
        )
        for t in TREATMENTS.values()
    ]


@router.get("/shots/{shot_id}/formats", response=list[FormatOut])
def list_formats(request: HttpRequest, shot_id: int) -> list[FormatOut]:
    """What a shot can be written as, and what each format cannot carry of it."""
    info = Shot.objects.get(pk=shot_id).info
    formats = OUTPUT_FORMATS.values()
    return [FormatOut(name=f.name, title=f.title, ending=f.ending, bits=f.bits, lost=f.lost(info)) for f in formats]
