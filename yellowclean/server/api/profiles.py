"""The library of noise profiles: the same camera at the same setting has the same noise."""

from __future__ import annotations

import contextlib

from django.db.models import Q
from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import Router

from ...engine.errors import BadInput, BadPlan
from ...engine.measure.fit import ProfileFit, profile_fit
from ...engine.noise.profile import profile_from_json
from ..models import Profile, Shot
from ..use_cases import save_profile
from .schemas import ProfileIn, ProfileOut

router = Router(tags=["profiles"])


def told_profile(saved: Profile) -> ProfileOut:
    profile = saved.profile
    return ProfileOut(
        id=saved.pk,
        name=saved.name,
        camera=saved.camera,
        gain=saved.gain,
        notes=saved.notes,
        created=saved.created,
        luma_cv=profile.typical_cv("luma"),
        chroma_cv=profile.chroma_cv,
        grain_px=profile.grain_px,
        confidence=profile.confidence,
        origin=profile.origin,
        curve=profile.curve,
    )


@router.get("/profiles", response=list[ProfileOut])
def list_profiles(request: HttpRequest, search: str = "") -> list[ProfileOut]:
    """All profiles, or those whose name, camera, gain or notes hold every word of `search`."""
    found = Profile.objects.all()
    for word in search.split():
        found = found.filter(
            Q(name__icontains=word) | Q(camera__icontains=word) | Q(gain__icontains=word) | Q(notes__icontains=word)
        )
    told = []
    for saved in found:
        with contextlib.suppress(BadPlan):  # of a release that this one cannot read
            told.append(told_profile(saved))
    return told


@router.post("/shots/{shot_id}/profile", response=ProfileOut)
def save_from_shot(request: HttpRequest, shot_id: int, payload: ProfileIn) -> ProfileOut:
    """Keep a measured shot's profile under a name."""
    shot = Shot.objects.get(pk=shot_id)
    report = shot.report
    if report is None:
        raise BadInput(f"{shot.name}: has not been measured; measure it first.")
    told = payload.dict()
    told["camera"], told["gain"] = payload.camera or report.media.camera, payload.gain or report.media.gain
    return told_profile(save_profile(report.profile, **told))


@router.post("/profiles/import", response=ProfileOut)
def import_profile(request: HttpRequest, name: str) -> ProfileOut:
    """Add an exported document, sent as the request's body."""
    profile = profile_from_json(request.body, name)
    return told_profile(save_profile(profile, name=profile.name or name.removesuffix(".json")))


@router.patch("/profiles/{profile_id}", response=ProfileOut)
def change_profile(request: HttpRequest, profile_id: int, payload: ProfileIn) -> ProfileOut:
    saved = Profile.objects.get(pk=profile_id)
    for field, value in payload.dict().items():
        setattr(saved, field, value)
    saved.save()
    return told_profile(saved)


@router.delete("/profiles/{profile_id}", response={204: None})
def delete_profile(request: HttpRequest, profile_id: int) -> tuple[int, None]:
    Profile.objects.get(pk=profile_id).delete()
    return 204, None


@router.get("/profiles/{profile_id}/file")
def export_profile(request: HttpRequest, profile_id: int) -> HttpResponse:
    """The document, for other machines and the command line."""
    saved = Profile.objects.get(pk=profile_id)
    response = HttpResponse(saved.profile.to_json(), content_type="application/json")
    response["Content-Disposition"] = content_disposition_header(True, f"{saved.name}.json") or ""
    return response


@router.get("/shots/{shot_id}/profiles/{profile_id}/fit", response=ProfileFit)
def get_fit(request: HttpRequest, shot_id: int, profile_id: int) -> ProfileFit:
    """How well a saved profile fits a measured shot, before it is trusted."""
    shot = Shot.objects.get(pk=shot_id)
    report = shot.report
    if report is None:
        raise BadInput(f"{shot.name}: has not been measured; measure it first.")
    return profile_fit(report.profile, Profile.objects.get(pk=profile_id).profile)
