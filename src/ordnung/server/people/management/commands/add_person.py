"""``manage.py add_person NAME``: make a sign-in; the password is asked for, or read from a file."""

from __future__ import annotations

import getpass
import sys
from pathlib import Path

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError
from django.db import transaction

from ordnung.server.audit.trail import append
from ordnung.server.rights.rights import Right, give_rights


class Command(BaseCommand):
    help = "Make a sign-in. Whoever may run this on the machine may give any right."

    def add_arguments(self, parser) -> None:
        parser.add_argument("name")
        parser.add_argument(
            "--right", action="append", choices=[str(r) for r in Right], help="All rights without this."
        )
        parser.add_argument("--password-file", type=Path, help="Read the password from the first line of a file.")

    def handle(self, *, name: str, right: list[str] | None, password_file: Path | None, **options: object) -> None:
        if User.objects.filter(username__iexact=name).exists():
            raise CommandError(f"There is a {name} already.")
        user = User(username=name)
        password = _from_file(password_file) if password_file else _ask()
        try:
            validate_password(password, user)
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from None
        rights = [Right(one) for one in right] if right else list(Right)
        with transaction.atomic():
            user.set_password(password)
            user.save()
            give_rights(user, rights)
            summary = {"rights": [str(one) for one in rights]}
            append(
                who=getpass.getuser(), where="this machine", command="add a person", on={"person": name}, after=summary
            )
        self.stdout.write(f"{name} may sign in, with the rights to {', '.join(rights)}.")


def _from_file(path: Path) -> str:
    try:
        return path.read_text().splitlines()[0]
    except (OSError, IndexError) as error:
        raise CommandError(f"{path}: no password could be read: {error}") from None


def _ask() -> str:
    if not sys.stdin.isatty():
        raise CommandError("There is no terminal to ask for a password. Use --password-file.")
    password = getpass.getpass("Password: ")
    if getpass.getpass("Again: ") != password:
        raise CommandError("The two differ. Nobody was added.")
    return password
