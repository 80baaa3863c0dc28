"""On a sheet: what makes it sure that each payload is for its component, said before anything starts."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ordnung.core.baseline import Position
from ordnung.core.sheet import PlannedRound, PlannedWrite
from ordnung.engine.payloads import StoredPayloads
from ordnung.formats.pldm import Package
from ordnung.repository.identity import SettledBy, settle_identity
from ordnung.store import RepositoryError


class Identities:
    """What settles the identity of each payload on a sheet; each package is read once for all servers."""

    def __init__(self, payloads: StoredPayloads) -> None:
        self.payloads = payloads
        self._packages: dict[str, Package | RepositoryError | None] = {}

    def of(self, rounds: Iterable[PlannedRound], positions: Sequence[Position]) -> dict[str, str]:
        """By ``SLOT VERSION``: what settles it, or why nothing does; nothing for what is not in the store."""
        by_slot = {p.component.slot: p for p in positions}
        found = {}
        for step in rounds:
            for planned in step.writes:
                identity = self._settle(planned, by_slot.get(planned.write.slot))
                if identity:
                    found[f"{planned.write.slot} {planned.write.to}"] = identity
        return found

    def _settle(self, planned: PlannedWrite, position: Position | None) -> str:
        payload = planned.payload
        if payload is None or position is None or position.product is None:
            return ""
        if payload.sha256 not in self._packages:
            try:
                self._packages[payload.sha256] = self.payloads.look(payload)
            except RepositoryError as error:
                self._packages[payload.sha256] = error
        package = self._packages[payload.sha256]
        if isinstance(package, RepositoryError):
            return ""
        identity = settle_identity(package, payload, position.product, planned.write.to, position.component)
        return f"by {identity}" if isinstance(identity, SettledBy) else f"not settled: {identity}"
