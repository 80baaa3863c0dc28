"""Tape entries as journals keep them: a version, a kind and a JSON object; older versions stay readable."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping
from typing import Any

from cattrs.errors import BaseValidationError
from cattrs.preconf.json import make_converter

from ordnung.controllers import Marker
from ordnung.core.components import Server
from ordnung.core.route import Stranded, Write
from ordnung.core.sheet import PlannedRound, PlannedWrite
from ordnung.engine import entries
from ordnung.engine.entries import Ending, Entry, Evidence, ReadWhy, Reason, ResetKind, TapeEntry
from ordnung.formats.readings import build_server, server_entry

VERSION = 2
"""What is written now. Version 1 had free bodies and sentences in them."""
KINDS: dict[str, type[TapeEntry]] = {
    "read": entries.Read,
    "left before": entries.LeftBefore,
    "plan": entries.Plan,
    "place taken": entries.PlaceTaken,
    "place given": entries.PlaceGiven,
    "deferred": entries.Deferred,
    "ahead done": entries.AheadDone,
    "warned": entries.Warned,
    "troubled": entries.Troubled,
    "remedied": entries.Remedied,
    "errand asked": entries.ErrandAsked,
    "errand done": entries.ErrandDone,
    "errand given up": entries.ErrandGivenUp,
    "write intent": entries.WriteIntent,
    "write sent": entries.WriteSent,
    "write unsent": entries.WriteUnsent,
    "write staged": entries.WriteStaged,
    "write done": entries.WriteDone,
    "write failed": entries.WriteFailed,
    "reset intent": entries.ResetIntent,
    "reset sent": entries.ResetSent,
    "reset seen": entries.ResetSeen,
    "reset unsent": entries.ResetUnsent,
    "reset spared": entries.ResetSpared,
    "asked": entries.Asked,
    "answered": entries.Answered,
    "back": entries.Back,
    "confirmed": entries.Confirmed,
    "ended": entries.Ended,
}
_NAMES = {made: name for name, made in KINDS.items()}


class TapeFormatError(Exception):
    """An entry that can't be read: written by a later version of Ordnung, or damaged."""


_converter = make_converter(forbid_extra_keys=True)
_converter.register_unstructure_hook(Server, server_entry)
_converter.register_structure_hook(Server, lambda body, _: build_server(dict(body)))


def kind_of(value: TapeEntry) -> str:
    """The name of an entry's kind."""
    return _NAMES[type(value)]


def write_entry(value: TapeEntry) -> tuple[str, dict[str, Any]]:
    """An entry's kind and body, as version ``VERSION``."""
    return kind_of(value), _converter.unstructure(value)


def read_entry(seq: int, at: datetime.datetime, version: int, kind: str, body: Mapping[str, Any]) -> Entry:
    """An entry back from a journal. Raises TapeFormatError when it can't be read."""
    if version not in (1, VERSION) or kind not in KINDS:
        raise TapeFormatError(f"entry {seq}: a {kind!r} of version {version} is not known here")
    try:
        value = _read_first(kind, body) if version == 1 else _converter.structure(body, KINDS[kind])
    except (BaseValidationError, KeyError, TypeError, ValueError) as error:
        raise TapeFormatError(f"entry {seq}: a {kind} that can't be read: {error}") from error
    return Entry(seq=seq, at=at, value=value)


def rounds_body(rounds: tuple[PlannedRound, ...]) -> list[dict[str, Any]]:
    """Rounds as they stand on a tape and on a sheet."""
    body: list[dict[str, Any]] = _converter.unstructure(rounds)
    return body


def parse_rounds(body: Any) -> tuple[PlannedRound, ...]:
    """Rounds back; those of version 1 name no payloads."""
    return _converter.structure(
        [step if _is_named(step) else _name_nothing(step) for step in body], tuple[PlannedRound, ...]
    )


def _is_named(step: Mapping[str, Any]) -> bool:
    return all("write" in write for write in step["writes"])


def _name_nothing(step: Mapping[str, Any]) -> dict[str, Any]:
    return {**step, "writes": [{"write": write, "payload": None} for write in step["writes"]]}


# Version 1: free bodies. What was a sentence is kept as one, under the reason "told by an earlier version".


def _read_first(kind: str, body: Mapping[str, Any]) -> TapeEntry:
    return _FIRST[kind](body)


def _told(text: object) -> dict[str, str]:
    return {"told": str(text)}


def _first_marker(body: Mapping[str, Any]) -> Marker:
    marker = body.get("marker") or {}
    return Marker(system=marker.get("system"), controller=marker.get("controller"), boot=marker.get("boot"))


def _first_intent(body: Mapping[str, Any]) -> TapeEntry:
    planned = PlannedWrite(write=Write(**body["write"]), payload=None)
    return entries.WriteIntent(planned=planned, way=body["way"], known_tasks=tuple(body["tasks"]))


def _first_plan(body: Mapping[str, Any]) -> TapeEntry:
    stranded = tuple(Stranded(**lost) for lost in body.get("stranded", ()))
    return entries.Plan(rounds=parse_rounds(body["rounds"]), stranded=stranded)


_FIRST: dict[str, Callable[[Mapping[str, Any]], TapeEntry]] = {
    "read": lambda b: entries.Read(server=build_server(dict(b["server"])), why=ReadWhy(b["why"])),
    "plan": _first_plan,
    "write intent": _first_intent,
    "write sent": lambda b: entries.WriteSent(task=b["task"], evidence=Evidence.EARLIER),
    "write unsent": lambda b: entries.WriteUnsent(reason=Reason.EARLIER, facts=_told(b["why"])),
    "write done": lambda b: entries.WriteDone(evidence=Evidence.EARLIER, message=str(b.get("message", ""))),
    "write failed": lambda b: entries.WriteFailed(reason=Reason.EARLIER, facts=_told(b["message"])),
    "reset intent": lambda b: entries.ResetIntent(kind=ResetKind(b["kind"]), marker=_first_marker(b)),
    "reset sent": lambda _: entries.ResetSent(evidence=Evidence.EARLIER),
    "reset unsent": lambda b: entries.ResetUnsent(reason=Reason.EARLIER, facts=_told(b["why"])),
    "back": lambda b: entries.Back(marker=_first_marker(b)),
    "confirmed": lambda b: entries.Confirmed(versions=tuple((slot, version) for slot, version in b["versions"])),
    "ended": lambda b: entries.Ended(
        ending=Ending(b["state"]), reason=Reason.EARLIER, facts=_told(b.get("reason", ""))
    ),
}
