"""Renders: asked for, watched, cancelled, downloaded."""

from __future__ import annotations

import asyncio
import zipfile
from collections.abc import AsyncIterator, Iterator
from pathlib import Path

from django.http import HttpRequest, StreamingHttpResponse
from django.utils.http import content_disposition_header
from ninja import Field, Router, Schema

from ...engine.cost import Cost
from ...engine.errors import BadInput
from ...engine.media import files_of
from ..models import PlanVersion, Render, State
from ..rendering import Experience, cost_of, go_on, hold, request_render, set_order
from ..rendering import delete_render as forget
from ..tuning import Tuning, tune
from ..use_cases import cancel
from .frames import unless_gone
from .schemas import RenderIn, RenderOut

router = Router(tags=["renders"])

CHUNK = 1 << 20


def told_render(render: Render, known: Experience | None = None) -> RenderOut:
    """A render; for many of them what is `known` of finished ones is looked up once."""
    known = known or Experience() if render.active else None
    return RenderOut(
        id=render.pk,
        state=render.state,
        progress=render.progress,
        started=render.started,
        message=render.message,
        cancel_requested=render.cancel_requested,
        shot_id=render.shot_id,
        shot_name=render.shot.name,
        label=render.label,
        format=render.format,
        first=render.first,
        stop=render.stop,
        created=render.created,
        file_name=Path(render.path).name,
        report=render.report,
        name=render.name,
        out=render.out,
        paused=render.paused,
        finished=render.finished,
        needed_bytes=known.room_for(render) if known else None,
        seconds_left=known.seconds_left(render) if known else None,
    )


@router.get("/jobs/{job_id}/renders", response=list[RenderOut])
def list_renders(request: HttpRequest, job_id: int) -> list[RenderOut]:
    renders = Render.objects.filter(shot__job=job_id).select_related("shot").order_by("rank", "pk")
    known = Experience()
    return [told_render(render, known) for render in renders]


@router.post("/renders", response=RenderOut)
def start_render(request: HttpRequest, payload: RenderIn) -> RenderOut:
    version = PlanVersion.objects.select_related("shot").get(pk=payload.version_id)
    frames = None
    if payload.first is not None or payload.stop is not None:
        count = version.shot.media["frames"]
        frames = (payload.first or 0, count if payload.stop is None else payload.stop)
    render = request_render(version, payload.format, frames, bake_look=payload.bake_look, dither=payload.dither)
    return told_render(render)


@router.get("/renders/{render_id}", response=RenderOut)
def get_render(request: HttpRequest, render_id: int) -> RenderOut:
    return told_render(Render.objects.select_related("shot").get(pk=render_id))


@router.post("/renders/{render_id}/cancel", response=RenderOut)
def cancel_render(request: HttpRequest, render_id: int) -> RenderOut:
    render = Render.objects.select_related("shot").get(pk=render_id)
    cancel(render)
    return told_render(render)


@router.delete("/renders/{render_id}", response={204: None})
def delete_render(request: HttpRequest, render_id: int) -> tuple[int, None]:
    forget(Render.objects.get(pk=render_id))
    return 204, None


class OrderIn(Schema):
    """Waiting renders, the next first."""

    ids: list[int] = Field(max_length=10_000)


@router.post("/render-order", response={204: None})
def order_renders(request: HttpRequest, payload: OrderIn) -> tuple[int, None]:
    """Put waiting renders into another order."""
    set_order(payload.ids)
    return 204, None


@router.post("/renders/{render_id}/pause", response=RenderOut)
def pause_render(request: HttpRequest, render_id: int) -> RenderOut:
    """Hold a render back; what it has made stays."""
    render = Render.objects.select_related("shot").get(pk=render_id)
    hold(render)
    return told_render(render)


@router.post("/renders/{render_id}/go-on", response=RenderOut)
def continue_render(request: HttpRequest, render_id: int) -> RenderOut:
    """Let a render go on that was held back, failed or was stopped."""
    render = Render.objects.select_related("shot").get(pk=render_id)
    go_on(render)
    return told_render(render)


@router.get("/renders/{render_id}/file")
def download(request: HttpRequest, render_id: int) -> StreamingHttpResponse:
    """The rendered file; a sequence comes as one uncompressed ZIP."""
    render = Render.objects.get(pk=render_id)
    path = Path(render.path)
    if render.state != State.DONE:
        raise BadInput("The render is not finished; wait for it.")
    try:
        files = files_of(path)
    except BadInput:
        raise BadInput(f"{path.name}: is no longer where it was written; render it again.") from None
    if "#" in path.name:
        name = path.name.replace("_####", "").rsplit(".", 1)[0] + ".zip"
        response = StreamingHttpResponse(_sent(_zipped(files)), content_type="application/zip")
    else:
        name = path.name
        response = StreamingHttpResponse(_sent(_read(path)), content_type="application/octet-stream")
        response["Content-Length"] = str(path.stat().st_size)
    response["Content-Disposition"] = content_disposition_header(True, name) or ""
    return response


async def _sent(chunks: Iterator[bytes]) -> AsyncIterator[bytes]:
    """Chunks made in a thread, so that a slow disk holds up nobody else."""
    while (chunk := await asyncio.to_thread(next, chunks, None)) is not None:
        yield chunk


def _read(path: Path) -> Iterator[bytes]:
    with path.open("rb") as stream:
        while chunk := stream.read(CHUNK):
            yield chunk


class _Pipe:
    """A write-only file that hands its bytes on."""

    def __init__(self) -> None:
        self.chunks: list[bytes] = []

    def write(self, data: bytes) -> int:
        self.chunks.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        """Nothing is held back."""

    def taken(self) -> bytes:
        data = b"".join(self.chunks)
        self.chunks.clear()
        return data


def _zipped(files: list[Path]) -> Iterator[bytes]:
    """A ZIP made while it is sent, one file in memory at most."""
    pipe = _Pipe()
    with zipfile.ZipFile(pipe, "w", zipfile.ZIP_STORED) as archive:  # type: ignore[call-overload]
        for file in files:
            archive.write(file, file.name)
            yield pipe.taken()
    yield pipe.taken()


@router.post("/versions/{version_id}/tune", response=Tuning)
async def tune_machine(request: HttpRequest, version_id: int) -> Tuning:
    """Try on a version how many processes and threads render fastest here, and keep it for the next start."""
    version = await PlanVersion.objects.select_related("shot").aget(pk=version_id)
    return await unless_gone(lambda stopped: tune(version, stopped))


@router.post("/versions/{version_id}/cost", response=Cost)
async def tell_cost(request: HttpRequest, version_id: int, n: int = 0) -> Cost:
    """What a frame of a version costs on this machine, step by step, by short trials from frame `n` on."""
    version = await PlanVersion.objects.select_related("shot").aget(pk=version_id)
    return await unless_gone(lambda stopped: cost_of(version, n, stopped))
