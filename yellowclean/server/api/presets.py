"""Steps that go to other shots: presets, and one plan for many."""

from __future__ import annotations

import contextlib
from typing import Annotated

from django.http import HttpRequest
from ninja import Field, Router, Schema
from pydantic import ValidationError

from ...engine.bounded import Name
from ...engine.errors import BadInput
from ...engine.plan import Step
from ..models import Job, Preset
from ..use_cases import apply_steps
from .schemas import VersionOut
from .shots import told_version

router = Router(tags=["presets"])


class PresetIn(Schema):
    name: Annotated[Name, Field(min_length=1)]
    steps: list[Step] = Field(min_length=1)


class PresetOut(Schema):
    """Steps under a name."""

    id: int
    name: str
    steps: list[Step]


class ApplyIn(Schema):
    """Steps for shots of a job, each of which measures them by its own profile."""

    shot_ids: list[int]
    steps: list[Step] = Field(min_length=1)
    note: str = ""


class Applied(Schema):
    """The versions that were made, and one line for each shot that was refused."""

    versions: list[VersionOut]
    refused: list[str]


@router.get("/presets", response=list[PresetOut])
def list_presets(request: HttpRequest) -> list[PresetOut]:
    """All presets that this release can read."""
    told = []
    for preset in Preset.objects.all():
        with contextlib.suppress(ValidationError):
            told.append(PresetOut.model_validate({"id": preset.pk, "name": preset.name, "steps": preset.steps}))
    return told


@router.post("/presets", response=PresetOut)
def save_preset(request: HttpRequest, payload: PresetIn) -> Preset:
    """Keep steps under a name; one of that name is replaced."""
    if not payload.name.strip():
        raise BadInput("A preset needs a name.")
    steps = [step.model_dump(mode="json") for step in payload.steps]
    return Preset.objects.update_or_create(name=payload.name.strip(), defaults={"steps": steps})[0]


@router.delete("/presets/{preset_id}", response={204: None})
def delete_preset(request: HttpRequest, preset_id: int) -> tuple[int, None]:
    Preset.objects.get(pk=preset_id).delete()
    return 204, None


@router.post("/jobs/{job_id}/apply", response=Applied, by_alias=True)
def apply_to_shots(request: HttpRequest, job_id: int, payload: ApplyIn) -> Applied:
    shots = Job.objects.get(pk=job_id).listed_shots.filter(pk__in=payload.shot_ids)
    made, refused = apply_steps(shots, payload.steps, payload.note)
    return Applied(versions=[told_version(version) for version in made], refused=refused)
