"""A request that comes again is answered again, not done again (Idempotency-Key, an IETF draft of the HTTP API group).

Whoever loses the line while a run is started doesn't know whether it was: with the same key the request may be sent
once more. Without a key everything is as ever.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable

from django.db import IntegrityError
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.urls import Resolver404, resolve
from django.utils import timezone
from django.utils.crypto import salted_hmac

from ordnung.server.people.models import KeptAnswer
from ordnung.server.problems import problem_response
from ordnung.server.rights.commands import find_command

KEPT = datetime.timedelta(days=1)
MOST_KEY, MOST_BODY = 100, 1024 * 1024


class Repeats:
    """Middleware: looks for the key of a POST, and keeps what was answered to it."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        """Do it once."""
        key = request.headers.get("Idempotency-Key", "")
        if request.method != "POST" or not key or not _does_something(request) or not request.user.is_authenticated:
            return self.get_response(request)
        if len(key) > MOST_KEY or not key.isprintable():
            return problem_response("bad-key", f"An Idempotency-Key has {MOST_KEY} characters at most.", 400)
        person, asked = request.user.get_username(), _fingerprint(request)
        try:
            row = KeptAnswer.objects.create(person=person, key=key, asked=asked, at=timezone.now())
        except IntegrityError:
            return _again(KeptAnswer.objects.filter(person=person, key=key).first(), asked)
        try:
            answer = self.get_response(request)
        except BaseException:
            row.delete()
            raise
        _keep(row, answer)
        return answer


def _does_something(request: HttpRequest) -> bool:
    """Questions that come by POST may be asked as often as one likes; answers about oneself (tokens) are not kept."""
    try:
        command = find_command(resolve(request.path_info).route, "POST")
    except Resolver404:
        return False
    return command is not None and command.recorded and command.right is not None


def _fingerprint(request: HttpRequest) -> str:
    """Keyed: a body may hold a password, which nobody shall find out by trying."""
    lines = [f"{request.method} {request.get_full_path()}".encode()]
    if (request.content_type or "").startswith("application/json"):
        lines.append(request.body)
    else:
        lines.append(f"{request.content_type} {request.headers.get('Content-Length', '')}".encode())
    return salted_hmac("ordnung repeats", b"\n".join(lines), algorithm="sha256").hexdigest()


def _again(row: KeptAnswer | None, asked: str) -> HttpResponse:
    if row is not None and row.asked != asked:
        return problem_response("other-request", "This Idempotency-Key was used for another request.", 422)
    if row is None or row.status is None:
        message = "The same request is being carried out, or was cut off. Look how things stand before you ask again."
        return problem_response("under-way", message, 409)
    answer = HttpResponse(bytes(row.body), status=row.status, content_type=row.kind)
    answer.headers["Idempotent-Replayed"] = "true"
    return answer


def _keep(row: KeptAnswer, answer: HttpResponseBase) -> None:
    """What was refused was not done: it may be asked again. What is too large to keep stays as under way."""
    if answer.status_code >= 400:
        row.delete()
    elif isinstance(answer, HttpResponse) and len(answer.content) <= MOST_BODY:
        row.status, row.body, row.kind = answer.status_code, answer.content, answer.headers.get("Content-Type", "")
        row.save(update_fields=["status", "body", "kind"])


def forget_answers() -> None:
    """Forget answers that are a day old."""
    KeptAnswer.objects.filter(at__lt=timezone.now() - KEPT).delete()
