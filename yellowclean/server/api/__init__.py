"""The HTTP API. `api.urls` is mounted under /api/; its OpenAPI schema gives the web its types."""

from __future__ import annotations

from pathlib import Path

from django.core.exceptions import ObjectDoesNotExist
from django.db.utils import IntegrityError, OperationalError
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import ValidationError

from ...engine.errors import Cancelled, YellowCleanError, line_of
from ..room import no_room
from . import (
    events,
    footage,
    frames,
    jobs,
    looks,
    overwork,
    presets,
    profiles,
    reach,
    reels,
    renders,
    scopes,
    shots,
    stills,
    strips,
)

api = NinjaAPI(title="Yellow Clean", version="1", docs_url=None)
api.add_router("", jobs.router)
api.add_router("", footage.router)
api.add_router("", shots.router)
api.add_router("", frames.router)
api.add_router("", reach.router)
api.add_router("", strips.router)
api.add_router("", looks.router)
api.add_router("", scopes.router)
api.add_router("", stills.router)
api.add_router("", overwork.router)
api.add_router("", presets.router)
api.add_router("", reels.router)
api.add_router("", renders.router)
api.add_router("", profiles.router)
api.add_router("", events.router)

FULL, BUSY = 507, 503
LONGEST_LINE = 800
"""Letters of an answer in words: what is refused may be long."""

NOBODY_WAITS = 499
"""A status that is never seen: the client has gone."""


def _refused(request: HttpRequest, text: str, status: int) -> HttpResponse:
    line = " ".join(text.split())
    told = line if len(line) <= LONGEST_LINE else f"{line[: LONGEST_LINE // 2]} … {line[-LONGEST_LINE // 2 :]}"
    return api.create_response(request, {"detail": told}, status=status)


@api.exception_handler(YellowCleanError)
def _domain_error(request: HttpRequest, error: YellowCleanError) -> HttpResponse:
    return _refused(request, str(error), NOBODY_WAITS if isinstance(error, Cancelled) else 422)


@api.exception_handler(OSError)
def _file_error(request: HttpRequest, error: OSError) -> HttpResponse:
    if isinstance(error, FileNotFoundError | PermissionError):
        return _refused(request, f"{Path(error.filename or 'A file').name}: {error.strerror}.", 404)
    return _refused(request, line_of(error), FULL if no_room(error) else 500)


@api.exception_handler(OperationalError)
def _database_error(request: HttpRequest, error: OperationalError) -> HttpResponse:
    if no_room(error):
        return _refused(request, "The disk of the data folder is full; make room, then do it again.", FULL)
    return _refused(request, "The database is busy; do it again.", BUSY)


@api.exception_handler(IntegrityError)
def _two_at_once(request: HttpRequest, error: IntegrityError) -> HttpResponse:
    return _refused(request, "Somebody else did the same at the same moment; reload the page.", 409)


@api.exception_handler(OverflowError)
def _out_of_range(request: HttpRequest, error: OverflowError) -> HttpResponse:
    """Numbers that no row and no frame can have."""
    return _refused(request, "A number in the request is out of range.", 422)


@api.exception_handler(UnicodeError)
def _no_text(request: HttpRequest, error: UnicodeError) -> HttpResponse:
    return _refused(request, "A text in the request holds characters that cannot be kept.", 422)


@api.exception_handler(ObjectDoesNotExist)
def _missing(request: HttpRequest, error: ObjectDoesNotExist) -> HttpResponse:
    return _refused(request, "It does not exist any more; go back and reload.", 404)


@api.exception_handler(ValidationError)
def _bad_request(request: HttpRequest, error: ValidationError) -> HttpResponse:
    first = error.errors[0]
    place = ".".join(str(part) for part in first["loc"][1:] if part not in {"payload", "document"})
    return _refused(request, f"{place or 'request'}: {first['msg']}.", 422)
