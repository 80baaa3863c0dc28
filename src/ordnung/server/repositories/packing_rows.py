"""What would be packed, as the API gives it: the list, what could be trimmed, what that loses, how it fills media."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from django.conf import settings

from ordnung.core.media import MEDIA
from ordnung.core.packing import By, Offer, kept, offer_trims
from ordnung.core.trimmed import find_losses
from ordnung.engine.boot_base import find_boot_base
from ordnung.server.repositories.payloads import open_store
from ordnung.server.repositories.plans import MediaRow, Plan, media_row
from ordnung.server.repositories.rows import LineRow, packed_rows
from ordnung.server.shapes import row_from


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
class BootRow:
    """The boot system that this site has, and what it adds to every medium."""

    kernel: str
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
    boot: BootRow | None
    known_media: list[MediumRow]


def _labels(plan: Plan) -> dict[tuple[str, str], str]:
    """What trims are called: products by name, rules by what they do."""
    found = {("product", line.product.id): line.product.name for line in plan.lines}
    for place, rule in enumerate(plan.revision.rules["rules"]):
        found["rule", str(place)] = f"rule {place + 1}: {rule['do']}"
    for line in plan.lines:
        found["payload", f"{line.product.id} {line.release.version}"] = f"{line.product.name} {line.release.version}"
    return found


def packing_row(plan: Plan, capacity: int | None, *, boots: bool = False) -> PackingRow:
    """A packing list with its trims, what they cost, and how it fills the medium."""
    boot = find_boot_base(settings.BOOT_BASE)
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
        media=media_row(plan, capacity, boot if boots else None),
        boot=BootRow(kernel=boot.kernel, bytes=boot.size) if boot is not None else None,
        known_media=[MediumRow(name=name, bytes=size) for name, size in MEDIA],
    )


def _offer_row(offer: Offer, labels: dict[tuple[str, str], str]) -> OfferRow:
    by, value = offer.trim.by, offer.trim.value
    return row_from(OfferRow, offer, by=by, value=value, label=labels.get((by, value), value))
