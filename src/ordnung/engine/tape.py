"""The tape of one server in a run: what its entries mean, and what comes next.

Invariants (the fold raises ValueError where a tape breaks one):
- an intent is on the tape before anything is sent to the device, its outcome after;
- at most one intent is open; no reset intent while a write is open;
- the state of a server in a run is the fold over its tape: there is no other truth.

An open intent found after a crash, or after a lost answer, is *reconciled* by asking the device.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ordnung.controllers import Marker
from ordnung.core.components import Server
from ordnung.core.route import Round, Write
from ordnung.engine.ports import Entry
from ordnung.formats.readings import build_server

MAX_SENDS = 3
"""How often one write or reset that certainly never reached the device is sent again."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenWrite:
    """A write whose outcome is not known yet. ``task`` is None until the device named one."""

    write: Write
    sha256: str
    way: str
    known_tasks: tuple[str, ...]
    task: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenReset:
    """A reset that was intended; ``sent`` when the device took it; ``marker`` from before it."""

    kind: str
    marker: Marker
    sent: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class TapeState:
    """Where a server stands in its run."""

    seq: int = 0
    before: Server | None = None
    rounds: tuple[Round, ...] | None = None
    round: int = 0
    written: int = 0
    open_write: OpenWrite | None = None
    open_reset: OpenReset | None = None
    is_back: bool = False
    """The reset of this round is over and the server answers again."""
    back_at: datetime.datetime | None = None
    sends: int = 0
    """Times the present intent was sent without reaching the device."""
    done: tuple[tuple[str, str], ...] = ()
    """(slot, version) of what was confirmed, in order."""
    ended: str | None = None
    reason: str = ""

    @property
    def current(self) -> Round | None:
        """The round at hand, None when all are done."""
        return self.rounds[self.round] if self.rounds is not None and self.round < len(self.rounds) else None


def fold(entries: Iterable[Entry]) -> TapeState:
    """The state after a tape. Raises ValueError for a tape that breaks an invariant."""
    state = TapeState()
    for entry in entries:
        state = advance(state, entry)
    return state


def advance(state: TapeState, entry: Entry) -> TapeState:
    """The state after one more entry. Raises ValueError when the entry doesn't fit."""
    if entry.seq != state.seq + 1:
        raise ValueError(f"entry {entry.seq} follows entry {state.seq}")
    return dataclasses.replace(_apply(state, entry), seq=entry.seq)


def _apply(state: TapeState, entry: Entry) -> TapeState:
    body = entry.body
    change = dataclasses.replace
    match entry.kind:
        case "read":
            if state.before is not None:
                return state
            return change(state, before=build_server(dict(body["server"])))
        case "plan":
            return change(state, rounds=parse_rounds(body["rounds"]), round=0, written=0, sends=0)
        case "write intent":
            _demand(state.open_write is None and state.open_reset is None, entry)
            return change(state, open_write=_open_write(body))
        case "write sent":
            _demand(state.open_write is not None, entry)
            assert state.open_write is not None
            return change(state, open_write=change(state.open_write, task=body["task"]))
        case "write unsent":
            _demand(state.open_write is not None, entry)
            return change(state, open_write=None, sends=state.sends + 1)
        case "write done":
            _demand(state.open_write is not None, entry)
            return change(state, open_write=None, written=state.written + 1, sends=0)
        case "write failed":
            _demand(state.open_write is not None, entry)
            return change(state, open_write=None)
        case "reset intent":
            _demand(state.open_write is None and state.open_reset is None, entry)
            return change(state, open_reset=OpenReset(kind=body["kind"], marker=Marker(**body["marker"])))
        case "reset sent":
            _demand(state.open_reset is not None, entry)
            assert state.open_reset is not None
            return change(state, open_reset=change(state.open_reset, sent=True))
        case "reset unsent":
            return change(state, open_reset=None, sends=state.sends + 1)
        case "back":
            return change(state, open_reset=None, is_back=True, back_at=entry.at, sends=0)
        case "confirmed":
            done = (*state.done, *((slot, version) for slot, version in body["versions"]))
            return change(state, round=state.round + 1, written=0, is_back=False, back_at=None, done=done)
        case "ended":
            return change(state, ended=body["state"], reason=body.get("reason", ""))
        case _:
            return state


def _demand(holds: bool, entry: Entry) -> None:
    if not holds:
        raise ValueError(f"entry {entry.seq} ({entry.kind}) does not fit the tape")


@dataclass(frozen=True, slots=True)
class Step:
    """What comes next: one of read, plan, write, find write, follow, reset, find reset, await, confirm, check, none."""

    kind: str


def next_step(state: TapeState) -> Step:
    """What to do next with a server: a total function of the tape."""
    if state.ended is not None:
        return Step("none")
    if state.open_write is not None:
        return Step("find write" if state.open_write.task is None else "follow")
    if state.open_reset is not None:
        return Step("await" if state.open_reset.sent else "find reset")
    if state.before is None:
        return Step("read")
    if state.rounds is None:
        return Step("plan")
    current = state.current
    if current is None:
        return Step("check")
    if state.written < len(current.writes):
        return Step("write")
    if current.reset is not None and not state.is_back:
        return Step("reset")
    return Step("confirm")


def _open_write(body: Mapping[str, Any]) -> OpenWrite:
    return OpenWrite(
        write=Write(**body["write"]),
        sha256=body["sha256"],
        way=body["way"],
        known_tasks=tuple(body["tasks"]),
    )


def rounds_body(rounds: Iterable[Round]) -> list[dict[str, Any]]:
    """Rounds as they stand on a tape."""
    return [
        {
            "writes": [dataclasses.asdict(write) for write in step.writes],
            "reset": step.reset,
            "reset_seconds": step.reset_seconds,
            "activates": [list(pair) for pair in step.activates],
        }
        for step in rounds
    ]


def parse_rounds(body: Iterable[Mapping[str, Any]]) -> tuple[Round, ...]:
    """Rounds back from a tape."""
    return tuple(
        Round(
            writes=tuple(Write(**write) for write in step["writes"]),
            reset=step["reset"],
            reset_seconds=step["reset_seconds"],
            activates=tuple((slot, version) for slot, version in step["activates"]),
        )
        for step in body
    )


def marker_body(marker: Marker) -> dict[str, str | None]:
    """A marker as it stands on a tape."""
    return {"system": marker.system, "controller": marker.controller, "boot": marker.boot}
