"""Sessions of people: where they are open, when they end, and ending them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import structlog
from django.conf import settings
from django.contrib.auth import logout
from django.contrib.auth.base_user import AbstractBaseUser
from django.contrib.auth.models import User
from django.contrib.sessions.backends.base import UpdateError
from django.contrib.sessions.models import Session
from django.db import OperationalError
from django.http import HttpRequest, HttpResponseBase
from django.utils import timezone

from ordnung.server.clock import now as clock_now
from ordnung.server.rights.rights import Right, rights_of
from ordnung.server.work.hub import HUB

log = structlog.get_logger()
BEGAN, SEEN = "began", "seen"
"""In real seconds: sessions end by these, however fast the site's clock runs."""
BEGAN_AT, SEEN_AT, WHERE, AGENT = "began_at", "seen_at", "where", "agent"
"""What is shown of a session, its times by the site's clock."""
EVERY_S = 60.0
"""How often it is written down that a session is in use."""


class SessionEnds:
    """Middleware: a session that is idle for too long, or too old, is over."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        return self.get_response(request)

    def process_view(self, request: HttpRequest, view: object, args: object, kwargs: object) -> None:
        """Look at the session before anything is done with it."""
        if not request.user.is_authenticated:
            return
        now = timezone.now().timestamp()
        began, seen = request.session.get(BEGAN), request.session.get(SEEN)
        if began is None or seen is None:
            begin_session(request, "")
            return
        if now - seen > settings.SESSION_IDLE.total_seconds() or now - began > settings.SESSION_LONGEST.total_seconds():
            logout(request)
        elif now - seen > EVERY_S and getattr(view, "is_stream", False) is False:
            _touch(request, {SEEN: now, SEEN_AT: clock_now().isoformat()})


def _touch(request: HttpRequest, seen: dict[str, object]) -> None:
    """Note that it is in use. Who only looks may do so too while nothing can be kept."""
    request.session.update(seen)
    try:
        request.session.save()
    except UpdateError as error:
        if isinstance(error.__context__, OperationalError):
            log.warning("that a session is in use can't be kept", why=str(error.__context__))
            request.session.modified = False


def begin_session(request: HttpRequest, where: str) -> None:
    """Note when and from where a session was opened."""
    now, at = timezone.now().timestamp(), clock_now().isoformat()
    values = {BEGAN_AT: at, SEEN_AT: at, WHERE: where, AGENT: request.headers.get("User-Agent", "")[:200]}
    request.session.update({BEGAN: now, SEEN: now, **values})


def sessions_of(user: AbstractBaseUser) -> list[tuple[Session, dict[str, Any]]]:
    """The open sessions of a person, with what was noted of them."""
    found = []
    for row in Session.objects.filter(expire_date__gt=timezone.now()):
        facts = row.get_decoded()
        if facts.get("_auth_user_id") == str(user.pk):
            found.append((row, facts))
    return sorted(found, key=lambda pair: -float(pair[1].get(SEEN) or 0))


def end_session(row: Session) -> None:
    """End a session, and the event streams that it has open."""
    HUB.end(row.session_key)
    row.delete()


def is_open(session: str) -> bool:
    """Whether a session goes on, and its person may look still."""
    row = Session.objects.filter(session_key=session, expire_date__gt=timezone.now()).first()
    number = row.get_decoded().get("_auth_user_id") if row is not None else None
    user = User.objects.filter(pk=number).first() if number is not None else None
    return user is not None and Right.LOOK in rights_of(user)


def end_sessions(user: AbstractBaseUser, but: str | None = None) -> int:
    """End the sessions of a person, except perhaps one; how many that were."""
    ended = [row for row, _ in sessions_of(user) if row.session_key != but]
    for row in ended:
        end_session(row)
    return len(ended)
