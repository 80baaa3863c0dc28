"""The packing list that lies in every repository, ``ordnung.packing/1``: what is in it, why, and for whom."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import FormatError

FORMAT = "ordnung.packing/1"


@dataclass(frozen=True, slots=True, kw_only=True)
class PackedPayload:
    """One payload: ``path`` is its target path, ``medium`` counts from 1."""

    product: str
    name: str
    kind: str
    version: str
    path: str
    sha256: str
    size: int
    reasons: tuple[str, ...]
    servers: tuple[str, ...]
    medium: int = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class PackedCatalog:
    """One catalog issue as its maker published it; ``signed_by`` is who signed it where it was brought in."""

    path: str
    maker: str
    catalog: str
    issue: str
    signed_by: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class PackingList:
    """A repository in words. ``series`` is the same over all editions of one repository."""

    name: str
    series: str
    edition: int
    made_at: datetime.datetime
    made_by: str
    revision: int
    servers: tuple[str, ...]
    payloads: tuple[PackedPayload, ...]
    catalogs: tuple[PackedCatalog, ...] = ()
    advisories: tuple[str, ...] = ()
    rules: str = ""
    follows: tuple[Mapping[str, str], ...] = ()
    media: int = 1
    trims: tuple[Mapping[str, str], ...] = ()


def write_packing(packing: PackingList) -> bytes:
    """The fixed spelling; reading it back gives the same list."""
    body = dataclasses.asdict(packing)
    return write_document({"format": FORMAT, **body, "made_at": packing.made_at.isoformat()})


def parse_packing(raw: bytes, source: str = "packing.json") -> PackingList:
    """Read a packing list. Raises FormatError with every fault."""
    body = parse_document(raw, "packing", source)
    try:
        made_at = datetime.datetime.fromisoformat(body["made_at"])
    except ValueError:
        raise FormatError(source, "made_at", f"{body['made_at']} is not a time") from None
    if made_at.tzinfo is None:
        raise FormatError(source, "made_at", "the time has no zone")
    fields = {key: value for key, value in body.items() if key not in ("format", "made_at", "payloads", "catalogs")}
    lists = {key: tuple(value) for key, value in fields.items() if isinstance(value, list)}
    return PackingList(
        **{**fields, **lists},
        made_at=made_at,
        payloads=tuple(_payload(entry) for entry in body["payloads"]),
        catalogs=tuple(PackedCatalog(**entry) for entry in body.get("catalogs", ())),
    )


def _payload(entry: dict[str, Any]) -> PackedPayload:
    return PackedPayload(**{**entry, "reasons": tuple(entry["reasons"]), "servers": tuple(entry["servers"])})
