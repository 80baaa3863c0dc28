"""What the field kit brings a server level with: a repository under seal, and the rules that lie in it."""

from __future__ import annotations

import dataclasses
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.baseline import Position, leave_out, locate
from ordnung.core.components import Server
from ordnung.core.matching import Catalogs
from ordnung.core.route import Route, plan_route, plan_way_back
from ordnung.core.rules import FIXED_RULES, Rule
from ordnung.core.sheet import PlannedRound, PlannedWrite, name_payloads
from ordnung.engine.ports import Clock
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.packing import PackingList
from ordnung.formats.rules import parse_rules
from ordnung.repository import Arrived, Carrier, carry_in
from ordnung.store import ContentStore

NEEDS_HANDS = "it needs somebody at the server; run it at a terminal"


@dataclass(frozen=True, slots=True, kw_only=True)
class Kit:
    """A repository that was verified whole: what it says there should be, and its payloads in the store."""

    packing: PackingList
    packing_sum: str
    catalogs: Catalogs
    rules: tuple[Rule, ...]
    store: ContentStore
    waiting: tuple[str, ...] = ()
    """Files on other media of this repository, which have not been brought."""
    rules_sum: str = ""
    """The checksum of rules that hold instead of the repository's own; empty where those hold."""

    def ruled_by(self, raw: bytes, source: str) -> Kit:
        """The same by other house rules. What may be sent stays what the seal vouches for.

        Raises:
            FormatError: the rules can't be read.
        """
        return dataclasses.replace(self, rules=parse_rules(raw, source), rules_sum=hashlib.sha256(raw).hexdigest())


def unpack_kit(carrier: Carrier, arrived: Arrived, store: ContentStore) -> Kit:
    """Verify every file of a repository whose seal is verified, and take it into the store.

    Catalogs count as signed by whom the packing list says: the seal vouches for it.

    Raises:
        RepositoryError: a file is altered, cut short or missing, or there is no room.
        FormatError: a catalog or the rules can't be read.
    """
    carried = carry_in(carrier, arrived, store, f"series-{arrived.packing.series}")
    packing = arrived.packing
    issues = tuple(
        dataclasses.replace(parse_catalog(carried.documents[c.path], c.path), signed_by=c.signed_by)
        for c in packing.catalogs
    )
    follows = {(f["model"], f["maker"], f["catalog"]): f["issue"] for f in packing.follows}
    rules = parse_rules(carried.documents[packing.rules], packing.rules) if packing.rules else FIXED_RULES
    return Kit(
        packing=packing, packing_sum=arrived.packing_sum, catalogs=Catalogs(issues, follows), rules=rules,
        store=store, waiting=carried.waiting,
    )  # fmt: skip


def names_needed(rules: Sequence[Rule]) -> tuple[str, ...]:
    """Of ``server`` and ``group``: by what the house's rules go that no controller knows."""
    return tuple(key for key in ("server", "group") if any(key in rule.where for rule in rules))


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What is to be brought level: nothing but ``only``, where that is given, and nothing of ``but``.

    Both name slots or kinds. ``hands``: somebody is at the server and can be asked.
    """

    only: frozenset[str] = frozenset()
    but: frozenset[str] = frozenset()
    hands: bool = False

    def reason_against(self, position: Position) -> str:
        """Why a component stays as it is; empty when it need not."""
        names = {position.component.slot, position.component.kind}
        if self.only and not names & self.only:
            return "not among --only"
        return "by --except" if names & self.but else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Way:
    """A route with its payloads by name, and what stays as it is: slot and reason."""

    route: Route
    rounds: tuple[PlannedRound, ...]
    stays: Mapping[str, str]

    @property
    def writes(self) -> tuple[PlannedWrite, ...]:
        """All writes, in order."""
        return tuple(planned for step in self.rounds for planned in step.writes)


def _is_off(position: Position) -> bool:
    target = position.target
    return target is not None and target.version not in (None, position.component.version)


@dataclass(frozen=True, slots=True, kw_only=True)
class KitBaseline:
    """The engine's port: where a freshly read server stands, by the repository's own rules and catalogs.

    What can't be done with what is here is held, so that the rest gets as far as it can (N6.6).
    """

    kit: Kit
    clock: Clock
    wanted: Wanted = Wanted()
    group: str | None = None
    left_out: Mapping[str, str] = dataclasses.field(default_factory=dict)

    async def locate(self, server: Server) -> tuple[Position, ...]:
        """The positions of a server; what stays behind is held, with the reason."""
        return self.stand(server)[0]

    def stand(self, server: Server) -> tuple[tuple[Position, ...], dict[str, str]]:
        """The positions, and which slots stay as they are though they are not on the baseline, with the reason."""
        value = dataclasses.replace(server, group=self.group)
        positions = locate(value, self.kit.catalogs, self.kit.rules, self.clock.now().date())
        reasons = {p.component.slot: why for p in positions if (why := self.wanted.reason_against(p))}
        reasons |= self.left_out
        held = leave_out(positions, reasons)
        while lacking := self._find_lacking(held):
            reasons |= lacking
            held = leave_out(positions, reasons)
        pending = {p.component.slot for p in positions if _is_off(p)}
        return held, {slot: why for slot, why in reasons.items() if slot in pending}

    def plan(self, server: Server, back: Mapping[str, str] | None) -> Way:
        """The way from a reading: up to the baseline, or ``back`` to the versions named."""
        positions, stays = self.stand(server)
        route = plan_route(positions) if back is None else plan_way_back(positions, back)
        return Way(route=route, rounds=name_payloads(route.rounds, positions, by_bank=back is not None), stays=stays)

    def _find_lacking(self, positions: tuple[Position, ...]) -> dict[str, str]:
        rounds = name_payloads(plan_route(positions).rounds, positions)
        found = {p.write.slot: self.why_not(p) for step in rounds for p in step.writes}
        return {slot: why for slot, why in found.items() if why}

    def why_not(self, planned: PlannedWrite) -> str:
        """Why a write can't be done here; empty when it can."""
        if planned.needs_payload and (planned.payload is None or not self.kit.store.has(planned.payload.sha256)):
            return f"{planned.write.to} is not in this repository"
        return NEEDS_HANDS if (planned.hands_before or planned.hands_after) and not self.wanted.hands else ""
