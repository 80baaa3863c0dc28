"""What a mirror or a folder offers, ``ordnung.offers/1``: which catalogs, which issues, which is the newest."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import Fault, FormatError


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """One issue that a source offers. ``path`` is relative to the index; the checksum is of the file as it lies."""

    maker: str
    catalog: str
    issue: str
    issued: datetime.date
    path: str
    size: int
    sha256: str


def parse_index(raw: bytes, source: str = "index") -> tuple[Offer, ...]:
    """The offers in order. Raises FormatError for anything but a valid index, every fault named."""
    document = parse_document(raw, "offers", source)
    faults, offers = [], []
    for place, entry in enumerate(document["issues"]):
        try:
            issued = datetime.date.fromisoformat(entry["issued"])
        except ValueError:
            faults.append(Fault(f"issues.{place}.issued", f"{entry['issued']} is not a date"))
            continue
        offers.append(Offer(**{**entry, "issued": issued}))
    if faults:
        raise FormatError.of(source, faults)
    return tuple(offers)


def write_index(offers: list[Offer]) -> bytes:
    """The fixed spelling of an index."""
    names = ("maker", "catalog", "issue", "issued", "path", "size", "sha256")
    entries = [{name: getattr(offer, name) for name in names} for offer in offers]
    for entry in entries:
        entry["issued"] = entry["issued"].isoformat()
    return write_document({"format": "ordnung.offers/1", "issues": entries})


def newest_of(offers: tuple[Offer, ...]) -> dict[tuple[str, str], Offer]:
    """Per catalog the offer that is passed off as its newest."""
    newest: dict[tuple[str, str], Offer] = {}
    for offer in offers:
        name = (offer.maker, offer.catalog)
        if name not in newest or offer.issued > newest[name].issued:
            newest[name] = offer
    return newest
