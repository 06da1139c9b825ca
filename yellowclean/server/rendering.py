"""Renders: asked for, kept in order, held back, started again; and what they will take."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from statistics import median

from django.conf import settings
from django.db import models, transaction
from django.utils import timezone

from ..engine.cost import Cost, cost
from ..engine.delivery import DeliveryReport
from ..engine.disk import check_room
from ..engine.errors import BadInput
from ..engine.frames import StopCheck
from ..engine.judge.overwork import Overwork
from ..engine.media import OUTPUT_FORMATS, Destination
from ..engine.media.dither import How
from ..engine.media.formats import OutputFormat, output_format
from ..engine.plan import Plan
from ..engine.reel.naming import named
from ..engine.reel.wanted import Wanted, room_needed
from ..engine.reel.work import values_for
from ..engine.render import check_grain, frames_in, told_of_result
from .models import Job, PlanVersion, Render, Shot, State

RECENT = 30
"""Finished renders from which it is told what the next will take."""

LEAST_SHARE = 0.02
"""Share of a render from which on its own pace says how long it will take."""


def request_render(
    version: PlanVersion, format_name: str, frames: tuple[int, int] | None = None, wanted: Wanted | None = None,
    *, bake_look: bool = False, dither: How = "moving", known: Experience | None = None,
) -> Render:  # fmt: skip
    """Queue a render of a version as it is now, at the end of the queue. Without `wanted` its name tells shot,
    version, format and frames, and it lies in the application's own folder. For many of them what is `known` of
    finished ones is looked up once. Raises `BadInput` where it cannot be written, or would fill the disk."""
    shot, fmt = version.shot, output_format(format_name)
    shot.require_footage()
    check_grain(version.plan, fmt)
    chosen = frames_in(shot.info, range(*frames) if frames else None)
    values = values_for(shot.job.name, shot.name, version.label, fmt, shot.info, chosen, shot.placed)
    whole = f"{{shot}}_{{version}}_{{format}}_{chosen.start}-{chosen.stop - 1}"
    asked = wanted or Wanted(template=whole, bake_look=bake_look, dither=dither)
    folder = delivery_folder(asked.folder)
    render = Render(
        shot=shot,
        label=version.label,
        document=version.document | {"dither": asked.dither} | ({"look": shot.look} if asked.bake_look else {}),
        format=format_name,
        name=named(asked.template, values),
        out=str(folder / named("{job}", values) / fmt.name) if folder else "",
        first=chosen.start,
        stop=chosen.stop,
        judging=wanted is not None,  # a delivery says what was damaged; on the Bench it is asked for
        rank=(Render.objects.aggregate(last=models.Max("rank"))["last"] or 0) + 1,
    )
    _check_name(render, fmt)
    check_room(folder or settings.YELLOW_CLEAN.data, (known or Experience()).room_for(render))
    render.save()
    _enqueue(render)
    return render


def _enqueue(render: Render) -> None:
    from .tasks import run_render  # noqa: PLC0415 (tasks import this module)

    transaction.on_commit(lambda: run_render.enqueue(render.pk))


def delivery_folder(asked: str) -> Path | None:
    """One of the folders that results may be delivered into; None for the application's own. Raises `BadInput`."""
    if not asked:
        return None
    folder = Path(asked)
    if folder not in settings.YELLOW_CLEAN.delivery_folders:
        raise BadInput(f"{asked}: is no delivery folder; name it in YELLOW_CLEAN_DELIVERY_FOLDERS.")
    if not folder.is_dir():
        raise BadInput(f"{asked}: does not exist; create it, or choose another delivery folder.")
    return folder


def _check_name(render: Render, fmt: OutputFormat) -> None:
    """Refuse a name under which another result, of whatever shot, lies in a delivery folder or will."""
    if not render.out:
        return
    check_free(render)
    taken = Render.objects.filter(out=render.out, name=render.name, format=render.format)
    other = taken.exclude(shot=render.shot, first=render.first, stop=render.stop).select_related("shot").first()
    if other:
        raise BadInput(
            f"{render.name}{fmt.ending}: is the name of {other.shot.name} too; add {{shot}} or {{event}}."
        )
    path = render.target_path
    if not taken.exists() and (path.exists() or ("#" in path.name and path.parent.exists())):
        raise BadInput(f"{path}: is there already, and not from here; choose another name or folder.")


def check_free(render: Render) -> None:
    """Refuse to touch a file that stands in for its source. Raises `BadInput`."""
    if Shot.objects.filter(path=str(render.target_path)).exists():
        raise BadInput(f"{render.target_path.name}: stands in for its source; take that back first.")


@dataclass(frozen=True, slots=True)
class _Done:
    """What a finished render took."""

    format: str
    kinds: list[str]
    size: tuple[int, int]
    seconds_a_frame: float | None
    bytes_a_pixel: float | None


class Experience:
    """What the last finished renders took here, looked up once, and what others will by it."""

    def __init__(self) -> None:
        done = Render.objects.filter(state=State.DONE).select_related("shot").order_by("-pk")[:RECENT]
        self._done = [_told(render) for render in done]

    def room_for(self, render: Render) -> int:
        """Bytes on disk that a render will still take while it is written."""
        fmt, result = OUTPUT_FORMATS[render.format], told_of_result(render.shot.info, render.plan)
        seen = [d.bytes_a_pixel for d in self._done if d.format == render.format and d.bytes_a_pixel]
        whole = room_needed(fmt, result, render.stop - render.first, max(seen) if seen else None)
        return round(whole * (1 - render.progress))

    def seconds_left(self, render: Render) -> float | None:
        """How long a render will still take by itself: by how far it has come, else by those of the same steps on
        shots of the same size; None where that cannot be told."""
        if render.state == State.RUNNING and render.started and render.progress > LEAST_SHARE:
            spent = (timezone.now() - render.started).total_seconds()
            return spent * (1 / render.progress - 1)
        kinds, size = _kinds(render.plan), _size(render.shot)
        alike = [d.seconds_a_frame for d in self._done if (d.kinds, d.size) == (kinds, size) and d.seconds_a_frame]
        return median(alike) * (render.stop - render.first) * (1 - render.progress) if alike else None


def _told(render: Render) -> _Done:
    report, frames = render.report or {}, render.stop - render.first
    media = report.get("media")
    pixels = media["width"] * media["height"] * report["frames"] if media else 0
    seconds = (render.finished - render.started).total_seconds() if render.finished and render.started else None
    return _Done(
        format=render.format, kinds=_kinds(render.plan), size=_size(render.shot),
        seconds_a_frame=seconds / frames if seconds is not None else None,
        bytes_a_pixel=report["size_bytes"] / pixels if pixels and report.get("size_bytes") else None,
    )  # fmt: skip


def _kinds(plan: Plan) -> list[str]:
    return [step.kind for step in plan.steps if step.acts]


def _size(shot: Shot) -> tuple[int, int]:
    return shot.info.width, shot.info.height


def judged_already(render: Render) -> Overwork | None:
    """What the same plan was found to damage on the same frames, when they were written in another format."""
    alike = Render.objects.filter(shot=render.shot, first=render.first, stop=render.stop, state=State.DONE)
    digest = render.plan.digest()
    for other in alike.exclude(pk=render.pk):
        if other.report and other.report.get("overwork") and other.plan.digest() == digest:
            return DeliveryReport.model_validate(other.report).overwork
    return None


def set_order(ids: Sequence[int]) -> None:
    """Put waiting renders into an order; others keep their places behind them."""
    waiting = {r.pk: r for r in Render.objects.filter(state=State.QUEUED)}
    rest = sorted((r for pk, r in waiting.items() if pk not in ids), key=lambda r: (r.rank, r.pk))
    ordered = [waiting[pk] for pk in dict.fromkeys(ids) if pk in waiting] + rest
    for rank, render in enumerate(ordered, 1):
        Render.objects.filter(pk=render.pk).update(rank=rank)


def hold(render: Render) -> None:
    """Hold a render back; what it has made of its file stays."""
    if render.active:
        Render.objects.filter(pk=render.pk).update(paused=True)
        render.refresh_from_db()


def go_on(render: Render) -> None:
    """Let a render that was held back take its place again, or start one again that failed or was stopped."""
    if render.state in {State.FAILED, State.CANCELLED}:
        changed = {"state": State.QUEUED, "message": "", "attempts": 0, "finished": None}
        if render.state == State.CANCELLED:  # nothing of it was kept
            changed |= {"progress": 0.0}
    elif render.paused:
        changed = {}
    else:
        return
    check_room(Path(render.out) if render.out else settings.YELLOW_CLEAN.data, Experience().room_for(render))
    Render.objects.filter(pk=render.pk).update(**changed, paused=False, cancel_requested=False)
    render.refresh_from_db()
    _enqueue(render)


def delete_render(render: Render) -> None:
    """Forget a render, with all that is unfinished, and its file where that lies in the application's own folder.
    Raises `BadInput` while it runs."""
    if render.active:
        raise BadInput("The render is still running; cancel it first.")
    check_free(render)
    shutil.rmtree(render.folder, ignore_errors=True)
    Destination(render.target_path, OUTPUT_FORMATS[render.format]).discard()
    render.delete()


def wanted_of(job: Job) -> Wanted:
    """How the shots of a job are to be written."""
    return Wanted.model_validate(job.wanted)


def cost_of(version: PlanVersion, n: int, stopped: StopCheck) -> Cost:
    """What a frame of a version costs here, from frame `n` on. Raises `BadInput`."""
    shot = version.shot
    shot.require_footage()
    with closing(shot.opened()) as source:
        return cost(source, version.plan, n, stopped=stopped)
