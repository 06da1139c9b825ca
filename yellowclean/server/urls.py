"""Routes: the API, and the single-page application for everything else."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path
from django.utils.html import escape

from .api import api
from .sign_in import sign_in, sign_out


def application_page(request: HttpRequest) -> HttpResponse:
    """The built web application; its own router reads the address."""
    page = settings.WEB_DIST / "index.html"
    if not page.is_file():
        return HttpResponse(
            "The web application is not built; run make demo.", status=503, content_type="text/plain"
        )
    user = getattr(request, "user", None)
    text = page.read_text()
    if user is not None and user.is_authenticated:
        text = text.replace('<div id="app"', f'<div id="app" data-user="{escape(user.get_username())}"', 1)
    response = HttpResponse(text, content_type="text/html")
    response["Cache-Control"] = "no-cache"
    return response


urlpatterns = [
    path("sign-in/", sign_in),
    path("sign-out/", sign_out),
    path("api/", api.urls),
    re_path(r"^(?!api/|static/).*$", application_page),
]
