"""Routes: the API, and the single-page application for everything else."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path

from .api import api


def application_page(request: HttpRequest) -> HttpResponse:
    """The built web application; its own router reads the address."""
    page = settings.WEB_DIST / "index.html"
    if not page.is_file():
        return HttpResponse(
            "The web application is not built; run make demo.", status=503, content_type="text/plain"
        )
    response = HttpResponse(page.read_bytes(), content_type="text/html")
    response["Cache-Control"] = "no-cache"
    return response


urlpatterns = [
    path("api/", api.urls),
    re_path(r"^(?!api/|static/).*$", application_page),
]
