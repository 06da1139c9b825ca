"""Protection of a local application against other pages open in the same browser."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from urllib.parse import urlsplit

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponseBase, JsonResponse

SAFE = {"GET", "HEAD", "OPTIONS"}


class same_origin_writes:  # noqa: N801 (middleware reads like a function)
    """Refuse changes that a page from another origin asks for."""

    async_capable = True
    sync_capable = True

    def __init__(
        self, get_response: Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]]
    ) -> None:
        self.get_response = get_response
        if iscoroutinefunction(get_response):
            markcoroutinefunction(self)

    def __call__(self, request: HttpRequest) -> HttpResponseBase | Awaitable[HttpResponseBase]:
        origin = request.headers.get("Origin")
        if request.method not in SAFE and origin and urlsplit(origin).netloc != request.get_host():
            refused = JsonResponse({"detail": "This request came from another page and was refused."}, status=403)
            return _awaited(refused) if iscoroutinefunction(self) else refused
        return self.get_response(request)


async def _awaited(response: HttpResponseBase) -> HttpResponseBase:
    return response
