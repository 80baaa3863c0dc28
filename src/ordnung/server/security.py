"""What every answer carries, and who may ask."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponse
from django.utils.decorators import sync_and_async_middleware
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework.authentication import SessionAuthentication
from rest_framework.request import Request


@sync_and_async_middleware
def kept_by_nobody(get_response: Callable[[HttpRequest], Any]) -> Callable[[HttpRequest], Any]:
    """What the API says is kept by nobody on the way."""
    if iscoroutinefunction(get_response):

        async def asynchronous(request: HttpRequest) -> HttpResponse:
            return _mark(request, await get_response(request))

        return markcoroutinefunction(asynchronous)

    def synchronous(request: HttpRequest) -> HttpResponse:
        return _mark(request, get_response(request))

    return synchronous


def _mark(request: HttpRequest, response: HttpResponse) -> HttpResponse:
    if request.path.startswith("/api/"):
        kept = "private, no-cache" if "ETag" in response.headers else "no-store"
        response.headers.setdefault("Cache-Control", kept)
    return response


class SessionOnly(SessionAuthentication):
    """Session sign-in with CSRF; unlike the default it answers 401 with a challenge, not 403."""

    def authenticate_header(self, request: Request) -> str:
        return 'Session realm="ordnung"'


class SessionScheme(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    """How the contract describes the session."""

    target_class = "ordnung.server.security.SessionOnly"
    name = "session"

    def get_security_definition(self, auto_schema: object) -> dict[str, str]:
        return {"type": "apiKey", "in": "cookie", "name": "ordnung-session"}
