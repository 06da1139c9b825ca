"""Sign-in with Django's own accounts, for use beyond one's own machine."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.contrib.auth import logout
from django.contrib.auth.middleware import LoginRequiredMiddleware
from django.contrib.auth.views import LoginView
from django.http import HttpRequest, HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

sign_in = LoginView.as_view(template_name="sign_in.html", redirect_authenticated_user=True, next_page="/")


@require_POST
def sign_out(request: HttpRequest) -> HttpResponse:
    """End the session. The middleware of our own has seen to it that a page of ours asked."""
    logout(request)
    return redirect("/sign-in/")


class SignInRequired(LoginRequiredMiddleware):
    """Pages ask for a sign-in; the API answers 401 in words."""

    def process_view(
        self, request: HttpRequest, view_func: Callable[..., Any], args: Any, kwargs: Any
    ) -> HttpResponseBase | None:
        refused = super().process_view(request, view_func, args, kwargs)
        if refused is None or not request.path.startswith("/api/"):
            return refused
        return JsonResponse({"detail": "You are not signed in any more; sign in, then do it again."}, status=401)
