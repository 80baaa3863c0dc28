"""What a person asks for is recorded as it is done: command, result and change stand or fall together."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Any

import structlog
from django.conf import settings
from django.db import connection, transaction
from django.http import HttpRequest, HttpResponseBase

from ordnung.server.audit.trail import append
from ordnung.server.rights.commands import Command, command_of

log = structlog.get_logger()
MOST_BODY = 256 * 1024
"""A longer body is not kept as what was asked."""
QUIET = frozenset({401, 429})
"""Answers to those who did not sign in: they would fill the trail. Sign-ins are recorded where they are tried."""


@dataclass
class Draft:
    """An entry that is about to be written: what its command adds to it on the way."""

    command: Command
    who: str
    where: str
    on: dict[str, Any] = field(default_factory=dict)
    asked: dict[str, Any] = field(default_factory=dict)
    before: dict[str, Any] = field(default_factory=dict)
    after: dict[str, Any] = field(default_factory=dict)
    detail: str = ""
    is_written: bool = False

    def write(self, result: str = "done", detail: str = "") -> None:
        """Put it on the trail now, within the transaction that is open."""
        append(
            who=self.who, where=self.where, command=self.command.name, on=self.on, asked=self.asked,
            before=self.before, after=self.after, result=result, detail=detail or self.detail,
        )  # fmt: skip
        self.is_written = True


_current: ContextVar[Draft | None] = ContextVar("audit_draft", default=None)


def record(
    *,
    on: Mapping[str, Any] | None = None,
    before: Mapping[str, Any] | None = None,
    after: Mapping[str, Any] | None = None,
    who: str | None = None,
    detail: str | None = None,
) -> None:
    """Say more of the command under way: what it is about, how that stood before, how it stands now."""
    draft = _current.get()
    if draft is None:
        return
    draft.on.update(on or {})
    draft.before.update(before or {})
    draft.after.update(after or {})
    draft.who = who if who is not None else draft.who
    draft.detail = detail if detail is not None else draft.detail


@contextmanager
def recorded(*, first: bool = False) -> Iterator[None]:
    """One transaction with the entry of the command under way: for commands that are not ``whole``.

    Args:
        first: the entry is written before the change, which is one of files and can't be taken back.
    """
    with transaction.atomic():
        if first:
            _write_once()
        yield
        _write_once()


def _write_once() -> None:
    draft = _current.get()
    if draft is not None and draft.command.recorded and not draft.command.whole and not draft.is_written:
        draft.write()


def client_address(request: HttpRequest) -> str:
    """From where a request came: as far as declared proxies vouch for it, never by what a stranger writes."""
    direct = str(request.META.get("REMOTE_ADDR") or "")
    hops = [part.strip() for part in request.META.get("HTTP_X_FORWARDED_FOR", "").split(",") if part.strip()]
    if not settings.PROXIES or not hops:
        return direct
    return str(hops[-min(settings.PROXIES, len(hops))])[:100]


def tell_late(command: str) -> None:
    """A command that is not whole forgot its entry: an error of ours, which the tests don't bear."""
    log.error("a command wrote no entry in the audit trail by itself", command=command)


def refuse(detail: str) -> None:
    """Put the refusal of the command under way on the trail at once: its answer is not recorded by itself."""
    draft = _current.get()
    if draft is not None and not draft.is_written:
        draft.write("refused", detail)


UNDONE: list[Callable[[], None]] = []
"""What has to be forgotten when a transaction that changed something was rolled back."""


class Recording:
    """Middleware, the last before the view: it runs the view and records what came of it."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        return self.get_response(request)

    def process_view(
        self, request: HttpRequest, view: Callable[..., HttpResponseBase], args: list[Any], kwargs: dict[str, Any]
    ) -> HttpResponseBase | None:
        """The view's answer, recorded; None for what is not of the API and for the event stream."""
        command = command_of(request)
        if command is None or getattr(view, "is_stream", False):
            return None
        draft = _draft(request, command, kwargs)
        token = _current.set(draft)
        try:
            return _carry_out(draft, lambda: view(request, *args, **kwargs))
        finally:
            _current.reset(token)


def _carry_out(draft: Draft, view: Callable[[], HttpResponseBase]) -> HttpResponseBase:
    try:
        is_whole = draft.command.recorded and draft.command.whole
        answer = _as_a_whole(draft, view) if is_whole else view()
    except Exception as error:
        if draft.command.recorded:
            draft.write("failed", f"an error of our own: {type(error).__name__}")
        raise
    _settle(draft, answer)
    return answer


def _as_a_whole(draft: Draft, view: Callable[[], HttpResponseBase]) -> HttpResponseBase:
    with transaction.atomic():
        before = _changes()
        answer = view()
        if answer.status_code < 400:
            draft.write()
            return answer
        transaction.set_rollback(True)
    if _changes() != before:
        for forget in UNDONE:
            forget()
    return answer


def _changes() -> int:
    """Rows changed over this connection so far, rolled back or not."""
    raw = connection.connection
    return int(raw.total_changes) if raw is not None else 0


def _settle(draft: Draft, answer: HttpResponseBase) -> None:
    """Refusals are entries too, also of those who only wanted to read."""
    is_refused = answer.status_code >= 400
    if is_refused and answer.status_code not in QUIET and (draft.command.recorded or answer.status_code == 403):
        draft.write("refused", _why(answer))
    elif draft.command.recorded and not is_refused and not draft.is_written:
        tell_late(draft.command.name)
        draft.write(detail="entered after it was done, by an error of ours")


def _why(answer: HttpResponseBase) -> str:
    data = getattr(answer, "data", None)
    return str(data.get("detail", "")) if isinstance(data, Mapping) else f"status {answer.status_code}"


def _draft(request: HttpRequest, command: Command, kwargs: Mapping[str, Any]) -> Draft:
    who = request.user.get_username() if request.user.is_authenticated else ""
    on = {_named(request, name): str(value) for name, value in kwargs.items() if name != "order"}
    return Draft(command=command, who=who, where=client_address(request), on=on, asked=_asked(request, command))


def _named(request: HttpRequest, name: str) -> str:
    """What a part of an address is called in the trail: the thing it names, not its place."""
    route = request.resolver_match.route if request.resolver_match else ""
    place = route.removeprefix("api/v1/").split("/")[0]
    thing = _THINGS.get(place, place.removesuffix("s"))
    known = {"name": "server" if "servers/" in route else thing, "pk": thing}
    return known.get(name, name)


_THINGS = {"people": "person", "repositories": "repository", "away": "server", "searches": "search"}
"""What the places of the API are about, where it is not their name without an s."""


def _asked(request: HttpRequest, command: Command) -> dict[str, Any]:
    """The body of a JSON request; other bodies are told by their length. Nothing is read of what is too long."""
    if not command.recorded or not command.whole:
        return {}
    length = int(request.META.get("CONTENT_LENGTH") or 0)
    if not (request.content_type or "").startswith("application/json"):
        return {"bytes": length} if length else {}
    if not length or length > MOST_BODY:
        return {"bytes": length} if length else {}
    try:
        body = json.loads(request.body)
    except (ValueError, RecursionError):
        return {}
    return body if isinstance(body, dict) else {"items": body}
