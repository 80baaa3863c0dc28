"""Repositories as the API tells them."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from ordnung.core.packing import Packed, Trim
from ordnung.server.clock import now
from ordnung.server.repositories.models import Arrival, Line, Repository, WrittenOut
from ordnung.server.shapes import one_of, row_from

SOON = datetime.timedelta(days=14)
"""So long before its end a seal is warned about."""
STATES = ["packing", "signing", "sealed", "waiting", "incomplete"]
LINE_FIELDS = (
    "product", "name", "kind", "version", "size", "sha256", "reasons", "servers", "state", "bytes", "unsigned",
    "signer", "generation", "form", "medium", "message",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class LineRow:
    product: str
    name: str
    kind: str
    version: str
    size: int
    sha256: str
    reasons: list[str]
    servers: list[str]
    state: Literal["waiting", "fetching", "packed", "refused", "left out", "elsewhere"]
    bytes: int
    unsigned: bool
    signer: str
    generation: int | None
    form: str
    medium: int
    message: str
    trimmed: list[Trim]


@dataclass(frozen=True, slots=True, kw_only=True)
class LeftOutLineRow:
    name: str
    version: str
    size: int


@dataclass(frozen=True, slots=True, kw_only=True)
class WrittenRow:
    id: int
    shape: Literal["folder", "tar", "tar.zst", "iso"]
    medium: int
    since: int | None
    place: str
    state: Literal["writing", "done", "failed"]
    files: int
    size: int
    sha256: str
    message: str
    asked_at: datetime.datetime
    asked_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RepositoryHeadRow:
    """A repository without its packing list."""

    id: int
    name: str
    series: str
    edition: int
    state: str = one_of(STATES)
    made_at: datetime.datetime
    made_by: str
    expires: datetime.datetime | None
    ends: Literal["later", "soon", "over", ""]
    root_key: str
    root_version: int
    message: str
    revision: int
    carried_from: str
    carried_at: datetime.datetime | None
    media: int
    capacity: int | None
    boots: bool
    waiting: list[str]
    checked_at: datetime.datetime | None
    checked: str
    check_failed: bool
    payloads: int
    bytes: int
    has_baseline: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RepositoryRow(RepositoryHeadRow):
    servers: list[str]
    trims: list[Trim]
    left_out: list[LeftOutLineRow]
    lines: list[LineRow]
    written: list[WrittenRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class ArrivalRow:
    id: int
    place: str
    name: str
    state: Literal["checking", "done", "waiting", "refused"]
    code: str
    message: str
    root_key: str
    expired_reason: str
    repository: int | None
    new_files: int
    new_bytes: int
    known_files: int
    asked_at: datetime.datetime
    asked_by: str


def packed_rows(lines: Sequence[Packed]) -> list[LineRow]:
    """A packing list as it stands before anything is fetched."""
    return [_packed_row(line) for line in lines]


def _packed_row(line: Packed) -> LineRow:
    product, payload = line.product, line.release.payload
    return LineRow(
        product=product.id,
        name=product.name,
        kind=product.kind,
        version=line.release.version,
        size=line.size,
        sha256=payload.sha256 if payload else "",
        reasons=list(line.reasons),
        servers=list(line.servers),
        state="left out" if line.trimmed else "waiting",
        bytes=0,
        unsigned=not line.issue.signed_by,
        signer="",
        generation=payload.generation if payload else None,
        form=payload.form if payload else "pldm",
        medium=1,
        message="",
        trimmed=list(line.trimmed),
    )


def line_row(line: Line) -> LineRow:
    """One stored line."""
    return row_from(LineRow, line, trimmed=[])


def written_row(row: WrittenOut) -> WrittenRow:
    """One thing written out."""
    return row_from(WrittenRow, row)


def ends(expires: datetime.datetime | None) -> Literal["later", "soon", "over", ""]:
    """Whether a seal ends later, soon, or is over."""
    if expires is None:
        return ""
    left = expires - now()
    return "over" if left <= datetime.timedelta() else "soon" if left < SOON else "later"


def head_row(row: Repository, lines: Iterable[Line] | None = None) -> RepositoryHeadRow:
    """A repository without its packing list."""
    sizes = [line.size for line in (row.lines.all() if lines is None else lines)]
    return row_from(
        RepositoryHeadRow, row, ends=ends(row.expires), payloads=len(sizes), bytes=sum(sizes),
        has_baseline=row.rules is not None,
    )  # fmt: skip


def repository_row(row: Repository) -> RepositoryRow:
    """One repository with its lines."""
    lines = list(row.lines.order_by("pk"))
    return row_from(
        RepositoryRow,
        head_row(row, lines),
        servers=row.servers,
        trims=[Trim(by=trim["by"], value=trim["value"]) for trim in row.trims],
        left_out=[LeftOutLineRow(**line) for line in row.left_out],
        lines=[line_row(line) for line in lines],
        written=[written_row(written) for written in row.written.order_by("-pk")],
    )


def arrival_row(row: Arrival) -> ArrivalRow:
    """One thing carried in."""
    return row_from(ArrivalRow, row, repository=row.repository_id)
