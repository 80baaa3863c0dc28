"""Checks before a write and before a reset: one registry, asked on a fresh reading (``night.md`` C, needs N5.6).

Each check looks at what was just read and answers pass, note, warn or block, with what it saw and the remedy. A block
stops the server with nothing sent. Those that may be overridden are named with the reason that a person gave.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from ordnung.core.components import Server
from ordnung.core.facts import PASSING, Facts, tell_next_start, tell_settings, tell_span
from ordnung.core.sheet import PlannedWrite

DISCS = ("Cd", "Usb")
"""Where a start goes that goes to a disc or a stick (BootSource, ComputerSystem schema)."""
CLOCK_S = 300.0
"""A clock that is further off bars fetching over HTTPS."""


class Severity(StrEnum):
    """How much a finding weighs."""

    PASS = "pass"  # noqa: S105  # a word of the checks, no secret
    NOTE = "note"
    WARN = "warn"
    BLOCK = "block"


class Before(StrEnum):
    """What is about to be done."""

    WRITE = "a write"
    RESET = "a reset"
    SHEET = "a sheet"
    """Nothing is sent yet: what would be found by the last reading."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Outside:
    """What a run knows of a server that its controller can't tell; nothing where nobody looked.

    ``done_by``: when the run is done with 99 in 100. ``lacking`` and ``unsettled`` name payloads that are not at hand
    or of unclear identity, ``barred`` ways back, ``failed_before`` releases with how often they failed on this model;
    ``hands`` are steps that need a person at the server; ``short`` says why its group lets nobody begin now.
    """

    seal_ends: datetime.datetime | None = None
    done_by: datetime.datetime | None = None
    reading_hours: float | None = None
    lacking: tuple[str, ...] = ()
    unsettled: tuple[str, ...] = ()
    barred: tuple[str, ...] = ()
    failed_before: tuple[str, ...] = ()
    hands: tuple[str, ...] = ()
    short: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Situation:
    """What a check looks at. ``write`` is the write about to be sent, ``way`` how; None before a reset."""

    server: Server
    before: Before
    now: datetime.datetime
    write: PlannedWrite | None = None
    way: str | None = None
    will_reset: bool = False
    """The plan has an outage still: a write that would then wait for a reset that must not come is not begun."""
    reset: str | None = None
    """What makes active what is about to be written; None where that needs nothing of ours."""
    outside: Outside = field(default_factory=Outside)
    own_disc: bool = False
    """It is started from a disc or a stick of ours: that one is inserted, and that starts go there, is meant so."""

    @property
    def facts(self) -> Facts:
        """The facts of the reading; empty ones where the controller tells none."""
        return self.server.facts or Facts()


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """What one check found: its id, how much it weighs, what was seen, the remedy, whether a person may override."""

    check: str
    severity: Severity
    seen: str
    remedy: str
    may_override: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One question. ``look`` answers None when there is nothing to say."""

    id: str
    may_override: bool
    look: Callable[[Situation], tuple[Severity, str, str] | None]


def run_checks(situation: Situation, overrides: Mapping[str, str] | None = None) -> tuple[Finding, ...]:
    """Everything the checks have to say, what blocks first.

    Args:
        overrides: check id to a person's reason: a block that may be overridden becomes a warning that says so.
    """
    found = []
    for check in CHECKS:
        said = check.look(situation)
        if said is None:
            continue
        severity, seen, remedy = said
        reason = (overrides or {}).get(check.id)
        if severity is Severity.BLOCK and check.may_override and reason:
            severity, remedy = Severity.WARN, f"Overridden: {reason}"
        found.append(
            Finding(check=check.id, severity=severity, seen=seen, remedy=remedy, may_override=check.may_override)
        )
    return tuple(sorted(found, key=lambda f: -_WEIGHT.index(f.severity)))


def find_block(findings: Iterable[Finding]) -> Finding | None:
    """The first finding that stops the server, or None."""
    return next((finding for finding in findings if finding.severity is Severity.BLOCK), None)


_WEIGHT = (Severity.PASS, Severity.NOTE, Severity.WARN, Severity.BLOCK)
_Said = tuple[Severity, str, str] | None


def _power(s: Situation) -> _Said:
    if s.facts.power in (None, "On"):
        return None
    remedy = "Turn the server on; some components are only there then."
    if s.facts.power in PASSING:
        remedy = "Wait until it has started, or look at its console."
    return Severity.BLOCK, f"its power is {s.facts.power}", remedy


def _health(s: Situation) -> _Said:
    remedy = "Look at the server's health first; put right what is broken, or override with the reason."
    if s.facts.health == "Critical":
        return Severity.BLOCK, "its health is Critical", remedy
    return (Severity.WARN, f"its health is {s.facts.health}", remedy) if s.facts.health == "Warning" else None


def find_array_trouble(server: Server) -> list[str]:
    """The arrays of a server that rebuild or are not whole, in words."""
    return [*server.facts.rebuilding, *server.facts.arrays_broken] if server.facts is not None else []


def _is_of_array(server: Server, slot: str) -> bool:
    """Whether a component is a drive, or what drives hang on: while it is written, or starts, it is away from both."""
    part = server.component(slot)
    return part is not None and part.kind in ("drive", "raid")


def is_redundant(server: Server, slot: str) -> bool:
    """Whether a component is one of those that stand in for each other while one is written."""
    part = server.component(slot)
    return part is not None and part.kind in ("drive", "raid", "power")


def find_redundancy_trouble(server: Server, slot: str) -> list[str]:
    """Why what stands in for a component while that is written may not carry on, in words."""
    if _is_of_array(server, slot):
        return find_array_trouble(server)
    if not is_redundant(server, slot):
        return []
    others = [part for part in server.components if part.kind == "power" and part.slot != slot]
    return [f"the health of {part.slot} is {part.health}" for part in others if part.health not in (None, "OK")]


def _arrays(s: Situation) -> _Said:
    """A second drive that goes while a first is gone may be the end of the data; so may a reset."""
    arrays = find_array_trouble(s.server)
    if not arrays:
        return None
    is_part = s.write is not None and _is_of_array(s.server, s.write.write.slot)
    severity = Severity.BLOCK if s.before is Before.RESET or s.will_reset or is_part else Severity.WARN
    return severity, "; ".join(arrays), "Wait until the array is whole; what is done now puts its data at risk."


def _next_start(s: Situation) -> _Said:
    """A reboot of ours would start what somebody chose for the next start: an installer, perhaps."""
    is_meant = s.facts.next_start is None or (s.own_disc and s.facts.next_start in DISCS)
    if is_meant or not (s.before is Before.RESET or s.will_reset):
        return None
    if s.facts.next_start_stays:
        return Severity.WARN, tell_next_start(s.facts), "See to it that this is how it is meant to start."
    remedy = "Ask who chose it and take it back at the controller, or override with the reason."
    return Severity.BLOCK, tell_next_start(s.facts), remedy


def _settings(s: Situation) -> _Said:
    """A reboot of ours would make active what somebody else has changed, and the blame would be the update's."""
    if not s.facts.settings_waiting or not (s.before is Before.RESET or s.will_reset):
        return None
    remedy = "Ask who changed them: take them back, let that reboot come first, or override with the reason."
    return Severity.BLOCK, tell_settings(s.facts), remedy


def _media(s: Situation) -> _Said:
    """A disc that was forgotten: whether a reboot starts from it hangs on an order that controllers tell in part."""
    if not s.facts.media_inserted or s.own_disc or not (s.before is Before.RESET or s.will_reset):
        return None
    seen = f"{', '.join(s.facts.media_inserted)} is inserted as virtual media: a reboot may start from it"
    return Severity.WARN, seen, "Eject it, or see to it that its order starts elsewhere first."


def _feeds(s: Situation) -> _Said:
    if not s.facts.feeds_lost:
        return None
    return Severity.BLOCK, f"{', '.join(s.facts.feeds_lost)} has no input", "Restore the feed before anything is sent."


def _other_supply(s: Situation) -> _Said:
    """While one supply is written, the others carry the server."""
    if s.write is None or _is_of_array(s.server, s.write.write.slot):
        return None
    trouble = find_redundancy_trouble(s.server, s.write.write.slot)
    return (Severity.BLOCK, "; ".join(trouble), "Have that supply mended first.") if trouble else None


def _supplies(s: Situation) -> _Said:
    if s.write is None:
        return None
    supplies = [c for c in s.server.components if c.kind == "power"]
    if s.write.write.slot not in {c.slot for c in supplies}:
        return None
    versions = {f"{c.part or c.name} at {c.version}" for c in supplies}
    # The one that was written before it may run its new release already.
    older = {c.version for c in supplies if (c.version or "").strip() != s.write.write.to}
    if len({c.part or c.name for c in supplies}) < 2 and len(older) < 2:
        return None
    return (
        Severity.BLOCK,
        f"unlike supplies: {' and '.join(sorted(versions))}",
        "Fit two alike; never flash unlike ones.",
    )


def _reset(s: Situation) -> _Said:
    """An image would wait in it for a reset that nobody can ask its controller for; itself that may do so alone."""
    missing = dict(s.facts.no_reset).get(s.reset or "")
    if missing is None:
        return None
    if s.reset == "controller restart":
        return (
            Severity.WARN,
            f"it offers no {missing}",
            "It has to restart by itself; have somebody there if it does not.",
        )
    return Severity.BLOCK, f"it offers no {missing}", "Update it at its console, or with somebody there to reset it."


def _locked(s: Situation) -> _Said:
    if not s.facts.locked:
        return None
    return Severity.BLOCK, s.facts.locked, "Unlock it at the controller; until then it takes nothing."


def _room(s: Situation) -> _Said:
    payload = s.write.payload if s.write is not None else None
    most = s.facts.largest_image
    if payload is None or not most or payload.size <= most:
        return None
    seen = f"the image is {payload.size} bytes, it takes {most} at most"
    return Severity.BLOCK, seen, "Free its staging room, or bring the image another way."


def _clock(s: Situation) -> _Said:
    off = s.facts.clock_off_s
    if off is None or abs(off) <= CLOCK_S:
        return None
    seen = f"its clock is {tell_span(abs(off))} {'ahead' if off > 0 else 'behind'}"
    severity = Severity.BLOCK if s.way == "pull over HTTPS" else Severity.WARN
    return severity, seen, "Set the controller's clock or give it a time server; certificates look invalid to it."


def _rights(s: Situation) -> _Said:
    if s.facts.role is not None and s.facts.role in ("ReadOnly", "NoAccess"):
        return Severity.BLOCK, f"the account's role is {s.facts.role}", "Use an account that may configure components."
    return None


def _licence(s: Situation) -> _Said:
    missing = [licence.name for licence in s.facts.licences if not licence.valid]
    opens = s.way is not None if s.write is not None else s.facts.pulls or s.facts.push is not None
    if not missing or opens:
        return None
    seen = f"{', '.join(missing)} is not in force, and without it no way in is left"
    return Severity.BLOCK, seen, "Have the licence renewed or installed."


def _certificate(s: Situation) -> _Said:
    """By the end of the run where that is known."""
    ends = s.facts.certificate_ends
    if ends is None or (ends - (s.outside.done_by or s.now).date()).days > 0:
        return None
    return Severity.WARN, f"its certificate ends {ends.isoformat()}", "Renew the controller's certificate."


def _job(s: Situation) -> _Said:
    """Beforehand only: while it runs, the engine waits for the very job (``engine.hand``)."""
    if s.before is not Before.SHEET or not s.facts.jobs:
        return None
    remedy = "It is waited for 10 min, put off once to the end, then left to you. Let it end or cancel it first."
    return Severity.WARN, s.facts.jobs[0], remedy


def _seal(s: Situation) -> _Said:
    ends = s.outside.seal_ends
    if ends is None or (ends > s.now and (s.outside.done_by is None or ends > s.outside.done_by)):
        return None
    remedy = "Seal the repository anew, or carry in a newer edition."
    if ends <= s.now:
        return Severity.BLOCK, f"the seal of its repository ended {ends:%Y-%m-%d %H:%M}", remedy
    return (
        Severity.WARN,
        f"the seal of its repository ends {ends:%Y-%m-%d %H:%M}, before the run is surely done",
        remedy,
    )


def _payload(s: Situation) -> _Said:
    if s.outside.lacking:
        first, *others = s.outside.lacking
        more = f" and {len(others)} more are" if others else " is"
        return Severity.BLOCK, f"{first}{more} not at hand", "Pack a repository for these servers."
    if s.outside.unsettled:
        remedy = (
            "Ask the maker for a package that says whom it is for, or a signed catalog. Nothing is sent on a guess."
        )
        return Severity.BLOCK, "; ".join(s.outside.unsettled), remedy
    return None


def _group(s: Situation) -> _Said:
    if not s.outside.short:
        return None
    return (
        Severity.NOTE,
        s.outside.short,
        "It waits until the others are back; without a place until the end it is left.",
    )


def _reading(s: Situation) -> _Said:
    read_at, hours = s.server.read_at, s.outside.reading_hours
    if hours is None or read_at is None or s.now - read_at <= datetime.timedelta(hours=hours):
        return None
    seen = f"read {tell_span((s.now - read_at).total_seconds())} ago"
    return Severity.NOTE, seen, "Read it again before you rely on this; at its turn it is read anyway."


def _way_back(s: Situation) -> _Said:
    if not s.outside.barred:
        return None
    return (
        Severity.WARN,
        "; ".join(s.outside.barred),
        "Pack the version it comes from, or know that there is no way back.",
    )


def _partition(s: Situation) -> _Said:
    """A blank one has nothing to lose; of a damaged one nobody can tell what could still be read."""
    if s.write is None or not s.write.sets_up:
        return None
    part = s.server.component(s.write.write.slot)
    if part is None or part.state != "damaged":
        return None
    seen = f"{part.name} is damaged: it is set up anew, and whatever could still be read of it is lost"
    return Severity.WARN, seen, "Copy from it what you need first, or take it out."


def _failed(s: Situation) -> _Said:
    if not s.outside.failed_before:
        return None
    remedy = "Look at how it failed in Record; let one server of this model go first."
    return Severity.WARN, "; ".join(s.outside.failed_before), remedy


def _hands(s: Situation) -> _Said:
    if not s.outside.hands:
        return None
    return Severity.WARN, "; ".join(s.outside.hands), "Have somebody there; the sheet says where it stands."


CHECKS: tuple[Check, ...] = (
    Check(id="power", may_override=False, look=_power),
    Check(id="payload", may_override=False, look=_payload),
    Check(id="seal", may_override=True, look=_seal),
    Check(id="array", may_override=True, look=_arrays),
    Check(id="settings", may_override=True, look=_settings),
    Check(id="next start", may_override=True, look=_next_start),
    Check(id="virtual media", may_override=True, look=_media),
    Check(id="feed", may_override=True, look=_feeds),
    Check(id="other supply", may_override=False, look=_other_supply),
    Check(id="unlike supplies", may_override=False, look=_supplies),
    Check(id="reset", may_override=False, look=_reset),
    Check(id="locked", may_override=False, look=_locked),
    Check(id="staging room", may_override=False, look=_room),
    Check(id="clock", may_override=False, look=_clock),
    Check(id="rights", may_override=False, look=_rights),
    Check(id="licence", may_override=False, look=_licence),
    Check(id="certificate", may_override=True, look=_certificate),
    Check(id="way back", may_override=True, look=_way_back),
    Check(id="partition", may_override=True, look=_partition),
    Check(id="failed before", may_override=True, look=_failed),
    Check(id="hands", may_override=True, look=_hands),
    Check(id="job", may_override=False, look=_job),
    Check(id="group", may_override=False, look=_group),
    Check(id="reading", may_override=False, look=_reading),
    Check(id="health", may_override=True, look=_health),
)
"""In the order in which they are asked, what names a cause before what only says that something is wrong.

What only ``Outside`` tells is looked at on the sheet; someone else's job, what is at hand and the group's places are
asked again where they are waited for: by the engine and by ``core.away``.
"""
