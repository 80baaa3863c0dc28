"""What people do with servers: add, change, take out, give credentials, accept certificates."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.db import IntegrityError, transaction
from django.db.models import ProtectedError

from ordnung.formats.addresses import is_host_name
from ordnung.server.audit.recording import record
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Server
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell


def find_server(name: str) -> Server:
    """The server, or a 404 in words."""
    row = Server.objects.filter(name=name).first()
    if row is None:
        raise Problem("not-found", f"There is no server {name}.", status=404)
    return row


def demand_allowed(url: str) -> None:
    """Raises Problem for an address outside the networks that the house allows."""
    try:
        host = urlsplit(url).hostname or ""
    except ValueError:
        raise Problem("bad-address", f"{url[:200]} is no address.", field="url") from None
    if not is_host_name(host) and not settings.NETWORKS.allows(host):
        message = f"{host} is outside the networks this house allows ({settings.NETWORKS.tell()})."
        raise Problem("not-allowed", message, field="url")


def add_server(row: Server, password: str) -> None:
    """Add one server. Raises Problem for an address that is not allowed, or a name that is taken."""
    demand_allowed(row.url)
    row.set_password(password)
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError:
        raise Problem("name-taken", f"There is a server {row.name} already.", field="name") from None
    tell("readings", servers=[row.name])


def change_server(row: Server, values: Mapping[str, Any], person: str) -> None:
    """Change where a server stands, what it is for, or its address, which clears its password.

    Raises:
        Problem: the address is not allowed.
    """
    if not values:
        return
    changed = dict(values)
    before = {key: str(getattr(row, key) or "") for key in changed}
    if changed.get("url", row.url) != row.url:
        demand_allowed(changed["url"])
        row.clear_password("its password was cleared when its address changed; enter it again")
        row.moved_by = person
        row.save(update_fields=["sealed_password", "cleared", "moved_by"])
    if "group" in changed:
        group = changed["group"]
        changed["group"] = Group.objects.get_or_create(name=group)[0] if group else None
    for key, value in changed.items():
        setattr(row, key, value)
    row.save(update_fields=list(changed))
    record(before=before, after={key: str(getattr(row, key) or "") for key in before})
    tell("readings", servers=[row.name])


def remove_server(row: Server) -> None:
    """Take a server out of the house, with its readings. Raises Problem when it stands in the record of a run."""
    name = row.name
    record(before={"url": row.url, "serial": row.serial or ""})
    try:
        with transaction.atomic():
            row.delete()
    except ProtectedError:
        message = f"{name} stands in the record of a run; it can't be taken out."
        raise Problem("in-a-run", message, status=409) from None
    tell("readings", servers=[name])


def keep_credentials(rows: Sequence[Server], user: str, password: str) -> None:
    """Encrypt and keep user and password for every row, or for none."""
    with transaction.atomic():
        for row in rows:
            row.user = user
            row.set_password(password)
            row.save(update_fields=["user", "sealed_password", "cleared"])
        record(on={"servers": [row.name for row in rows]})


def accept_certificates(pairs: Sequence[tuple[Server, str]], person: str) -> None:
    """Trust what was shown, if it is still what the server shows; all or none.

    Where another certificate was trusted before, the password is cleared: it goes to nobody who was not asked for it.

    Raises:
        Problem: a server shows another fingerprint since, or the house wants another person to accept it.
    """
    for row, pin in pairs:
        if pin != row.seen_pin:
            message = f"{row.name} showed another fingerprint since. Look again."
            raise Problem("fingerprint-differs", message, field="pin")
        if "certificates" in settings.TWO_PEOPLE and row.moved_by == person:
            message = (
                f"You changed the address of {row.name}; this house wants another person to accept its certificate."
            )
            raise Problem("second-person", message, status=403)
    names = [row.name for row, _ in pairs]
    with transaction.atomic():
        record(on={"servers": names}, before={row.name: row.pin for row, _ in pairs})
        for row, _ in pairs:
            was_known, row.pin = row.pin is not None, row.seen_pin
            row.forget_failure()
            if was_known:
                row.clear_password("its password was cleared when its certificate changed; enter it again")
                row.cause, row.detail, row.failed_at = "no credentials", row.cleared, now()
            row.save(update_fields=["pin", "sealed_password", "cleared", *row.FAILURE])
        record(after={row.name: row.pin for row, _ in pairs})
        tell("readings", servers=names)


def accept_other_board(row: Server, uuid: str | None, serial: str | None) -> None:
    """What answers is this very server with another board: it is known by that from now on, if it still tells that.

    Raises:
        Problem: it told something else since, or nothing that was unknown.
    """
    if row.cause != "another server" or (row.seen_uuid, row.seen_serial) != (uuid, serial):
        message = f"{row.name} told another UUID or serial since. Look again."
        raise Problem("identity-differs", message, status=409)
    record(
        on={"server": row.name}, before={"uuid": row.uuid or "", "serial": row.serial or ""},
        after={"uuid": uuid or "", "serial": serial or ""},
    )  # fmt: skip
    row.uuid, row.serial = uuid, serial
    row.forget_failure()
    row.save(update_fields=["uuid", "serial", *row.FAILURE])
    tell("readings", servers=[row.name])


def mark_loss_seen(row: Server) -> None:
    """A person has seen what a server has lost: it is taken off the list. The readings keep it."""
    row.lost = []
    row.save(update_fields=["lost"])
    tell("readings", servers=[row.name])
