"""The look a shot is judged under: its parts, its files, and what the noise becomes."""

from __future__ import annotations

import tempfile
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import Router, Schema

from ...engine.colour.cdl_files import read_cdls, written_cdl
from ...engine.colour.cube_files import written_cube
from ...engine.colour.input_space import encoding_of
from ...engine.colour.look import Cdl, Look
from ...engine.colour.management import Managed, Spaces, managed_by_default, spaces
from ...engine.errors import BadInput
from ...engine.judge.under_look import NoiseUnderLook, noise_under
from ...engine.media import MediaInfo
from ..models import Job, Lut, Shot
from ..use_cases import allowed_folder, copy_look, keep_lut, set_look
from .schemas import PartsSchema

router = Router(tags=["looks"])


class LookOut(Schema):
    """A shot's look, and the key that names it for caches."""

    look: Look
    key: str


class LutOut(Schema):
    """A LUT in the library; `path` is how a look names it."""

    id: int
    name: str
    path: str


class Correction(Schema):
    """One correction of an ASC CDL document."""

    id: str
    cdl: Cdl


class Choices(Schema):
    """What colour management offers, and what the file's own tags suggest."""

    spaces: Spaces
    suggested: Managed


def told_look(shot: Shot) -> LookOut:
    look = shot.shown_under
    return LookOut(look=look, key=look.digest())


@router.get("/looks", response=PartsSchema)
def look_parameters(request: HttpRequest) -> PartsSchema:
    """The JSON schemas of a look's parts, from which its controls are drawn."""
    return PartsSchema(parts={"look": Look.model_json_schema(), "cdl": Cdl.model_json_schema()})


@router.put("/shots/{shot_id}/look", response=LookOut)
def change_look(request: HttpRequest, shot_id: int, payload: Look) -> LookOut:
    """Judge the shot under another look. One that cannot be shown is refused, and the old one stays."""
    shot = Shot.objects.get(pk=shot_id)
    set_look(shot, payload)
    return told_look(shot)


class CopyLookIn(Schema):
    """Whose look is meant, and the shots that are to have it."""

    of: int
    shot_ids: list[int]


class LookOf(Schema):
    """A shot's look."""

    shot_id: int
    look: Look


@router.post("/jobs/{job_id}/looks", response=list[LookOf])
def copy_look_to(request: HttpRequest, job_id: int, payload: CopyLookIn) -> list[LookOf]:
    """Judge many shots under the look of one; the looks that they had."""
    listed = Job.objects.get(pk=job_id).listed_shots
    had = copy_look(listed.get(pk=payload.of), listed.filter(pk__in=payload.shot_ids))
    return [LookOf(shot_id=shot.pk, look=look) for shot, look in had]


@router.put("/jobs/{job_id}/looks", response={204: None})
def set_looks(request: HttpRequest, job_id: int, payload: list[LookOf]) -> tuple[int, None]:
    """Judge many shots each under a look of its own, as to take back a copy."""
    shots = Job.objects.get(pk=job_id).shots.in_bulk([told.shot_id for told in payload])  # type: ignore[attr-defined]
    with transaction.atomic():
        for told in payload:
            if told.shot_id in shots:
                set_look(shots[told.shot_id], told.look)
    return 204, None


@router.get("/shots/{shot_id}/look/noise", response=NoiseUnderLook)
def get_noise_under_look(request: HttpRequest, shot_id: int) -> NoiseUnderLook:
    shot = Shot.objects.get(pk=shot_id)
    report = shot.report
    if report is None:
        raise BadInput(f"{shot.name}: has not been measured; measure it first.")
    return noise_under(shot.shown_under, report.profile)


@router.get("/shots/{shot_id}/look/management", response=Choices)
def get_management(request: HttpRequest, shot_id: int, config: str = "") -> Choices:
    info = MediaInfo.model_validate(Shot.objects.get(pk=shot_id).media)
    if config:
        allowed_folder(config)
    return Choices(spaces=spaces(config), suggested=managed_by_default(encoding_of(info).space))


@router.post("/cdl", response=list[Correction])
def read_cdl(request: HttpRequest, name: str) -> list[Correction]:
    """The corrections of a document, sent as the request's body."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"sent{Path(name).suffix.lower()}"
        path.write_bytes(request.body)
        try:
            return [Correction(id=key, cdl=cdl) for key, cdl in read_cdls(path).items()]
        except BadInput as error:
            raise BadInput(str(error).replace(path.name, Path(name).name)) from error


@router.get("/shots/{shot_id}/look/cdl")
def write_cdl(request: HttpRequest, shot_id: int, ending: str = ".cdl") -> HttpResponse:
    """The look's CDL as a document."""
    shot = Shot.objects.get(pk=shot_id)
    response = HttpResponse(written_cdl(shot.shown_under.cdl, ending, shot.name), content_type="application/xml")
    response["Content-Disposition"] = content_disposition_header(True, f"{shot.name}{ending}") or ""
    return response


@router.get("/shots/{shot_id}/look/cube")
def write_cube(request: HttpRequest, shot_id: int, size: int = 33) -> HttpResponse:
    """The whole look as a 3D LUT."""
    shot = Shot.objects.get(pk=shot_id)
    response = HttpResponse(written_cube(shot.shown_under, size, shot.name), content_type="text/plain")
    response["Content-Disposition"] = content_disposition_header(True, f"{shot.name}_{size}.cube") or ""
    return response


@router.get("/luts", response=list[LutOut])
def list_luts(request: HttpRequest) -> list[Lut]:
    return list(Lut.objects.all())


@router.post("/luts", response=LutOut)
def add_lut(request: HttpRequest, name: str) -> Lut:
    """Add a .cube or .clf file, sent as the request's body."""
    return keep_lut(request.body, Path(name).name, Path(settings.YELLOW_CLEAN.data) / "luts")
