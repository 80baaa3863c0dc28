"""A run sheet as a document: what is approved, kept, copied and compared (``night.md`` P4, needs N5.4).

What a run will do and what it keeps to: its servers with their rounds and payloads, waves, windows, limits, and what
people decided. Not in it: when each step is expected, which follows from it and from how long things take.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from ordnung.core.errands import ErrandKind, all_hands
from ordnung.core.night.limits import NightLimits
from ordnung.core.sheet import PlannedRound
from ordnung.core.turn import Span


@dataclass(frozen=True, slots=True, kw_only=True)
class HandsOn:
    """A step that needs a person at the server (P3): for which update, before or after it, what to do."""

    slot: str
    to: str
    when: str
    what: str


def hands_on(rounds: Iterable[PlannedRound]) -> tuple[HandsOn, ...]:
    """What a person does at the server for what is written there, in the order in which it falls due."""
    return tuple(
        HandsOn(slot=e.slot, to=e.to, when="before" if e.kind is ErrandKind.HANDS_BEFORE else "after", what=e.what)
        for e in all_hands(rounds)
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetServer:
    """One server of a sheet: where it belongs, what is done to it in which rounds, what people decided for it.

    ``back`` names what is taken back to which version; None: to the baseline. ``hold``: a person lets it begin.
    """

    server: str
    group: str = ""
    rack: str = ""
    room: str = ""
    wave: str = ""
    rounds: tuple[PlannedRound, ...] = ()
    back: Mapping[str, str] | None = None
    not_before: datetime.datetime | None = None
    pinned: bool = False
    hold: bool = False
    overrides: Mapping[str, str] = field(default_factory=dict)
    left_out: Mapping[str, str] = field(default_factory=dict)
    hands: tuple[HandsOn, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetWave:
    """A wave of a sheet: what is waited for after it, and before which instant none of it begins (T7, T11)."""

    name: str
    wait_seconds: float = 0.0
    gate: str = "none"
    not_before: datetime.datetime | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class RunSheet:
    """A whole sheet; what it is called is no part of it.

    ``waves`` name no servers: each server names its wave. ``windows`` None: at any time. ``baseline`` is the number of
    the revision that it was planned by; ``limits`` has no waves, windows, wishes of its own and nobody occupied.
    """

    baseline: int
    servers: tuple[SheetServer, ...]
    waves: tuple[SheetWave, ...] = ()
    windows: tuple[Span, ...] | None = None
    limits: NightLimits = field(default_factory=NightLimits)
    disc: str = ""
    """The SHA-256 of the disc image by which all of it is brought; empty: by none."""

    @property
    def by_name(self) -> dict[str, SheetServer]:
        """Its servers by name."""
        return {server.server: server for server in self.servers}


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetDifference:
    """One difference of two sheets: of which server (empty: of the whole sheet), what, and how it stood and stands."""

    server: str
    what: str
    before: str
    after: str


def compare_sheets(before: RunSheet, after: RunSheet) -> tuple[SheetDifference, ...]:
    """Every difference, those of the whole sheet first, then server by server."""
    old, new = before.by_name, after.by_name
    found = [*_whole(before, after)]
    for name in sorted(old.keys() | new.keys()):
        if name not in new:
            found.append(SheetDifference(server=name, what="server", before="on the sheet", after="not on it"))
        elif name not in old:
            found.append(SheetDifference(server=name, what="server", before="not on it", after="on the sheet"))
        else:
            found += _of_server(old[name], new[name])
    return tuple(found)


def only_leaves_out(approved: RunSheet, present: RunSheet) -> bool:
    """Whether nothing was changed since but that servers were left out: an approval covers that (P4)."""
    kept = present.by_name
    trimmed = dataclasses.replace(approved, servers=tuple(s for s in approved.servers if s.server in kept))
    return bool(present.servers) and not compare_sheets(trimmed, present)


def _whole(before: RunSheet, after: RunSheet) -> Iterator[SheetDifference]:
    pairs = (
        ("baseline", f"revision {before.baseline}", f"revision {after.baseline}"),
        ("waves", _tell_waves(before.waves), _tell_waves(after.waves)),
        ("disc image", before.disc[:12] or "none", after.disc[:12] or "none"),
        ("window", _tell_windows(before.windows), _tell_windows(after.windows)),
        *((what, a, b) for (what, a), (_, b) in zip(_limits(before), _limits(after), strict=True)),
    )
    yield from (SheetDifference(server="", what=w, before=a, after=b) for w, a, b in pairs if a != b)


def _limits(sheet: RunSheet) -> list[tuple[str, str]]:
    limits = sheet.limits
    groups = ", ".join(sorted(f"{g.name}: {_tell_group(g)}" for g in limits.groups))
    certainty = "by planned seconds" if limits.certainty is None else f"{limits.certainty:g}"
    speed = "not known" if limits.bytes_per_second is None else f"{limits.bytes_per_second} bytes a second"
    return [
        ("servers at once", str(limits.at_once)),
        ("the link", f"{limits.transfers} transfers, {speed}"),
        ("groups", groups or "none"),
        ("racks", _tell_numbers(limits.racks)),
        ("rooms", _tell_numbers(limits.rooms)),
        ("ahead", limits.ahead),
        ("certainty", certainty),
    ]


def _tell_group(group: object) -> str:
    told = {f.name: getattr(group, f.name) for f in dataclasses.fields(group)}  # type: ignore[arg-type]
    return ", ".join(f"{key} {value}" for key, value in told.items() if key != "name" and value not in (0.0, False))


def _tell_numbers(numbers: Mapping[str, int]) -> str:
    return ", ".join(f"{name}: {number}" for name, number in sorted(numbers.items())) or "none"


def _tell_waves(waves: Iterable[SheetWave]) -> str:
    return "; then ".join(_tell_wave(wave) for wave in waves) or "none"


def _tell_wave(wave: SheetWave) -> str:
    begins = "" if wave.not_before is None else f" not before {wave.not_before:%Y-%m-%d %H:%M}"
    waits = f", then {wave.wait_seconds / 60:g} min" if wave.wait_seconds else ""
    return f"{wave.name}{begins}{waits}{', then a person' if wave.gate == 'person' else ''}"


def _tell_windows(windows: Iterable[Span] | None) -> str:
    if windows is None:
        return "at any time"
    return ", ".join(f"{start:%Y-%m-%d %H:%M} to {end:%Y-%m-%d %H:%M}" for start, end in windows)


def _of_server(old: SheetServer, new: SheetServer) -> Iterator[SheetDifference]:
    pairs = (
        ("group", old.group, new.group),
        ("rack", f"{old.room} {old.rack}".strip(), f"{new.room} {new.rack}".strip()),
        ("wave", old.wave, new.wave),
        ("updates", _tell_rounds(old.rounds), _tell_rounds(new.rounds)),
        ("payloads", _tell_payloads(old.rounds), _tell_payloads(new.rounds)),
        ("way back", _tell_facts(old.back or {}), _tell_facts(new.back or {})),
        ("begins", _tell_begin(old), _tell_begin(new)),
        ("overridden", _tell_facts(old.overrides), _tell_facts(new.overrides)),
        ("left out", _tell_facts(old.left_out), _tell_facts(new.left_out)),
        ("by hand", _tell_hands(old.hands), _tell_hands(new.hands)),
    )
    for what, before, after in pairs:
        if before != after:
            yield SheetDifference(server=new.server, what=what, before=before or "none", after=after or "none")


def _tell_rounds(rounds: Iterable[PlannedRound]) -> str:
    told = []
    for step in rounds:
        writes = [f"{p.write.slot} {p.write.source} → {p.write.to}" for p in step.writes]
        told.append(", ".join([*writes, *([step.reset] if step.reset else [])]))
    return "; ".join(told)


def _tell_payloads(rounds: Iterable[PlannedRound]) -> str:
    payloads = [p.payload for step in rounds for p in step.writes]
    return ", ".join("not named" if p is None else f"{p.sha256[:16]} of {p.maker} {p.issue}" for p in payloads)


def _tell_facts(facts: Mapping[str, str]) -> str:
    return ", ".join(f"{key}: {value}" for key, value in sorted(facts.items()))


def _tell_hands(hands: Iterable[HandsOn]) -> str:
    return "; ".join(f"{h.when} {h.slot} {h.to}: {h.what}" for h in hands)


def _tell_begin(server: SheetServer) -> str:
    at = "" if server.not_before is None else f"{'at' if server.pinned else 'not before'} {server.not_before:%H:%M}"
    return " ".join(part for part in (at, "when a person lets it" if server.hold else "") if part)
