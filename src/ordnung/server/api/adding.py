"""Add servers: look first, show who answers where, and add what a person picks."""

from __future__ import annotations

from dataclasses import dataclass

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.fleet_shapes import PIN
from ordnung.server.fleet.adding import Adding, RefusedRow, add_found, begin_search, proposed_name, read_new
from ordnung.server.fleet.models import Search, SearchRow
from ordnung.server.problems import Problem
from ordnung.server.shapes import all_spelled, limited, one_of, read, shape


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
    state: str = one_of(SearchRow.State.values)
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
        search = begin_search(
            asked.addresses, asked.list, listen=asked.listen, user=asked.user, password=asked.password
        )
        return Response(search_row(search), status=202)


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
        adding = Adding(search, set(asked.accept), asked.user, asked.password)
        names = add_found(search, {pick.id: pick.name for pick in asked.rows}, adding, whole=asked.whole)
        work = read_new(names).pk if names and asked.read else None
        answer = AddedRow(added=adding.added, followed=adding.followed, refused=adding.refused, work=work)
        return Response(answer, status=201)
