"""Sign in, sign out, who am I; the people of the site and their rights; sessions."""

from __future__ import annotations

import hashlib
import time
from typing import Any

from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.middleware.csrf import get_token
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect, ensure_csrf_cookie
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from ordnung.server.audit.recording import client_address, record, recorded, refuse
from ordnung.server.people import pace
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
from ordnung.server.rights.rights import WORDS, Right, give_rights, rights_of, who_has
from ordnung.server.shapes import StrictSerializer
from ordnung.server.work.events import tell
from ordnung.server.work.hub import HUB

RIGHTS = [str(right) for right in Right]
_NAME = r"^[A-Za-z0-9][A-Za-z0-9._@-]*$"


class RightRowSerializer(StrictSerializer):
    right = serializers.ChoiceField(choices=RIGHTS)
    words = serializers.CharField()
    who = serializers.ListField(child=serializers.CharField())


class MeSerializer(StrictSerializer):
    name = serializers.CharField(allow_null=True)
    csrf = serializers.CharField()
    rights = serializers.ListField(child=serializers.ChoiceField(choices=RIGHTS))
    table = RightRowSerializer(many=True)


class SignInSerializer(StrictSerializer):
    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=500, trim_whitespace=False)


def me_row(request) -> dict[str, Any]:
    """Who is signed in, what they may do, and who else may do what."""
    user = request._request.user
    known = user.is_authenticated
    table = [{"right": str(r), "words": WORDS[r], "who": who_has(r)} for r in Right] if known else []
    return {
        "name": user.get_username() if known else None,
        "csrf": get_token(request._request),
        "rights": [str(right) for right in Right if right in rights_of(user)],
        "table": table,
    }


class MeView(APIView):
    @method_decorator(ensure_csrf_cookie)
    @extend_schema(responses=MeSerializer)
    def get(self, request) -> Response:
        """Who is signed in (null: nobody), what they may do, and the token every write has to carry."""
        return Response(MeSerializer(me_row(request)).data)


@method_decorator(csrf_protect, name="dispatch")
class SignInView(APIView):
    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "sign-in"

    @extend_schema(request=SignInSerializer, responses=MeSerializer)
    def post(self, request) -> Response:
        """Open a session. With each failure the next try has to wait longer, per account and per address."""
        body = SignInSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        name, where = body.validated_data["name"], client_address(request._request)
        record(who=name)
        wait = pace.wait_for(name, where, time.monotonic())
        if wait > 0:
            raise Problem("too-many-tries", f"Too many tries. The next may be made in {int(wait) + 1} s.", status=429)
        user = authenticate(request._request, username=name, password=body.validated_data["password"])
        if user is None:
            pace.note_failure(name, where, time.monotonic())
            refuse("that name and password don't go together")
            raise Problem("wrong-credentials", "That name and password don't go together.", status=401)
        pace.note_success(name, where)
        with recorded():
            login(request._request, user)
            begin_session(request._request, where)
        return Response(MeSerializer(me_row(request)).data)


class SignOutView(APIView):
    @extend_schema(request=None, responses={204: None})
    def post(self, request) -> Response:
        """End the session."""
        HUB.end(request.session.session_key or "")
        with recorded():
            logout(request._request)
        return Response(status=204)


# One's own


class PasswordSerializer(StrictSerializer):
    old_password = serializers.CharField(max_length=500, trim_whitespace=False)
    new_password = serializers.CharField(max_length=500, trim_whitespace=False)


class SessionSerializer(StrictSerializer):
    id = serializers.CharField()
    began = serializers.DateTimeField(allow_null=True)
    seen = serializers.DateTimeField(allow_null=True)
    where = serializers.CharField(allow_blank=True)
    agent = serializers.CharField(allow_blank=True)
    own = serializers.BooleanField()


def demand_password(password: str, user: User) -> None:
    """Raises Problem for a password that is too short, common, or like the name."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise Problem("weak-password", " ".join(error.messages), field="new_password") from None


class OwnPasswordView(APIView):
    @extend_schema(request=PasswordSerializer, responses={204: None})
    def post(self, request) -> Response:
        """Change one's own password; one's other sessions end."""
        body = PasswordSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        user = request.user
        if not user.check_password(body.validated_data["old_password"]):
            raise Problem("wrong-credentials", "That is not your present password.", field="old_password")
        demand_password(body.validated_data["new_password"], user)
        user.set_password(body.validated_data["new_password"])
        user.save(update_fields=["password"])
        update_session_auth_hash(request._request, user)
        record(after={"sessions_ended": end_sessions(user, request.session.session_key)})
        return Response(status=204)


def _session_id(key: str) -> str:
    """What a session is called outside: not what its cookie holds."""
    return hashlib.sha256(f"ordnung session {key}".encode()).hexdigest()[:16]


class OwnSessionsView(APIView):
    @extend_schema(responses=SessionSerializer(many=True))
    def get(self, request) -> Response:
        """Where one is signed in."""
        rows = [
            {
                "id": _session_id(row.session_key),
                "began": facts.get(BEGAN_AT),
                "seen": facts.get(SEEN_AT),
                "where": facts.get(WHERE, ""),
                "agent": facts.get(AGENT, ""),
                "own": row.session_key == request.session.session_key,
            }
            for row, facts in sessions_of(request.user)
        ]
        return Response(SessionSerializer(rows, many=True).data)


class OwnSessionView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request, session: str) -> Response:
        """End one of one's sessions."""
        for row, _ in sessions_of(request.user):
            if _session_id(row.session_key) == session:
                end_session(row)
                return Response(status=204)
        raise Problem("not-found", "That session is over already.", status=404)


# The people


class PersonRowSerializer(StrictSerializer):
    name = serializers.CharField()
    active = serializers.BooleanField()
    rights = serializers.ListField(child=serializers.ChoiceField(choices=RIGHTS))
    sessions = serializers.IntegerField()
    last_seen = serializers.DateTimeField(allow_null=True)


class NewPersonSerializer(StrictSerializer):
    name = serializers.RegexField(_NAME, max_length=150)
    password = serializers.CharField(max_length=500, trim_whitespace=False)
    rights = serializers.ListField(child=serializers.ChoiceField(choices=RIGHTS), allow_empty=False)


class PersonChangeSerializer(StrictSerializer):
    """``password`` resets it, and ends the person's sessions."""

    active = serializers.BooleanField(required=False)
    rights = serializers.ListField(child=serializers.ChoiceField(choices=RIGHTS), required=False)
    password = serializers.CharField(max_length=500, trim_whitespace=False, required=False)


def person_rows() -> list[dict[str, Any]]:
    """Everyone of the site, by name."""
    return [
        {
            "name": user.get_username(),
            "active": user.is_active,
            "rights": [str(r) for r in Right if str(r) in {group.name for group in user.groups.all()}],
            "sessions": len(open_now := sessions_of(user)),
            "last_seen": open_now[0][1].get(SEEN_AT) if open_now else user.last_login,
        }
        for user in User.objects.order_by("username").prefetch_related("groups")
    ]


class PeopleView(APIView):
    @extend_schema(responses=PersonRowSerializer(many=True))
    def get(self, request) -> Response:
        """Everyone of the site, with their rights."""
        return Response(PersonRowSerializer(person_rows(), many=True).data)

    @extend_schema(request=NewPersonSerializer, responses={201: PersonRowSerializer(many=True)})
    def post(self, request) -> Response:
        """Add a person. The password is the first one; they change it themselves."""
        body = NewPersonSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        asked = body.validated_data
        if User.objects.filter(username__iexact=asked["name"]).exists():
            raise Problem("name-taken", f"There is a {asked['name']} already.", field="name")
        user = User(username=asked["name"])
        demand_password(asked["password"], user)
        user.set_password(asked["password"])
        user.save()
        give_rights(user, [Right(right) for right in asked["rights"]])
        record(on={"person": asked["name"]}, after={"rights": asked["rights"]})
        tell("people")
        return Response(PersonRowSerializer(person_rows(), many=True).data, status=201)


class PersonView(APIView):
    @extend_schema(request=PersonChangeSerializer, responses=PersonRowSerializer(many=True))
    def patch(self, request, name: str) -> Response:
        """Give or take rights, disable or enable, reset the password. Somebody must be left who keeps people."""
        body = PersonChangeSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        asked, user = body.validated_data, _find_person(name)
        before = {"active": user.is_active, "rights": sorted(str(right) for right in _rights(user))}
        if "password" in asked:
            demand_password(asked["password"], user)
            user.set_password(asked["password"])
        user.is_active = asked.get("active", user.is_active)
        user.save()
        if "rights" in asked:
            give_rights(user, [Right(right) for right in asked["rights"]])
        if not who_has(Right.KEEP):
            raise Problem("last-keeper", "Somebody must be left who keeps people. Nothing was changed.", status=409)
        if "password" in asked or not user.is_active:
            end_sessions(user)
        record(before=before, after={"active": user.is_active, "rights": sorted(str(right) for right in _rights(user))})
        tell("people")
        return Response(PersonRowSerializer(person_rows(), many=True).data)


class PersonSessionsView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request, name: str) -> Response:
        """End all sessions of a person."""
        record(after={"sessions_ended": end_sessions(_find_person(name))})
        tell("people")
        return Response(status=204)


def _rights(user: User) -> list[Right]:
    names = set(user.groups.values_list("name", flat=True))
    return [right for right in Right if str(right) in names]


def _find_person(name: str) -> User:
    user = User.objects.filter(username=name).first()
    if user is None:
        raise Problem("not-found", f"There is no {name} here.", status=404)
    return user
