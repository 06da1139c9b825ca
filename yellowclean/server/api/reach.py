"""Where a step acts: sampling colours, shapes at a frame, and what a Reach is made of."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router

from ...engine.frames import Region, never
from ...engine.reach import Cleanup, Detail, HueSample, Shape, Tones, sampled_hue
from ..models import PlanVersion
from ..views import pipeline_for
from .schemas import HueIn, PartsSchema

router = Router(tags=["reach"])

SAMPLED_PX = 13
"""Side of the square whose colour is sampled."""

PARTS = (Tones, HueSample, Shape, Detail, Cleanup)


@router.post("/versions/{version_id}/steps/{step}/hue", response=HueSample)
def sample_hue(request: HttpRequest, version_id: int, step: int, payload: HueIn) -> HueSample:
    """The hue at a place, as a sample for the step's Reach."""
    version = PlanVersion.objects.select_related("shot").get(pk=version_id)
    half = SAMPLED_PX // 2
    place = Region(round(payload.x) - half, round(payload.y) - half, SAMPLED_PX, SAMPLED_PX)
    piece = pipeline_for(version.shot, version.plan, never).before(step, payload.n, place)
    return sampled_hue(piece, remove=payload.remove)


@router.get("/versions/{version_id}/steps/{step}/shapes", response=list[list[list[float]]])
def shapes_at(request: HttpRequest, version_id: int, step: int, n: int) -> list[list[list[float]]]:
    """The points of each shape of the step's Reach at frame `n`, in source pixels."""
    reach = PlanVersion.objects.get(pk=version_id).plan.step(step).reach
    return [shape.points_at(n).tolist() for shape in reach.shapes]


@router.get("/reach", response=PartsSchema)
def reach_parameters(request: HttpRequest) -> PartsSchema:
    """The JSON schemas of a Reach's parts, from which its controls are drawn."""
    return PartsSchema(parts={part.__name__.lower(): part.model_json_schema() for part in PARTS})
