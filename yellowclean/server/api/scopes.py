"""Scopes of a frame: source and result together."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from ninja import Query, Router, Schema

from ...engine.format import Format
from ...engine.frames import Frame, StopCheck
from ...engine.judge.chromaticity import EXTENT, outlines, rungs, white
from ...engine.judge.scopes import BIN_CV, HIGHEST_CV, LOWEST_CV, Trace, histogram, traced, vector_targets
from ..views import content_of, pipeline_for, png
from .frames import PlaceQuery, Subject, answered, check_key, looked_up, unless_gone

router = Router(tags=["scopes"])


class ScopeQuery(PlaceQuery):
    """Which scope, of which place; the result's trace only where a version is named."""

    kind: Trace = "waveform"


class HistogramOut(Schema):
    """Pixels by level for R', G', B' and luma, from the lowest level of the axis on."""

    source: list[list[int]]
    result: list[list[int]] | None


class Target(Schema):
    """Where a colour lies, from -0.5 to 0.5."""

    cb: float
    cr: float


class RungOut(Schema):
    """A line across a scope, and what is written beside it."""

    level_cv: float
    label: str


class DiagramOut(Schema):
    """A diagram of chromaticities: how far it reaches, white, and corners of gamuts by name."""

    extent: list[float]
    white: list[float]
    outlines: dict[str, list[list[float]]]


class ScopeAxes(Schema):
    """What the scopes' axes mean: ends and bin of the level axis in code values, its lines in their unit, where the
    colours lie, and what the values that are shown are in."""

    lowest_cv: int
    highest_cv: int
    bin_cv: int
    unit: str
    rungs: list[RungOut]
    targets: dict[str, Target]
    diagrams: dict[str, DiagramOut]
    space: str


@router.get("/shots/{shot_id}/scopes", response=ScopeAxes)
async def get_axes(request: HttpRequest, shot_id: int, query: Query[PlaceQuery]) -> ScopeAxes:
    targets = {name: Target(cb=cb, cr=cr) for name, (cb, cr) in vector_targets().items()}
    space = _space(await looked_up(shot_id, query))
    unit, lines = rungs(space)
    return ScopeAxes(
        lowest_cv=LOWEST_CV, highest_cv=HIGHEST_CV, bin_cv=BIN_CV, unit=unit, targets=targets, space=space,
        rungs=[RungOut(level_cv=rung.level_cv, label=rung.label) for rung in lines],
        diagrams={
            name: DiagramOut(
                extent=list(EXTENT[name]), white=list(white(name)),
                outlines={key: [list(corner) for corner in line] for key, line in outlines(name).items()},
            )
            for name in EXTENT
        },
    )  # fmt: skip


def _space(subject: Subject) -> str:
    """What the values that the scopes look at are in: the result's, as the look shows them."""
    encoding = subject.plan.formats(Format.of(subject.shot.info))[-1].encoding
    return subject.look.leaves(encoding).space or encoding.space


@router.get("/shots/{shot_id}/scope")
async def get_scope(request: HttpRequest, shot_id: int, query: Query[ScopeQuery]) -> HttpResponse:
    """A scope as grey PNG: the source's trace darker, the result's in white over it."""
    subject = await looked_up(shot_id, query)
    of_source = query.version_id is None and query.still_id is None
    check_key(query, subject.shot, "" if of_source else content_of(subject.plan), subject.look)
    space = _space(subject)

    def drawn(stopped: StopCheck) -> bytes:
        return png(traced(query.kind, *_sides(subject, query, stopped), space))

    return answered(await unless_gone(drawn), query)


@router.get("/shots/{shot_id}/histogram", response=HistogramOut)
async def get_histogram(request: HttpRequest, shot_id: int, query: Query[PlaceQuery]) -> HistogramOut:
    subject = await looked_up(shot_id, query)

    def counted(stopped: StopCheck) -> HistogramOut:
        source, result = _sides(subject, query, stopped)
        return HistogramOut(
            source=histogram(source).tolist(), result=None if result is None else histogram(result).tolist()
        )

    return await unless_gone(counted)


def _sides(subject: Subject, query: PlaceQuery, stopped: StopCheck) -> tuple[Frame, Frame | None]:
    """Source and result at a place, under the look; the source as it is brought into the result's format."""
    pipeline = pipeline_for(subject.shot, subject.plan, stopped)
    look = pipeline.seen_under(subject.look)
    source = look.applied(pipeline.reference.frame(query.n, query.part))
    if not subject.plan.steps:
        return source, None
    return source, look.applied(pipeline.frame(query.n, query.part))
