"""What a run is carried out in: the ports, the house's patience, and what all runs of one engine share."""

from __future__ import annotations

import asyncio
import dataclasses
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from ordnung.core.away import Refusal
from ordnung.core.start_times import UNTOLD_S
from ordnung.core.turn import NotYet
from ordnung.engine.contact import Contact
from ordnung.engine.entries import Reason, Remedy
from ordnung.engine.ports import Access, Baseline, Clock, Controllers, Helpers, Journal, Orders, Payloads, Reporter

LASTING = (
    "certificate changed",
    "certificate invalid",
    "TLS too old",
    "another server",
    "signed out",
    "password to be changed",
    "no credentials",
    "no permission",
    "not allowed",
    "said no",
)
"""Causes that waiting does not mend. What answers like something else was read before: it may only be waking."""

STRANGE = ("certificate changed", "certificate invalid")
"""Those of them that are about the certificate: nothing is sent before it is known."""
SETTLED_BY_PEOPLE = (*STRANGE, "another server", "signed out", "password to be changed", "no credentials")
"""Those of them that a person can settle while the server stands as it is."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Patience:
    """How long each kind of waiting may take, in the site's seconds, and what the house allows when it is over."""

    contact_s: float = 1800.0
    back_s: float = 2400.0
    version_s: float = 1200.0
    steady_s: float = 300.0
    graceful_s: float = 900.0
    """How long a graceful restart may take to begin: a system closes its programs first."""
    job_s: float = 600.0
    """How long someone else's job is waited for before the place is given back (``night.md`` C)."""
    place_s: float = 3600.0
    """How long a server waits for a place that only a person can free."""
    fresh_s: float = 180.0
    """How old a reading may be by which the next write of a round is still judged; the first and every reset read."""
    untold_s: float = UNTOLD_S
    """How long a server is taken to start at least whose controller does not tell how far it is."""
    settle_s: float = 20.0
    begins_s: float = 180.0
    """How long a controller may take until a reset that it has taken on begins."""
    unseen_s: float = 120.0
    """No server starts within this: one that is looked at more often is not missed starting."""
    poll_s: float = 10.0
    whole_s: float = 60.0
    """How long a controller is left alone between whole readings, where nothing smaller tells how far it is."""
    may_force: bool = False
    """Whether a forced restart may follow a graceful one that did not come to pass; else a person is asked."""
    answer_s: float = 14400.0
    """How long a person is waited for who was asked."""
    disc_s: float = 3000.0
    """How long a server that was started from a disc may show nothing new before it is taken out of there: longer than
    the kit itself waits for anything, so that it sends nothing by then.
    """
    quiet_s: float = 900.0
    """How long nothing may have happened on such a server before it is taken out though the kit has not said it ended.
    """
    errand_s: float = 3600.0
    """How long it is waited for that work is moved off or taken back, or somebody is at the server."""
    heal_s: float = 28800.0
    """How long a group is given to be whole again after one of it was away."""


class Choice(StrEnum):
    """What the house lets be done with a remedy."""

    AUTOMATIC = "automatic"
    ASK = "ask"
    NEVER = "never"


USUAL = {
    Remedy.ALONE: Choice.AUTOMATIC,
    Remedy.RESTART_FIRST: Choice.AUTOMATIC,
    Remedy.BETWEEN: Choice.ASK,
    Remedy.OTHER_WAY: Choice.AUTOMATIC,
    Remedy.PUT_BACK: Choice.ASK,
    Remedy.DISC_OUT: Choice.AUTOMATIC,
}
"""What is done with each remedy where the house has not chosen."""


CAUTION = (Choice.AUTOMATIC, Choice.ASK, Choice.NEVER)
"""From what is done by itself to what is not done."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RemedyException:
    """What the house lets be done with a remedy otherwise: for a model, a kind of component, or both; empty is any."""

    remedy: Remedy
    choice: Choice
    model: str = ""
    kind: str = ""

    def fits(self, remedy: Remedy, model: str, kind: str) -> bool:
        """Whether it is about this."""
        return self.remedy is remedy and self.model in ("", model) and self.kind in ("", kind)


@dataclass(slots=True)
class Ticket:
    """One server's place in the line of those that wait for their turn."""

    order: tuple[int, ...]
    refusal: Refusal | NotYet | None = None
    held: bool = False
    """A person holds it: it keeps its place in the line and nobody from passing."""


@dataclass(slots=True)
class Site:
    """What all runs of one engine share: who waits for a turn, which controller is being written to, who answers."""

    line: list[Ticket] = field(default_factory=list)
    writing: dict[str, str] = field(default_factory=dict)
    """Controllers (by URL) with a write of ours under way, and for which server."""
    contact: Contact = field(default_factory=Contact)
    restless: set[str] = field(default_factory=set)
    """Models of which one was rebooted unasked once it was written: others are written with the reset, if possible."""
    _locks: dict[str, asyncio.Lock] = field(default_factory=dict)

    def controller(self, url: str) -> asyncio.Lock:
        """Held from the last look at a controller's tasks until what is sent to it was sent."""
        return self._locks.setdefault(url, asyncio.Lock())

    def may_try(self, ticket: Ticket) -> bool:
        """Whether it is this one's turn to ask: nobody before it waits for the same thing (docs/adr/0015).

        One that waits for its group, its wave or a person lets others pass; while no more may be worked on at all,
        nobody passes.
        """
        before = [other for other in self.line if other.order < ticket.order]
        return all(other.held or (other.refusal is not None and other.refusal.limit != "at once") for other in before)


@dataclass(frozen=True, slots=True, kw_only=True)
class World:
    """The ports a server's run needs."""

    controllers: Controllers
    journal: Journal
    clock: Clock
    payloads: Payloads
    baseline: Baseline
    reporter: Reporter
    orders: Orders
    helpers: Helpers
    access: Access
    remedies: Mapping[Remedy, Choice] = dataclasses.field(default_factory=lambda: dict(USUAL))
    exceptions: Sequence[RemedyException] = ()
    patience: Patience = dataclasses.field(default_factory=Patience)
    site: Site = dataclasses.field(default_factory=Site)

    def may_try(self, remedy: Remedy, model: str, kinds: Iterable[str]) -> Choice:
        """What is done with a remedy on components of these kinds: for each the first exception that fits, else what
        holds for all; of several the most cautious.
        """
        usual = self.remedies.get(remedy, Choice.NEVER)
        found = [next((e.choice for e in self.exceptions if e.fits(remedy, model, kind)), usual) for kind in kinds]
        return max(found, key=CAUTION.index, default=usual)


class StoppedError(Exception):
    """A person ends a server's part in a run while nothing is under way on it."""

    def __init__(self, *, is_left_out: bool) -> None:
        self.is_left_out = is_left_out


class StepFailedError(Exception):
    """A step can't be done, for a reason of the closed list. The server is left as it is, marked for a person."""

    def __init__(self, reason: Reason, **facts: object) -> None:
        self.reason, self.facts = reason, {name: str(value) for name, value in facts.items()}
        super().__init__(reason)
