"""Errors of the API as RFC 9457 problem documents with a stable ``type`` and a sentence for people."""

from __future__ import annotations

import secrets
import sys
from collections.abc import Sequence
from typing import Any

import structlog
from django.core.exceptions import DisallowedHost, PermissionDenied, RequestDataTooBig
from django.db import OperationalError
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from rest_framework import exceptions
from rest_framework.response import Response

from ordnung.formats.errors import Fault, FormatError
from ordnung.store import RepositoryError

log = structlog.get_logger()


class Problem(exceptions.APIException):
    """A refusal with a stable code, a sentence, and what it concerns; ``faults`` lists everything wrong with a file."""

    def __init__(
        self, code: str, detail: str, *, status: int = 422, field: str | None = None, faults: Sequence[Fault] = ()
    ) -> None:
        self.code, self.status_code, self.field, self.faults = code, status, field, faults
        super().__init__(detail, code)


def problem_response(code: str, detail: str, status: int) -> HttpResponse:
    """A problem document for what is refused before a view is reached."""
    body = {"type": f"ordnung:{code}", "title": code.replace("-", " "), "status": status, "detail": detail}
    return JsonResponse(body, status=status, content_type="application/problem+json")


def not_found(request: HttpRequest, exception: Exception | None = None) -> HttpResponse:
    """Nothing is at that address."""
    return problem_response("not-found", "There is nothing at that address.", 404)


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    """What Django itself refuses: a host that is not ours, a body that is too large."""
    if isinstance(exception, RequestDataTooBig):
        return problem_response("too-large", "The request is larger than this address takes.", 413)
    if isinstance(exception, DisallowedHost):
        return problem_response("wrong-host", "This site does not go by that name.", 400)
    return problem_response("bad-request", "That is not a request this site understands.", 400)


def forbidden(request: HttpRequest, reason: str = "", exception: Exception | None = None) -> HttpResponse:
    """A write without the token of its page."""
    return problem_response("no-token", "The request did not carry the token of its page. Load the page again.", 403)


def server_error(request: HttpRequest) -> HttpResponse:
    """An error of our own, with the id by which the log has it; or what is kept can't be read or written just now."""
    error = sys.exc_info()[1]
    if isinstance(error, OperationalError):
        log.error("the database can't be read or written", path=request.path, why=str(error))
        message = f"Ordnung can't read or write its records just now ({error}). Nothing of this request was kept."
        answer = problem_response("records-out", message, 503)
        answer.headers["Retry-After"] = "10"
        return answer
    number = secrets.token_hex(4)
    log.error("request failed by an error of our own", id=number, path=request.path, exc_info=sys.exc_info())
    message = f"Ordnung met an error of its own; the log has it under {number}. Nothing of this request was kept."
    return problem_response("own-error", message, 500)


def handle(error: Exception, context: object) -> Response | None:
    """DRF's exception handler: known errors become problem documents, unknown ones stay errors."""
    if isinstance(error, FormatError):
        error = Problem("format", str(error), field=error.place or None, faults=error.faults)
    elif isinstance(error, RepositoryError):
        error = Problem(f"payload-{error.code.replace(' ', '-')}", str(error), field=error.file)
    elif isinstance(error, Http404):
        error = Problem("not-found", "There is nothing by that name.", status=404)
    elif isinstance(error, PermissionDenied):
        error = exceptions.PermissionDenied()
    if not isinstance(error, exceptions.APIException):
        return None
    return _respond(error)


def _respond(error: exceptions.APIException) -> Response:
    field = getattr(error, "field", None)
    detail = error.detail
    if isinstance(detail, dict):
        field, detail = next(iter(detail.items()))
    if isinstance(detail, list):
        detail = detail[0]
    code = str(getattr(error, "code", None) or error.default_code)
    body: dict[str, Any] = {
        "type": f"ordnung:{code}",
        "title": code.replace("-", " ").replace("_", " "),
        "status": error.status_code,
        "detail": str(detail),
    }
    if field is not None:
        body["field"] = str(field)
    if isinstance(error, Problem) and error.faults:
        body["faults"] = [{"place": fault.place, "what": fault.what} for fault in error.faults]
    headers = {}
    challenge, wait = getattr(error, "auth_header", None), getattr(error, "wait", None)
    if challenge:
        headers["WWW-Authenticate"] = challenge
    if wait:
        headers["Retry-After"] = str(int(wait) + 1)
    return Response(body, status=error.status_code, headers=headers, content_type="application/problem+json")
