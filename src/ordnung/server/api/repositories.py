"""Repositories: what would be packed, make, look, check, pack again, drop."""

from __future__ import annotations

import dataclasses
import datetime
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from django.conf import settings
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from tuf.api.metadata import Metadata, Targets

from ordnung.core.media import MEDIA
from ordnung.core.packing import By, Offer, Trim, kept, offer_trims
from ordnung.core.trimmed import find_losses
from ordnung.engine.compose import SEAL_DAYS
from ordnung.formats.packing import parse_packing, write_packing
from ordnung.repository import describe, draft_targets
from ordnung.repository.carry_in import PACKING
from ordnung.repository.seal import add_target_signatures, load_targets, signatures_due
from ordnung.server.api.files import SentFile, read_file
from ordnung.server.api.paging import page_of, paged
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Line, Repository
from ordnung.server.repositories.packing_job import DRAFT, keep_draft, line_values
from ordnung.server.repositories.payloads import open_book, open_repository, open_store, seal_folder
from ordnung.server.repositories.plans import MediaRow, Plan, make_plan, media_row
from ordnung.server.repositories.rows import (
    LINE_FIELDS,
    LineRow,
    RepositoryHeadRow,
    RepositoryRow,
    head_row,
    packed_rows,
    repository_row,
)
from ordnung.server.shapes import limited, read, row_from, shape, upload
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for
from ordnung.server.work.rows import WorkRow, work_row

SHOWN = 100
MAX_SIGNED = 16 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class TrimChoice:
    by: By
    value: str = limited(max_length=500)


@dataclass(frozen=True, slots=True, kw_only=True)
class PackingChoice:
    """What is to be packed: nothing but ``servers`` has to be said; none means all."""

    servers: list[str] = limited(default=list, allow_empty=True)
    trims: list[TrimChoice] = limited(default=list)
    revision: int | None = limited(default=None, allow_null=True)
    capacity: int | None = limited(default=None, allow_null=True, min_value=1_000_000)


@dataclass(frozen=True, slots=True, kw_only=True)
class NewRepository(PackingChoice):
    name: str = limited(default="", max_length=200, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class OfferRow:
    """A trim that could be made, or is."""

    by: By
    value: str
    label: str
    saves: int
    payloads: int
    made: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class LossRow:
    what: Literal["stranded", "stays", "no way back"]
    product: str
    name: str
    version: str
    why: str
    servers: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class MediumRow:
    name: str
    bytes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PackingRow:
    """What would be packed for the chosen servers."""

    lines: list[LineRow]
    servers: list[str]
    bytes: int
    stored: int
    revision: int
    offers: list[OfferRow]
    losses: list[LossRow]
    media: MediaRow
    known_media: list[MediumRow]


def _plan(asked: PackingChoice) -> Plan:
    trims = [Trim(by=trim.by, value=trim.value) for trim in asked.trims]
    return make_plan(asked.servers or None, trims, asked.revision)


def _labels(plan: Plan) -> dict[tuple[str, str], str]:
    """What trims are called: products by name, rules by what they do."""
    found = {("product", line.product.id): line.product.name for line in plan.lines}
    for place, rule in enumerate(plan.revision.rules["rules"]):
        found["rule", str(place)] = f"rule {place + 1}: {rule['do']}"
    for line in plan.lines:
        found["payload", f"{line.product.id} {line.release.version}"] = f"{line.product.name} {line.release.version}"
    return found


def packing_row(plan: Plan, capacity: int | None) -> PackingRow:
    """A packing list with its trims, what they cost, and how it fills the medium."""
    labels, store, packed = _labels(plan), open_store(), kept(plan.lines)
    stored = [line for line in packed if line.release.payload and store.has(line.release.payload.sha256)]
    return PackingRow(
        lines=packed_rows(plan.lines),
        servers=sorted({name for line in packed for name in line.servers}),
        bytes=sum(line.size for line in packed),
        stored=sum(line.size for line in stored),
        revision=plan.revision.number,
        offers=[_offer_row(offer, labels) for offer in offer_trims(plan.lines, plan.trims)],
        losses=[row_from(LossRow, loss) for loss in find_losses(plan.standings, plan.lines)],
        media=media_row(plan, capacity),
        known_media=[MediumRow(name=name, bytes=size) for name, size in MEDIA],
    )


def _offer_row(offer: Offer, labels: dict[tuple[str, str], str]) -> OfferRow:
    by, value = offer.trim.by, offer.trim.value
    return row_from(OfferRow, offer, by=by, value=value, label=labels.get((by, value), value))


class PackingView(APIView):
    @extend_schema(request=shape(PackingChoice), responses=shape(PackingRow))
    def post(self, request: Request) -> Response:
        """The packing list for the chosen servers, without making anything."""
        asked = read(PackingChoice, request)
        return Response(packing_row(_plan(asked), asked.capacity))


class RepositoriesView(APIView):
    @paged(RepositoryHeadRow)
    def get(self, request: Request) -> Response:
        """All repositories, newest first, in pages."""
        rows = Repository.objects.order_by("-pk").prefetch_related("lines")
        return page_of(request, rows, head_row, SHOWN)

    @extend_schema(request=shape(NewRepository), responses={202: shape(RepositoryRow)})
    def post(self, request: Request) -> Response:
        """Pack a repository for the chosen servers; the engine fetches, checks and seals."""
        asked = read(NewRepository, request)
        row = order(_plan(asked), asked.name, asked.capacity, request.user.username)
        return Response(repository_row(row), status=202)


def order(plan: Plan, name: str, capacity: int | None, person: str, after: Repository | None = None) -> Repository:
    """Put a repository before the engine. Raises Problem when there is nothing to pack or it fits on no medium."""
    packed = kept(plan.lines)
    if not packed:
        raise Problem("nothing-to-pack", "These servers need nothing: all are level, held or without a route.")
    too_large = media_row(plan, capacity).too_large
    if too_large:
        raise Problem("too-large", f"{too_large}. Choose a larger medium or trim it.", field="capacity")
    servers = sorted({name for line in packed for name in line.servers})
    title = name or f"{len(servers)} server{'' if len(servers) == 1 else 's'}, {now():%d %b %Y}"
    gone = [line for line in plan.lines if line.trimmed]
    values: dict[str, Any] = {"series": after.series, "edition": next_edition(after)} if after else {}
    with recorded():
        record(after={"name": title, "servers": servers, "files": len(packed)})
        row = Repository.objects.create(
            name=title, made_at=now(), made_by=person, revision=plan.revision.number,
            servers=sorted(s.server.name for s in plan.standings) if after else servers,
            trims=[{"by": t.by, "value": t.value} for t in plan.trims], capacity=capacity,
            left_out=[{"name": g.product.name, "version": g.release.version, "size": g.size} for g in gone], **values,
        )  # fmt: skip
        Line.objects.bulk_create([Line(repository=row, **fields) for fields in line_values(packed)])
        total = sum(line.size for line in packed)
        record(on={"repository": row.pk})
        ask_for("pack", f"Packing {title}", total, "bytes", {"repository": row.pk})
    tell("repositories", id=row.pk)
    return row


def next_edition(row: Repository) -> int:
    """The number of the next edition of a series."""
    last = Repository.objects.filter(series=row.series).order_by("-edition").first()
    return (last.edition if last else row.edition) + 1


def forget_written(row: Repository) -> None:
    """What was written out into Ordnung's own folder goes with its repository; what lies elsewhere is the person's."""
    own = Path(settings.HOME) / "written"
    for written in row.written.all():
        place = Path(written.place)
        if place.parent == own:
            shutil.rmtree(place) if place.is_dir() else place.unlink(missing_ok=True)


class RepositoryView(APIView):
    @extend_schema(responses=shape(RepositoryRow))
    def get(self, request: Request, pk: int) -> Response:
        """One repository with its packing list."""
        return Response(repository_row(get_object_or_404(Repository, pk=pk)))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Drop a repository; payloads that no other one needs go at the next clearing of the store."""
        row = get_object_or_404(Repository, pk=pk)
        if is_busy(row):
            raise Problem("busy", f"{row.name} is being worked on; wait until that has ended.", status=409)
        open_store().release(row.owner)
        for path in seal_folder(row).glob("*"):
            path.unlink()
        forget_written(row)
        row.delete()
        tell("repositories")
        return Response(status=204)


def is_busy(row: Repository) -> bool:
    """Whether the engine is at work on a repository."""
    works = Work.objects.filter(state__in=("asked", "running"), kind__in=("pack", "write-out", "check"))
    return any(work.subject.get("repository") == row.pk for work in works)


class RepositoryCheckView(APIView):
    @extend_schema(request=None, responses={202: shape(WorkRow)})
    def post(self, request: Request, pk: int) -> Response:
        """Verify a repository end to end; what was found is told on it."""
        row = get_object_or_404(Repository, pk=pk)
        demand_sealed(row)
        work = ask_for("check", f"Checking {row.name}", head_row(row).bytes, "bytes", {"repository": pk})
        return Response(work_row(work), status=202)


def demand_sealed(row: Repository) -> None:
    """Refuse what only a sealed repository can do. Raises Problem."""
    if row.state not in ("sealed", "waiting"):
        raise Problem("not-sealed", f"{row.name} is not sealed yet.", status=409)


@dataclass(frozen=True, slots=True, kw_only=True)
class Again:
    """``same`` keeps the contents and only makes a new seal; otherwise what is needed today is packed."""

    same: bool = False


class RepositoryAgainView(APIView):
    @extend_schema(request=shape(Again), responses={202: shape(RepositoryRow)})
    def post(self, request: Request, pk: int) -> Response:
        """The next edition: packed by what is needed today, or the same contents under a new seal."""
        asked = read(Again, request)
        row = get_object_or_404(Repository, pk=pk)
        if row.carried_from:
            raise Problem("not-ours", f"{row.name} was carried in; its next edition is packed where it came from.")
        if asked.same:
            demand_sealed(row)
            fresh = seal_again(row, request.user.username)
        else:
            trims = [Trim(by=t["by"], value=t["value"]) for t in row.trims]
            fresh = order(make_plan(row.servers, trims), row.name, row.capacity, request.user.username, row)
        return Response(repository_row(fresh), status=202)


def seal_again(row: Repository, person: str) -> Repository:
    """The next edition with the same contents: nothing is fetched."""
    store, carrier = open_store(), open_repository(row)
    contents = [c for c in carrier.contents.values() if c.path != PACKING]
    old = next(c for c in carrier.contents.values() if c.path == PACKING)
    edition = next_edition(row)
    packing = dataclasses.replace(
        parse_packing(old.source.read_bytes()), edition=edition, made_at=now().replace(microsecond=0), made_by=person
    )
    raw = write_packing(packing)
    with recorded():
        record(on={"repository": row.pk}, before={"edition": row.edition}, after={"edition": edition})
        fresh = Repository.objects.create(
            name=row.name, series=row.series, edition=edition, servers=row.servers, trims=row.trims,
            left_out=row.left_out, capacity=row.capacity, media=row.media, made_at=packing.made_at, made_by=person,
            revision=row.revision, rules=row.rules, follows=row.follows,
        )  # fmt: skip
        lines = [{name: getattr(line, name) for name in LINE_FIELDS} for line in row.lines.order_by("pk")]
        Line.objects.bulk_create([Line(repository=fresh, **fields) for fields in lines])
    store.hold(fresh.owner, {c.sha256 for c in contents})
    contents.append(describe(PACKING, store.put(raw, PACKING)))
    store.hold(fresh.owner, {c.sha256 for c in contents})
    ends = now() + datetime.timedelta(days=SEAL_DAYS)
    keep_draft(fresh, draft_targets(contents, open_book(), edition, ends))
    fresh.refresh_from_db()
    return fresh


@dataclass(frozen=True, slots=True, kw_only=True)
class SignatureFile:
    file: SentFile = upload()


@dataclass(frozen=True, slots=True, kw_only=True)
class SignaturesDueRow:
    role: str
    have: int
    threshold: int
    open_to: list[str]


class RepositorySignaturesView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(responses=shape(SignaturesDueRow))
    def get(self, request: Request, pk: int) -> Response:
        """Which signatures a repository waits for."""
        needed = signatures_due(_draft(get_object_or_404(Repository, pk=pk)), open_book())
        return Response(row_from(SignaturesDueRow, needed))

    @extend_schema(request={"multipart/form-data": shape(SignatureFile)}, responses=shape(RepositoryRow))
    def post(self, request: Request, pk: int) -> Response:
        """Bring signatures that were made elsewhere; the repository is sealed when they are enough."""
        row = get_object_or_404(Repository, pk=pk)
        raw = read_signed(request)
        targets = _draft(row)
        add_target_signatures(targets, raw, open_book())
        with recorded(first=True):
            keep_draft(row, targets)
        row.refresh_from_db()
        return Response(repository_row(row))


def read_signed(request: Request) -> bytes:
    """An uploaded metadata file. Raises Problem when it is too large."""
    return read_file(read(SignatureFile, request).file, MAX_SIGNED)[1]


def _draft(row: Repository) -> Metadata[Targets]:
    path = seal_folder(row) / DRAFT
    if not path.exists():
        raise Problem("not-signing", f"{row.name} does not wait for signatures.", status=409)
    return load_targets(path.read_bytes())


class RepositoryTargetsView(APIView):
    @extend_schema(responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The file to be signed elsewhere."""
        row = get_object_or_404(Repository, pk=pk)
        _draft(row)
        answer = HttpResponse((seal_folder(row) / DRAFT).read_bytes(), content_type="application/json")
        answer["Content-Disposition"] = f'attachment; filename="to-sign-{row.pk:04d}-{row.edition}.targets.json"'
        return answer
