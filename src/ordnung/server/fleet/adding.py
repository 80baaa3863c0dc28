"""Adding servers: what a person gives is looked at first, and what answered is added as it was picked."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass

from django.conf import settings
from django.db import transaction

from ordnung.formats.addresses import Address, is_host_name, parse_addresses
from ordnung.formats.server_list import NAME, Row, parse_server_list
from ordnung.server.apart import apart
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Search, SearchRow, Server
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for

_FACTS = ("name", "room", "rack", "unit", "height", "group", "role")
KEPT = datetime.timedelta(hours=1)
"""How long the password of a search is kept for adding what it found."""


def begin_search(addresses: str, table: str, *, listen: bool, user: str, password: str) -> Search:
    """Put a look at addresses, a list or the network before the engine. Nothing of the house changes.

    Raises:
        FormatError: the list is none.
        Problem: there is nothing to look at, or no network to search is set.
    """
    if listen and not settings.SSDP:
        why = "No network to search is set. Set ORDNUNG_SSDP to our own address on the management network."
        raise Problem("not-set", why, field="listen")
    rows = [] if listen else _rows(addresses, table)
    with recorded():
        what = "the network" if listen else f"{len(rows)} addresses"
        search = Search(asked_at=now(), what=what, user=user, is_listening=listen)
        search.set_password(password)
        search.save()
        forget_passwords(search)
        for row in rows:
            row.search = search
        SearchRow.objects.bulk_create(rows)
        to_look_at = sum(row.state == SearchRow.State.ASKED for row in rows)
        ask_for("search", f"Looking at {what}", to_look_at, "addresses", {"search": search.pk})
    return search


def forget_passwords(but: Search) -> None:
    """Keep no password of a search that is long over."""
    old = Search.objects.exclude(pk=but.pk).filter(asked_at__lt=now() - KEPT).exclude(sealed_password=b"")
    old.update(sealed_password=b"")


def _rows(addresses: str, table: str) -> list[SearchRow]:
    if table.strip():
        listed = apart(parse_server_list, "list", table.encode(), "list")
        return [_from_list(row) for row in listed]
    found = [_allowed(SearchRow(url=a.url), a) for a in parse_addresses(addresses)]
    if not found:
        raise Problem("nothing-to-look-at", "Give an address, a range, a network, or a list.", field="addresses")
    outside = [row for row in found if row.faults]
    if len(outside) == len(found):
        raise Problem("not-allowed", f"{outside[0].url}: {outside[0].faults[0]}", field="addresses")
    return found


def _from_list(row: Row) -> SearchRow:
    facts = {name: getattr(row, name) for name in _FACTS} | {"tags": list(row.tags)}
    url = row.address.url if row.address else ""
    made = SearchRow(url=url, line=row.line, facts=facts, faults=list(row.faults))
    if row.address is not None:
        _allowed(made, row.address)
    if made.faults:
        made.refuse()
    return made


def _allowed(row: SearchRow, address: Address) -> SearchRow:
    if not is_host_name(address.host) and not settings.NETWORKS.allows(address.host):
        row.refuse(f"outside the networks this house allows ({settings.NETWORKS.tell()})")
    return row


def proposed_name(row: SearchRow) -> str:
    """What the server would be called: as listed, as it calls itself, else by its address."""
    if row.known:
        return row.known
    for name in (row.facts.get("name"), row.host_name):
        if name and NAME.match(name):
            return name
    return row.url.removeprefix("https://").replace("[", "").replace("]", "").replace(":", "-")


@dataclass(frozen=True, slots=True, kw_only=True)
class RefusedRow:
    id: int
    name: str
    why: str


def add_found(search: Search, picks: Mapping[int, str], adding: Adding, *, whole: bool) -> list[str]:
    """Add the picked rows of a search, by name; their names come back. ``whole``: all of them or none.

    Raises:
        Problem: all or none was asked for, and one is refused.
    """
    rows = list(search.rows.filter(pk__in=list(picks)).order_by("line", "pk"))
    with transaction.atomic():
        for row in rows:
            adding.take(row, picks[row.pk])
        if whole and adding.refused:
            first = adding.refused[0]
            why = f"{first.name}: {first.why} Nothing was added, as all or nothing was asked for."
            raise Problem("not-whole", why, field="rows")
        names = [*adding.added, *adding.followed]
        record(on={"servers": names})
        if not search.rows.addable().filter(added=None).exists():
            Search.objects.filter(pk=search.pk).update(sealed_password=b"")
        if names:
            tell("readings", servers=names)
            tell("searches", id=search.pk)
    return names


def read_new(names: list[str]) -> Work:
    """Put a first reading of new servers before the engine."""
    what = names[0] if len(names) == 1 else f"{len(names)} new servers"
    return ask_for("survey", f"Reading {what}", len(names), "servers", {"servers": names})


class Adding:
    """Takes rows one by one; each is added, followed to its new address, or refused with a reason."""

    def __init__(self, search: Search, accept: set[str], user: str, password: str) -> None:
        self.search, self.accept = search, accept
        kept = search.password()
        self.user, self.password = user or search.user, password or kept
        self.added: list[str] = []
        self.followed: list[str] = []
        self.refused: list[RefusedRow] = []

    def take(self, row: SearchRow, name: str) -> None:
        """Add one row, or say why not."""
        name = name.strip() or proposed_name(row)
        why = self._objection(row, name)
        if why is not None:
            self.refused.append(RefusedRow(id=row.pk, name=name, why=why))
        elif row.state == SearchRow.State.MOVED:
            self._follow(row)
            self.followed.append(row.known or "")
        else:
            self._add(row, name)

    def _follow(self, row: SearchRow) -> None:
        """A server that moved: its password goes along only to one that told its UUID or serial after signing in.

        What tells a server is said by itself; a person picked this row. Still, the password that Ordnung keeps is
        never sent anywhere on the strength of a certificate: the one given with this search replaces it.
        """
        server = Server.objects.get(name=row.known)
        server.url, server.system, server.pin = row.url, row.system, row.pin
        server.forget_failure()
        server.user = self.user
        server.set_password(self.password)
        server.save()

    def _objection(self, row: SearchRow, name: str) -> str | None:
        if row.faults:
            return f"{row.faults[0]}."
        if row.state not in SearchRow.ADDABLE:
            reasons = {
                SearchRow.State.KNOWN: "is in the house already",
                SearchRow.State.DOUBLE: "is the same server as another row",
                SearchRow.State.UNCERTAIN: f"can't be told from {row.known}; give it a UUID or serial of its own first",
            }
            return f"It {reasons.get(SearchRow.State(row.state), 'did not answer as a server')}."
        if not row.vouched and row.pin not in self.accept:
            why = "The fleet's authority does not vouch for its certificate"
            return f"{why}; compare its fingerprint and accept it first."
        if not self.user or not self.password:
            return "User and password of its controller are missing."
        if row.state == SearchRow.State.MOVED:
            return None
        if not NAME.match(name):
            return "A name is made of letters, digits, dot, dash and underscore."
        return f"There is a server {name} already." if Server.objects.filter(name=name).exists() else None

    def _add(self, row: SearchRow, name: str) -> None:
        facts = row.facts
        group = Group.objects.get_or_create(name=facts["group"])[0] if facts.get("group") else None
        server = Server(
            name=name, url=row.url, system=row.system, user=self.user, pin=row.pin, uuid=row.uuid, serial=row.serial,
            group=group, room=facts.get("room", ""), rack=facts.get("rack", ""), unit=facts.get("unit", 0),
            height=facts.get("height", 1), role=facts.get("role", ""), tags=facts.get("tags", []),
        )  # fmt: skip
        server.set_password(self.password)
        server.save()
        row.added = name
        row.save(update_fields=["added"])
        self.added.append(name)
