"""Progress as server-sent events. The worker is another process; the database is what both see."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections import deque
from collections.abc import AsyncIterator
from datetime import datetime, timedelta
from pathlib import Path

from asgiref.sync import sync_to_async
from django.db import connection
from django.http import HttpRequest, StreamingHttpResponse
from django.utils import timezone
from ninja import Router

from ..models import Render, Survey
from .schemas import EventWork

router = Router(tags=["events"])

LOOK_EVERY = 0.4
HEARTBEAT = 15.0
TOLD = "shot_id", "state", "progress", "started", "message"
RECENT = timedelta(minutes=2)
"""Work that ended this long before the stream began is told as well."""


@router.get("/jobs/{job_id}/events", response=EventWork)
async def job_events(request: HttpRequest, job_id: int) -> StreamingHttpResponse:
    """A stream of the states of the job's surveys and renders, each sent when it changes."""
    response = StreamingHttpResponse(_changes(job_id), content_type="text/event-stream")
    response["Cache-Control"] = "no-store"
    return response


async def _changes(job_id: int) -> AsyncIterator[bytes]:
    told: dict[tuple[str, int], str] = {}
    since = timezone.now() - RECENT
    quiet, database = 0.0, _Database()
    yield b"retry: 2000\n\n"
    while True:
        news = b""
        for work in await _states(job_id, since) if database.written() else ():
            text = work.model_dump_json()
            if told.get((work.kind, work.id)) != text:
                told[work.kind, work.id] = text
                news += f"data: {json.dumps(json.loads(text))}\n\n".encode()
        quiet = 0.0 if news else quiet + LOOK_EVERY
        if news:
            yield news
        elif quiet >= HEARTBEAT:
            quiet = 0.0
            yield b": still here\n\n"
        await asyncio.sleep(LOOK_EVERY)


class _Database:
    """Tells whether the database was written, by its files: where nothing happens a look costs no query."""

    def __init__(self) -> None:
        self._name = str(connection.settings_dict["NAME"])
        self._seen: deque[object] = deque([None, None], maxlen=2)

    def written(self) -> bool:
        """Whether it was since the look before last: what is written in the same tick of the clock as a look shows
        at the next one."""
        now = [_stamp(Path(f"{self._name}{part}")) for part in ("", "-wal")]
        quiet = all(now == seen for seen in self._seen)
        self._seen.append(now)
        return not quiet


def _stamp(file: Path) -> tuple[int, int] | None:
    with contextlib.suppress(FileNotFoundError):
        status = file.stat()
        return status.st_mtime_ns, status.st_size
    return None


@sync_to_async
def _states(job_id: int, since: datetime) -> list[EventWork]:
    """All work that waits or runs, and what has ended since."""
    return [
        EventWork(
            kind=kind.__name__.lower(),
            id=work.pk,
            shot_id=work.shot_id,
            state=work.state,
            progress=round(work.progress, 3),
            started=work.started,
            message=work.message,
        )
        for kind in (Survey, Render)
        for work in kind.objects.filter(shot__job=job_id).active_or_ended_since(since).only(*TOLD)
    ]
