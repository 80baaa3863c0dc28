"""Add servers: look first, show who answers where, and add what a person picks."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from django.conf import settings
from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.formats.addresses import Address, is_host_name, parse_addresses
from ordnung.formats.server_list import NAME, Row, parse_server_list
from ordnung.server.apart import apart
from ordnung.server.api.fleet_shapes import PIN
from ordnung.server.audit.recording import record
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Search, SearchRow, Server
from ordnung.server.problems import Problem
from ordnung.server.shapes import all_spelled, limited, one_of, read, shape
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for

STATES = ("asked", "new", "known", "moved", "uncertain", "double", "nobody", "wrong row")
_FACTS = ("name", "room", "rack", "unit", "height", "group", "role")


@dataclass(frozen=True, slots=True, kw_only=True)
class NewSearch:
    """``addresses`` as typed, or ``list`` as CSV; ``listen`` searches the network instead."""

    addresses: str = limited(default="", max_length=200000, allow_blank=True)
    list: str = limited(default="", max_length=4000000, allow_blank=True)
    listen: bool = False
    user: str = limited(default="", max_length=200, allow_blank=True)
    password: str = limited(default="", max_length=500, allow_blank=True, write_only=True, trim_whitespace=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundRow:
    id: int
    url: str
    line: int
    state: str = one_of(STATES)
    detail: str
    faults: list[str]
    name: str
    place: str
    pin: str | None
    vouched: bool
    uuid: str | None
    serial: str | None
    model: str | None
    known: str | None
    added: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class SearchStateRow:
    id: int
    what: str
    is_done: bool
    rows: list[FoundRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class Pick:
    id: int
    name: str = limited(default="", max_length=100, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class Add:
    """``accept`` are the fingerprints that were shown and are trusted from now on. ``whole``: all rows or none."""

    rows: list[Pick]
    accept: list[str] = all_spelled(PIN, max_length=10_000)
    whole: bool = False
    user: str = limited(default="", max_length=200, allow_blank=True)
    password: str = limited(default="", max_length=500, allow_blank=True, write_only=True, trim_whitespace=False)
    read: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class RefusedRow:
    id: int
    name: str
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AddedRow:
    added: list[str]
    followed: list[str]
    refused: list[RefusedRow]
    work: int | None


class SearchesView(APIView):
    @extend_schema(request=shape(NewSearch), responses={202: shape(SearchStateRow)})
    def post(self, request: Request) -> Response:
        """Look who is there. Nothing of the house changes; credentials go to vouched certificates only."""
        asked = read(NewSearch, request)
        if asked.listen and not settings.SSDP:
            why = "No network to search is set. Set ORDNUNG_SSDP to our own address on the management network."
            raise Problem("not-set", why, field="listen")
        rows = [] if asked.listen else _rows(asked.addresses, asked.list)
        with transaction.atomic():
            what = "the network" if asked.listen else f"{len(rows)} addresses"
            search = Search(asked_at=now(), what=what, user=asked.user, is_listening=asked.listen)
            search.set_password(asked.password)
            search.save()
            forget_passwords(search)
            for row in rows:
                row.search = search
            SearchRow.objects.bulk_create(rows)
            to_look_at = sum(row.state == "asked" for row in rows)
            ask_for("search", f"Looking at {what}", to_look_at, "addresses", {"search": search.pk})
        return Response(search_row(search), status=202)


KEPT = datetime.timedelta(hours=1)
"""How long the password of a search is kept for adding what it found."""


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
        made.state = "wrong row"
    return made


def _allowed(row: SearchRow, address: Address) -> SearchRow:
    if not is_host_name(address.host) and not settings.NETWORKS.allows(address.host):
        row.faults = [*row.faults, f"outside the networks this house allows ({settings.NETWORKS.tell()})"]
        row.state = "wrong row"
    return row


def search_row(search: Search) -> SearchStateRow:
    """A search with its rows."""
    rows = [_show(row) for row in search.rows.order_by("line", "pk")]
    return SearchStateRow(id=search.pk, what=search.what, is_done=search.is_done, rows=rows)


def _show(row: SearchRow) -> FoundRow:
    facts = row.facts
    place = ", ".join(str(facts[k]) for k in ("room", "rack") if facts.get(k))
    unit = f"{place} unit {facts['unit']}".strip() if facts.get("unit") else place
    return FoundRow(
        id=row.pk, url=row.url, line=row.line, state=row.state, detail=row.detail, faults=row.faults,
        name=proposed_name(row), place=unit, pin=row.pin, vouched=row.vouched, uuid=row.uuid, serial=row.serial,
        model=row.model, known=row.known, added=row.added,
    )  # fmt: skip


def proposed_name(row: SearchRow) -> str:
    """What the server would be called: as listed, as it calls itself, else by its address."""
    if row.known:
        return row.known
    for name in (row.facts.get("name"), row.host_name):
        if name and NAME.match(name):
            return name
    return row.url.removeprefix("https://").replace("[", "").replace("]", "").replace(":", "-")


class SearchView(APIView):
    @extend_schema(responses=shape(SearchStateRow))
    def get(self, request: Request, pk: int) -> Response:
        """A search and what it has found so far."""
        return Response(search_row(_find(pk)))


def _find(pk: int) -> Search:
    search = Search.objects.filter(pk=pk).first()
    if search is None:
        raise Problem("not-found", "There is no such search.", status=404)
    return search


class SearchAddView(APIView):
    @extend_schema(request=shape(Add), responses={201: shape(AddedRow)})
    def post(self, request: Request, pk: int) -> Response:
        """Add the picked rows; servers that moved are followed to their new address. Then read them."""
        asked = read(Add, request)
        search = _find(pk)
        picks = {pick.id: pick.name for pick in asked.rows}
        rows = list(search.rows.filter(pk__in=list(picks)).order_by("line", "pk"))
        adding = Adding(search, set(asked.accept), asked.user, asked.password)
        with transaction.atomic():
            for row in rows:
                adding.take(row, picks[row.pk])
            if asked.whole and adding.refused:
                first = adding.refused[0]
                why = f"{first.name}: {first.why} Nothing was added, as all or nothing was asked for."
                raise Problem("not-whole", why, field="rows")
            names = [*adding.added, *adding.followed]
            record(on={"servers": names})
            if not search.rows.filter(state__in=("new", "moved"), added=None).exists():
                Search.objects.filter(pk=search.pk).update(sealed_password=b"")
            if names:
                tell("readings", servers=names)
                tell("searches", id=search.pk)
        work = _read(names) if names and asked.read else None
        answer = AddedRow(added=adding.added, followed=adding.followed, refused=adding.refused, work=work)
        return Response(answer, status=201)


def _read(names: list[str]) -> int:
    what = names[0] if len(names) == 1 else f"{len(names)} new servers"
    work: Work = ask_for("survey", f"Reading {what}", len(names), "servers", {"servers": names})
    return work.pk


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
        elif row.state == "moved":
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
        server.seen_pin, server.cause, server.detail = None, None, ""
        server.user = self.user
        server.set_password(self.password)
        server.save()

    def _objection(self, row: SearchRow, name: str) -> str | None:
        if row.faults:
            return f"{row.faults[0]}."
        if row.state not in ("new", "moved"):
            reasons = {
                "known": "is in the house already",
                "double": "is the same server as another row",
                "uncertain": f"can't be told from {row.known}; give it a UUID or serial of its own first",
            }
            return f"It {reasons.get(row.state, 'did not answer as a server')}."
        if not row.vouched and row.pin not in self.accept:
            return "Its certificate is not from the fleet's authority; compare its fingerprint and accept it first."
        if not self.user or not self.password:
            return "User and password of its controller are missing."
        if row.state == "moved":
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
