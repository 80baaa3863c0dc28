"""Sign in, sign out, who am I; the people of the site and their rights; sessions."""

from __future__ import annotations

import datetime
import hashlib
import time
from dataclasses import dataclass

from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.middleware.csrf import get_token
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect, ensure_csrf_cookie
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from ordnung.server.api.paging import paged, rows_of
from ordnung.server.audit.recording import client_address, record, recorded, refuse
from ordnung.server.people import pace
from ordnung.server.people.commands import add_person, change_person, demand_password
from ordnung.server.people.sessions import (
    AGENT,
    BEGAN_AT,
    SEEN_AT,
    WHERE,
    begin_session,
    end_session,
    end_sessions,
    sessions_of,
)
from ordnung.server.problems import Problem
from ordnung.server.rights.rights import WORDS, Right, rights_of, who_have
from ordnung.server.shapes import limited, one_of, read, shape, some_of, spelled
from ordnung.server.work.events import newest_event, tell
from ordnung.server.work.hub import HUB

RIGHTS = [str(right) for right in Right]
_NAME = r"^[A-Za-z0-9][A-Za-z0-9._@-]*$"


@dataclass(frozen=True, slots=True, kw_only=True)
class RightHoldersRow:
    right: str = one_of(RIGHTS)
    words: str
    who: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class MeRow:
    name: str | None
    csrf: str
    event: int
    """The newest event: whoever listens after it misses nothing of what is asked from now on."""
    rights: list[str] = some_of(RIGHTS)
    table: list[RightHoldersRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class SignIn:
    name: str = limited(max_length=150)
    password: str = limited(max_length=500, trim_whitespace=False)


def me_row(request: Request) -> MeRow:
    """Who is signed in, what they may do, and who else may do what."""
    user = request._request.user
    known = user.is_authenticated
    holders = who_have() if known else {}
    return MeRow(
        name=user.get_username() if known else None,
        csrf=get_token(request._request),
        event=newest_event(),
        rights=[str(right) for right in Right if right in rights_of(user)],
        table=[RightHoldersRow(right=str(r), words=WORDS[r], who=who) for r, who in holders.items()],
    )


class MeView(APIView):
    @method_decorator(ensure_csrf_cookie)
    @extend_schema(responses=shape(MeRow))
    def get(self, request: Request) -> Response:
        """Who is signed in (null: nobody), what they may do, and the token every write has to carry."""
        return Response(me_row(request))


@method_decorator(csrf_protect, name="dispatch")
class SignInView(APIView):
    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "sign-in"

    @extend_schema(request=shape(SignIn), responses=shape(MeRow))
    def post(self, request: Request) -> Response:
        """Open a session. With each failure the next try has to wait longer, per account and per address."""
        asked = read(SignIn, request)
        name, where = asked.name, client_address(request._request)
        record(who=name)
        wait = pace.wait_for(name, where, time.monotonic())
        if wait > 0:
            raise Problem("too-many-tries", f"Too many tries. The next may be made in {int(wait) + 1} s.", status=429)
        user = authenticate(request._request, username=name, password=asked.password)
        if user is None:
            pace.note_failure(name, where, time.monotonic())
            refuse("that name and password don't go together")
            raise Problem("wrong-credentials", "That name and password don't go together.", status=401)
        pace.note_success(name, where)
        with recorded():
            login(request._request, user)
            begin_session(request._request, where)
        return Response(me_row(request))


class SignOutView(APIView):
    @extend_schema(request=None, responses={204: None})
    def post(self, request: Request) -> Response:
        """End the session."""
        HUB.end(request.session.session_key or "")
        with recorded():
            logout(request._request)
        return Response(status=204)


# One's own


@dataclass(frozen=True, slots=True, kw_only=True)
class Password:
    old_password: str = limited(max_length=500, trim_whitespace=False)
    new_password: str = limited(max_length=500, trim_whitespace=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionRow:
    id: str
    began: datetime.datetime | None
    seen: datetime.datetime | None
    where: str
    agent: str
    own: bool


def _signed_in(request: Request) -> User:
    assert isinstance(request.user, User)
    return request.user


class OwnPasswordView(APIView):
    @extend_schema(request=shape(Password), responses={204: None})
    def post(self, request: Request) -> Response:
        """Change one's own password; one's other sessions end."""
        asked = read(Password, request)
        user = _signed_in(request)
        if not user.check_password(asked.old_password):
            raise Problem("wrong-credentials", "That is not your present password.", field="old_password")
        demand_password(asked.new_password, user)
        user.set_password(asked.new_password)
        user.save(update_fields=["password"])
        update_session_auth_hash(request._request, user)
        record(after={"sessions_ended": end_sessions(user, request.session.session_key)})
        return Response(status=204)


def _session_id(key: str) -> str:
    """What a session is called outside: not what its cookie holds."""
    return hashlib.sha256(f"ordnung session {key}".encode()).hexdigest()[:16]


class OwnSessionsView(APIView):
    @extend_schema(responses=shape(SessionRow)(many=True))
    def get(self, request: Request) -> Response:
        """Where one is signed in."""
        rows = [
            SessionRow(
                id=_session_id(row.session_key),
                began=facts.get(BEGAN_AT),
                seen=facts.get(SEEN_AT),
                where=facts.get(WHERE, ""),
                agent=facts.get(AGENT, ""),
                own=row.session_key == request.session.session_key,
            )
            for row, facts in sessions_of(_signed_in(request))
        ]
        return Response(rows)


class OwnSessionView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, session: str) -> Response:
        """End one of one's sessions."""
        for row, _ in sessions_of(_signed_in(request)):
            if _session_id(row.session_key) == session:
                end_session(row)
                return Response(status=204)
        raise Problem("not-found", "That session is over already.", status=404)


# The people


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonRow:
    name: str
    active: bool
    rights: list[str] = some_of(RIGHTS)
    sessions: int
    last_seen: datetime.datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class NewPerson:
    name: str = spelled(_NAME, max_length=150)
    password: str = limited(max_length=500, trim_whitespace=False)
    rights: list[str] = some_of(RIGHTS, allow_empty=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonChange:
    """``password`` resets it, and ends the person's sessions."""

    active: bool | None = limited(default=None)
    rights: list[str] | None = some_of(RIGHTS, default=None)
    password: str | None = limited(default=None, max_length=500, trim_whitespace=False)


def person_rows() -> list[PersonRow]:
    """Everyone of the site, by name."""
    return [_person_row(user) for user in User.objects.order_by("username").prefetch_related("groups")]


def _person_row(user: User) -> PersonRow:
    sessions, groups = sessions_of(user), {group.name for group in user.groups.all()}
    return PersonRow(
        name=user.get_username(),
        active=user.is_active,
        rights=[str(right) for right in Right if str(right) in groups],
        sessions=len(sessions),
        last_seen=sessions[0][1].get(SEEN_AT) if sessions else user.last_login,
    )


class PeopleView(APIView):
    @paged(PersonRow)
    def get(self, request: Request) -> Response:
        """Everyone of the site, with their rights."""
        return rows_of(request, person_rows())

    @extend_schema(request=shape(NewPerson), responses={201: shape(PersonRow)(many=True)})
    def post(self, request: Request) -> Response:
        """Add a person. The password is the first one; they change it themselves."""
        asked = read(NewPerson, request)
        add_person(asked.name, asked.password, asked.rights)
        return Response(person_rows(), status=201)


class PersonView(APIView):
    @extend_schema(request=shape(PersonChange), responses=shape(PersonRow)(many=True))
    def patch(self, request: Request, name: str) -> Response:
        """Give or take rights, disable or enable, reset the password. Somebody must be left who keeps people."""
        asked = read(PersonChange, request)
        change_person(_find_person(name), active=asked.active, rights=asked.rights, password=asked.password)
        return Response(person_rows())


class PersonSessionsView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """End all sessions of a person."""
        record(after={"sessions_ended": end_sessions(_find_person(name))})
        tell("people")
        return Response(status=204)


def _find_person(name: str) -> User:
    user = User.objects.filter(username=name).first()
    if user is None:
        raise Problem("not-found", f"There is no {name} here.", status=404)
    return user
