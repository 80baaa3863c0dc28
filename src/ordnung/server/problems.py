"""Errors of the API as RFC 9457 problem documents with a stable ``type`` and a sentence for people."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django.core.exceptions import PermissionDenied
from django.http import Http404
from rest_framework import exceptions
from rest_framework.response import Response

from ordnung.formats.errors import Fault, FormatError
from ordnung.repository import RepositoryError


class Problem(exceptions.APIException):
    """A refusal with a stable code, a sentence, and what it concerns; ``faults`` lists everything wrong with a file."""

    def __init__(
        self, code: str, detail: str, *, status: int = 422, field: str | None = None, faults: Sequence[Fault] = ()
    ) -> None:
        self.code, self.status_code, self.field, self.faults = code, status, field, faults
        super().__init__(detail, code)


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
