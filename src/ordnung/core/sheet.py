"""What a run will send: the rounds of a route with each write's payload by name. Nothing else is ever sent.

A payload is named when the sheet is made, by checksum, size and the issue that lists it. A catalog that is brought
in later changes no run.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from ordnung.core.baseline import Position
from ordnung.core.catalog import Issue, Product, Release
from ordnung.core.route import Round, Write


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedPayload:
    """The very bytes of one write: ``size`` in bytes, ``sha256`` in lower-case hex, and the issue that lists them.

    ``signed_by`` names the trusted key that signed the issue; empty for an unsigned one. ``form`` as in ``Payload``.
    """

    sha256: str
    size: int
    maker: str
    catalog: str
    issue: str
    signed_by: str = ""
    form: str = "pldm"
    path: str = ""


class DiscPart(StrEnum):
    """What a write is to a disc that the server is started from (``core.by_disc``)."""

    IN = "in"
    """The disc is inserted as virtual media and chosen for the starts to come."""
    KIT = "kit"
    """The field kit on the disc sends it; it is followed by readings."""
    OUT = "out"
    """The disc is taken out, and the server starts as it did before."""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedWrite:
    """One write with what it sends; ``payload`` None when the catalog names no file for it.

    ``hands_before`` and ``hands_after``: what a person does at the server for it, as the catalog says (P3).
    ``ahead``: it waits for its reset and bears company, so that it may be written before the window (T8, A26).
    ``at_once``: it is active as soon as it is written.
    ``bank``: nothing is sent; the component is switched to its bank that holds the version (N7.4).
    ``sets_up``: nothing is sent; a partition that is blank or damaged is set up anew, to be filled next (N4.8).
    ``announces``: what it changes around the versions, as its release says: no surprise in the check after.
    ``disc``: it is brought by a disc that the server is started from, or is about that disc; None otherwise.
    """

    write: Write
    payload: NamedPayload | None
    hands_before: str = ""
    hands_after: str = ""
    announces: tuple[str, ...] = ()
    bank: bool = False
    sets_up: bool = False
    ahead: bool = False
    at_once: bool = False
    disc: DiscPart | None = None

    @property
    def needs_payload(self) -> bool:
        """Whether bytes are sent for it."""
        return self.is_update and not self.bank

    @property
    def is_update(self) -> bool:
        """Whether a component has another version by it."""
        return not self.sets_up and self.disc in (None, DiscPart.KIT)

    @property
    def brings(self) -> str:
        """What it brings, by its checksum or as a bank; empty where the catalog names no file for it."""
        if self.bank:
            return f"bank {self.write.to}"
        if self.sets_up:
            return SET_UP
        if self.disc in (DiscPart.IN, DiscPart.OUT):
            return DISC
        return self.payload.sha256 if self.payload is not None else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedRound:
    """A round of a route (R1) with its payloads."""

    writes: tuple[PlannedWrite, ...]
    reset: str | None
    reset_seconds: float | None = None
    activates: tuple[tuple[str, str], ...] = ()

    @property
    def is_outage(self) -> bool:
        """Whether its reset takes the server out of service (T4)."""
        return self.reset in ("server reboot", "power cycle")

    @property
    def starts_disc(self) -> bool:
        """Whether its reset starts the server from a disc."""
        return any(planned.disc is DiscPart.IN for planned in self.writes)

    @property
    def leaves_disc(self) -> bool:
        """Whether the disc is out after it."""
        return any(planned.disc is DiscPart.OUT for planned in self.writes)


SWITCH_S = 5.0
"""How long it takes to choose a bank."""
SET_UP = "set up anew"
DISC = "disc"
SET_UP_S = 30.0
"""How long it takes to set up a partition anew, as far as is known beforehand."""


def name_payloads(
    rounds: Iterable[Round], positions: Sequence[Position], *, by_bank: bool = False
) -> tuple[PlannedRound, ...]:
    """The rounds of a route with the payload of each write, as the issue lists it that its component matched.

    Args:
        by_bank: for a way back: a component whose other bank holds the version wanted is switched to it.
    """
    by_slot = {position.component.slot: position for position in positions}
    return tuple(
        PlannedRound(
            writes=tuple(planned for w in step.writes for planned in _lay_out(w, by_slot.get(w.slot), by_bank=by_bank)),
            reset=step.reset,
            reset_seconds=step.reset_seconds,
            activates=step.activates,
        )
        for step in rounds
    )


def _lay_out(write: Write, position: Position | None, *, by_bank: bool) -> tuple[PlannedWrite, ...]:
    """What one write of a route comes to: itself, the switch of a bank, or a partition set up anew and filled."""
    if by_bank and _is_in_bank(write, position):
        return (_switched(write),)
    filled = _planned(write, position)
    if position is None or not position.component.is_empty or write.source != position.component.state:
        return (filled,)
    empty = dataclasses.replace(write, to=SET_UP, seconds=SET_UP_S)
    return (PlannedWrite(write=empty, payload=None, sets_up=True), filled)


def _is_in_bank(write: Write, position: Position | None) -> bool:
    """Whether the component can be switched to that version; only at first: later its banks hold something else."""
    if position is None:
        return False
    component = position.component
    others = [version for version in component.banks[1:] if version != component.version]
    return component.can_switch and write.source == component.version and write.to in others


def _switched(write: Write) -> PlannedWrite:
    return PlannedWrite(write=dataclasses.replace(write, seconds=SWITCH_S), payload=None, bank=True)


def _planned(write: Write, position: Position | None) -> PlannedWrite:
    is_known = position is not None and position.product is not None and position.product.id == write.product
    release = position.product.find(write.to) if is_known and position and position.product else None
    if position is None or release is None:
        return PlannedWrite(write=write, payload=None)
    return PlannedWrite(
        write=write, payload=payload_of(release, position.match.issue),
        hands_before=release.hands_before, hands_after=release.hands_after,
        announces=_announced(position.product, write) if position.product else (),
        ahead=release.activation not in (None, "at once") and not release.alone,
        at_once=release.activation == "at once",
    )  # fmt: skip


def _announced(product: Product, write: Write) -> tuple[str, ...]:
    """What all releases on the way change, be it upwards or back."""
    passed = product.between(write.source, write.to) or product.between(write.to, write.source or write.to)
    return tuple(sorted({text for release in passed for text in release.announces}))


def payload_of(release: Release, issue: Issue | None) -> NamedPayload | None:
    """The bytes of a release by name; None where the catalog names no file for it."""
    if release.payload is None or issue is None:
        return None
    payload = release.payload
    return NamedPayload(
        sha256=payload.sha256,
        size=payload.size,
        maker=issue.maker,
        catalog=issue.catalog,
        issue=issue.issue,
        signed_by=issue.signed_by,
        form=payload.form,
        path=payload.path,
    )


def has_outage(rounds: Iterable[PlannedRound]) -> bool:
    """Whether a server that goes through these rounds is ever out of service."""
    return any(step.is_outage for step in rounds)
