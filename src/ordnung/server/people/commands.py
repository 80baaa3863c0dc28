"""What is done with people: add, change, their own password."""

from __future__ import annotations

from collections.abc import Collection

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError

from ordnung.server.audit.recording import record
from ordnung.server.people.sessions import end_sessions
from ordnung.server.problems import Problem
from ordnung.server.rights.rights import Right, give_rights, who_has
from ordnung.server.work.events import tell


def demand_password(password: str, user: User) -> None:
    """Raises Problem for a password that is too short, common, or like the name."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise Problem("weak-password", " ".join(error.messages), field="new_password") from None


def add_person(name: str, password: str, rights: Collection[str]) -> None:
    """Add a person. The password is the first one; they change it themselves.

    Raises:
        Problem: the name is taken, or the password weak.
    """
    if User.objects.filter(username__iexact=name).exists():
        raise Problem("name-taken", f"There is a {name} already.", field="name")
    user = User(username=name)
    demand_password(password, user)
    user.set_password(password)
    user.save()
    give_rights(user, [Right(right) for right in rights])
    record(on={"person": name}, after={"rights": list(rights)})
    tell("people")


def change_person(user: User, *, active: bool | None, rights: Collection[str] | None, password: str | None) -> None:
    """Give or take rights, disable or enable, reset the password, which ends the sessions; None changes nothing.

    Raises:
        Problem: the password is weak, or nobody would be left who keeps people; then nothing is changed.
    """
    before = {"active": user.is_active, "rights": sorted(str(right) for right in _rights(user))}
    if password is not None:
        demand_password(password, user)
        user.set_password(password)
    user.is_active = user.is_active if active is None else active
    user.save()
    if rights is not None:
        give_rights(user, [Right(right) for right in rights])
    if not who_has(Right.KEEP):
        raise Problem("last-keeper", "Somebody must be left who keeps people. Nothing was changed.", status=409)
    if password is not None or not user.is_active:
        end_sessions(user)
    record(before=before, after={"active": user.is_active, "rights": sorted(str(right) for right in _rights(user))})
    tell("people")


def _rights(user: User) -> list[Right]:
    names = set(user.groups.values_list("name", flat=True))
    return [right for right in Right if str(right) in names]
