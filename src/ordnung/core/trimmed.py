"""What a trimmed packing list does to the servers it is for: what stays, what is stranded, what can't go back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.packing import Name, Packed, find_needs
from ordnung.core.review import without


@dataclass(frozen=True, slots=True, kw_only=True)
class Loss:
    """One thing that servers lose by a trim. ``what`` is ``stays``, ``stranded`` or ``no way back``."""

    what: str
    product: str
    name: str
    version: str
    """The release that is not packed; for ``stranded`` the one that can't be reached without it."""
    why: str
    servers: tuple[str, ...]


_Lost = tuple[str, str, str, str, str]


def find_losses(standings: Sequence[Standing], lines: Sequence[Packed]) -> tuple[Loss, ...]:
    """What the servers lose by what the trims leave out; stranded ones first, then by product name.

    Routes are planned anew where a payload is missing: a component whose payload is not there stays
    as it is, and whatever needs it is stranded with it (R11).
    """
    gone = {line.name for line in lines if line.trimmed}
    if not gone:
        return ()
    losses: dict[_Lost, list[str]] = {}
    known: dict[tuple[int, int], list[_Lost]] = {}
    for standing in standings:
        key = (id(standing.route), id(standing.drift))
        if key not in known:
            known[key] = _lost(standing, gone)
        for lost in known[key]:
            losses.setdefault(lost, []).append(standing.server.name)
    order = ("stranded", "stays", "no way back")
    ordered = sorted(losses, key=lambda lost: (order.index(lost[0]), lost[2], lost[3]))
    return tuple(
        Loss(what=what, product=product, name=name, version=version, why=why, servers=tuple(sorted(servers)))
        for (what, product, name, version, why), servers in ((lost, losses[lost]) for lost in ordered)
    )


def _lost(standing: Standing, gone: set[Name]) -> list[_Lost]:
    found: list[_Lost] = []
    slots: dict[str, str] = {}
    missing = [(need, product) for need, product, _, _ in find_needs(standing) if need.payload in gone]
    staying = {need.product for need, _ in missing if need.reason != "way back"}
    for need, product in missing:
        if need.reason == "way back" and need.product in staying:
            continue  # what does not go forward needs no way back
        if need.reason == "way back":
            found.append(("no way back", need.product, product.name, need.version, "the way back is not packed"))
        else:
            why = f"its {need.reason} {need.version} is not packed"
            found.append(("stays", need.product, product.name, need.version, why))
            slots |= {w.slot: why for w in standing.route.writes if w.product == need.product and w.to == need.version}
    if slots:
        found += _stranded(standing, slots)
    return found


def _stranded(standing: Standing, slots: dict[str, str]) -> list[_Lost]:
    """Components that could be brought to their target until the slots stay as they are."""
    before = {lost.slot for lost in standing.route.stranded} | set(slots)
    found = []
    for lost in without(standing, slots).route.stranded:
        position = next((p for p in standing.positions if p.component.slot == lost.slot), None)
        if lost.slot in before or position is None or position.product is None:
            continue
        product = position.product
        target = position.target.version if position.target else None
        found.append(("stranded", product.id, product.name, target or "", lost.reason))
    return found
