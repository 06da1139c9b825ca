"""Shots that were made of another one: the scenes of a long file, the fields of interlaced frames, and what was
written, standing in for its source.

As long as there are any, the shot that they came of is not listed; it keeps its plans and renders, and comes back
when they are taken back.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import Literal

from django.conf import settings
from django.db import transaction

from ..engine.colour.input_space import encoding_of
from ..engine.errors import BadInput
from ..engine.measure.fields import order_of
from ..engine.media import Lines
from ..engine.reel.note import second_generation
from ..engine.reel.scenes import scene_names, scenes
from .models import Render, Shot, State
from .use_cases import add_shot, delete_shot, request_survey


def cut_into_scenes(shot: Shot, cuts: Sequence[int]) -> list[Shot]:
    """A shot for each scene, in the place of the whole. Raises `BadInput`."""
    check_listed(shot)
    if shot.fields:
        raise BadInput(f"{shot.name}: cut it before its fields become frames; take it back first.")
    pieces = scenes(shot.info.frames, cuts)
    begin = shot.first or 0
    with transaction.atomic():
        made = []
        for name, piece in zip(scene_names(shot.name, len(pieces)), pieces, strict=True):
            frames = range(begin + piece.start, begin + piece.stop)
            scene = add_shot(shot.job, Path(shot.path), name[:255], frames)
            _take_after(scene, shot)
            scene.look = shot.look
            scene.save()
            made.append(scene)
    if settings.YELLOW_CLEAN.measure_added:
        for scene in made:
            request_survey(scene)
    return made


def fields_as_frames(shot: Shot, first: Lines | Literal["measured"]) -> Shot:
    """An interlaced shot with each field as a frame, in the place of the one with two woven into each. Raises
    `BadInput`."""
    check_listed(shot)
    if shot.fields:
        raise BadInput(f"{shot.name}: each of its fields is a frame already.")
    if shot.placed:
        raise BadInput(f"{shot.name}: its timeline counts the frames of its file; use the step Interlace.")
    shot.require_footage()
    if first == "measured":
        with closing(shot.opened()) as woven:
            first = order_of(woven.info.frames, woven.luma)
    with transaction.atomic():
        made = add_shot(shot.job, Path(shot.path), shot.name, shot.frames, first)
        _take_after(made, shot)
        made.look = shot.look
        made.save()
    request_survey(made)
    return made


def stand_in(render: Render) -> Shot:
    """What was written as a shot of its own in the place of its source, a generation further. Raises `BadInput`
    where it does not hold all that the source's event plays."""
    shot = render.shot
    check_listed(shot)
    if render.state != State.DONE or not render.path:
        raise BadInput(f"{shot.name}: the render is not finished; wait for it.")
    with transaction.atomic():
        made = add_shot(shot.job, Path(render.path), shot.name)
        _take_after(made, shot)
        made.generation = shot.generation + 1
        place, missing = shot.placed, shot.info.frames - render.stop
        if place is None and (render.first or missing):
            raise BadInput(f"{shot.name}: {Path(render.path).name} does not hold all of it; render it whole.")
        if place:
            place = place.model_copy(update={"head": place.head - render.first, "tail": place.tail - missing})
            if min(place.head, place.tail) < 0:
                raise BadInput(
                    f"{shot.name}: {Path(render.path).name} does not hold all of its event; render it whole."
                )
            made.timeline, made.place = shot.timeline, place.model_dump()
        if render.plan.look.plain:
            before, after = encoding_of(shot.info).space, encoding_of(made.info).space
            made.look = shot.shown_under.behind(before, after).model_dump(mode="json")
        made.save()
    request_survey(made)
    return made


def _take_after(made: Shot, shot: Shot) -> None:
    made.origin, made.space, made.generation = shot, shot.space, shot.generation
    made.position = shot.position  # scenes sort by name within it


def check_listed(shot: Shot) -> None:
    """Refuse to touch a shot that others were made of. Raises `BadInput`."""
    if shot.derived.exists():  # type: ignore[attr-defined]
        raise BadInput(f"{shot.name}: others were made of it already; take them back first.")


def made_of(shot: Shot) -> str:
    """What a shot was made of, in words; empty for one that came in."""
    if shot.generation:
        return f"written result as source, {second_generation(shot.generation)}"
    if shot.fields:
        return f"each field a frame, {shot.fields} lines first"
    return f"scene of {shot.origin.name}" if shot.origin else ""


def take_back(shot: Shot, *, sure: bool = False) -> Shot:
    """Remove what was made of a shot, or with it, and list the shot again. Raises `BadInput` where plans would be
    lost that were made since, unless that is wanted."""
    origin = shot.origin
    if origin is None:
        raise BadInput(f"{shot.name}: was not made of another shot; there is nothing to take back.")
    made = list(origin.derived.all())  # type: ignore[attr-defined]
    further = [each.name for each in made if each.derived.exists()]
    if further:
        raise BadInput(f"{further[0]}: others were made of it; take those back first.")
    plans = sum(each.versions.count() for each in made)
    if plans and not sure:
        raise BadInput(f"{shot.name}: {plans} {'plan' if plans == 1 else 'plans'} made since would be lost.")
    for each in made:
        delete_shot(each)
    return origin
