"""What people may do: five rights, given to each person by name. Nobody has one that was not given."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import Any


class Right(StrEnum):
    """A right. Each is a group of the same name in Django's own tables; a person is in one or several."""

    LOOK = "look"
    PLAN = "plan"
    RUN = "run"
    APPROVE = "approve"
    KEEP = "keep"


WORDS: dict[Right, str] = {
    Right.LOOK: "read everything, and export it",
    Right.PLAN: "survey, try the reach, draft baselines, pack repositories, lay out run sheets, say what is left out",
    Right.RUN: "start, hold, go on, stop, let a wave go, end a window later, override, answer, count back, take back",
    Right.APPROVE: "approve sheets, decide baseline revisions, trust keys, roots, certificates, accept an expired seal",
    Right.KEEP: "servers, groups, windows, limits, addresses, credentials, sources, uploads, the store, people",
}
"""What each right allows, for people."""


def rights_of(user: Any) -> frozenset[Right]:
    """The rights of a person; nobody's, of one who is not signed in or was disabled. Asked once per request."""
    if not user.is_authenticated or not user.is_active:
        return frozenset()
    known: frozenset[Right] | None = getattr(user, "known_rights", None)
    if known is None:
        names = set(user.groups.values_list("name", flat=True))
        known = frozenset(right for right in Right if right in names)
        user.known_rights = known
    return known


def give_rights(user: Any, rights: Iterable[Right]) -> None:
    """Make these the rights of a person, instead of those there were."""
    from django.contrib.auth.models import Group

    user.groups.set([Group.objects.get_or_create(name=str(right))[0] for right in rights])


def who_has(right: Right) -> list[str]:
    """The people who have a right, by name: whom to ask."""
    return who_have()[right]


def who_have() -> dict[Right, list[str]]:
    """The people who have each of the rights, by name."""
    from django.contrib.auth.models import User

    people = User.objects.filter(is_active=True, groups__name__in=list(Right)).order_by("username")
    pairs = list(people.values_list("groups__name", "username"))
    return {right: [name for group, name in pairs if group == right] for right in Right}
