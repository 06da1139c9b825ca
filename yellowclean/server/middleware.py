"""Protection of a local application against other pages open in the same browser."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from urllib.parse import urlsplit

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.core.exceptions import DisallowedHost
from django.http import HttpRequest, HttpResponse, HttpResponseBase, JsonResponse

SAFE = {"GET", "HEAD", "OPTIONS"}

HEADERS = {
    # styles stand in elements where a figure decides them; scripts are files of ours alone
    "Content-Security-Policy": (
        "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:;"
        " object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    ),
    "Cross-Origin-Resource-Policy": "same-origin",
    "Referrer-Policy": "same-origin",
    "X-Content-Type-Options": "nosniff",
}
"""Of every answer, files of the page too. W3C Content Security Policy level 3; Fetch standard, section 3.7."""

Answer = HttpResponseBase | Awaitable[HttpResponseBase]


class own_pages_alone:  # noqa: N801 (middleware reads like a function)
    """Refuse requests to other hosts' names, and changes that a page from another origin asks for; tell the browser
    what pages of ours may do."""

    async_capable = True
    sync_capable = True

    def __init__(self, get_response: Callable[[HttpRequest], Answer]) -> None:
        self.get_response = get_response
        if iscoroutinefunction(get_response):
            markcoroutinefunction(self)

    def __call__(self, request: HttpRequest) -> Answer:
        refused = _refusal(request)
        answer = self.get_response(request) if refused is None else refused
        if iscoroutinefunction(self):
            return _sealed_later(answer)
        assert isinstance(answer, HttpResponseBase)
        return _sealed(answer)


def _refusal(request: HttpRequest) -> HttpResponse | None:
    try:
        host = request.get_host()
    except DisallowedHost:
        return HttpResponse("This name is not one of this application's.", status=400, content_type="text/plain")
    if request.method in SAFE:
        return None
    origin, site = request.headers.get("Origin"), request.headers.get("Sec-Fetch-Site", "same-origin")
    if (origin and urlsplit(origin).netloc != host) or (not origin and site not in {"same-origin", "none"}):
        return JsonResponse({"detail": "This request came from another page and was refused."}, status=403)
    return None


async def _sealed_later(answer: Answer) -> HttpResponseBase:
    return _sealed(answer if isinstance(answer, HttpResponseBase) else await answer)


def _sealed(answer: HttpResponseBase) -> HttpResponseBase:
    for name, value in HEADERS.items():
        answer.headers[name] = value
    return answer
