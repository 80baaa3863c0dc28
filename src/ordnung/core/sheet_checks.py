"""The checks of a whole sheet as one list: what was found on which servers, what weighs most first (``night.md`` C)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from ordnung.core.checks import Finding, Severity, Situation, run_checks

ORDER = (Severity.BLOCK, Severity.WARN, Severity.NOTE, Severity.PASS)


@dataclass(frozen=True, slots=True, kw_only=True)
class Seen:
    """What was seen on one server."""

    server: str
    seen: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetFinding:
    """One check's finding of one severity on all servers that it concerns."""

    check: str
    severity: Severity
    remedy: str
    may_override: bool
    servers: tuple[Seen, ...]


def check_situations(
    situations: Iterable[Situation], overrides: Mapping[str, Mapping[str, str]]
) -> tuple[SheetFinding, ...]:
    """What the checks say of many situations; of several of one server the weightiest of each check counts.

    Args:
        overrides: server to the checks that a person has overridden for it, with the reason.
    """
    worst: dict[tuple[str, str], Finding] = {}
    for situation in situations:
        name = situation.server.name
        for found in run_checks(situation, overrides.get(name)):
            known = worst.get((name, found.check))
            if known is None or ORDER.index(found.severity) < ORDER.index(known.severity):
                worst[name, found.check] = found
    groups: dict[tuple[str, Severity, str, bool], list[Seen]] = {}
    for (name, _), found in worst.items():
        key = (found.check, found.severity, found.remedy, found.may_override)
        groups.setdefault(key, []).append(Seen(server=name, seen=found.seen))
    rows = [
        SheetFinding(
            check=check, severity=severity, remedy=remedy, may_override=may_override,
            servers=tuple(sorted(seen, key=lambda s: s.server)),
        )
        for (check, severity, remedy, may_override), seen in groups.items()
    ]  # fmt: skip
    return tuple(sorted(rows, key=lambda r: (ORDER.index(r.severity), -len(r.servers), r.check, r.remedy)))
