"""A tape as people see it in the lanes: spans of time. Pure. What is read as text comes from ``engine.telling``."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.core.errands import ErrandKind
from ordnung.engine.entries import (
    Back,
    Confirmed,
    Deferred,
    Ended,
    Entry,
    ErrandAsked,
    ErrandDone,
    ErrandGivenUp,
    ResetIntent,
    ResetSpared,
    ResetUnsent,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
    WriteStaged,
    WriteUnsent,
)

UNPLANNED = ("healing", "at the server")
"""What no timetable has a step for."""
ERRANDS = {
    ErrandKind.MOVE_OFF: "moving off",
    ErrandKind.TAKE_BACK: "taking back",
    ErrandKind.HEALED: "healing",
    ErrandKind.HANDS_BEFORE: "at the server",
    ErrandKind.HANDS_AFTER: "at the server",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class SpanRow:
    """Something a server went through, in seconds from the run's start; an open one has no end."""

    kind: str
    start: float
    end: float | None
    label: str
    ahead: bool = False
    """Done before its turn, in service (T8)."""


def tell_steps(entries: Iterable[Entry], start: datetime.datetime) -> list[SpanRow]:
    """What happened on one server as spans in seconds from the run's start; an open one has no end."""
    spans: list[SpanRow] = []

    def begin(kind: str, at: float, label: str = "") -> None:
        close(at)
        spans.append(SpanRow(kind=kind, start=at, end=None, label=label))

    def close(at: float) -> None:
        if spans and spans[-1].end is None:
            spans[-1] = dataclasses.replace(spans[-1], end=at)

    for entry in entries:
        at = (entry.at - start).total_seconds()
        match entry.value:
            case WriteIntent(planned=planned):
                begin("staging", at, f"{planned.write.slot} {planned.write.to}")
            case WriteSent():
                begin("writing", at, spans[-1].label if spans else "")
            case ResetIntent(kind=kind):
                begin(str(kind), at)
            case ErrandAsked(errand=errand):
                label = f"after {errand.slot} {errand.to}" if errand.kind is ErrandKind.HANDS_AFTER else ""
                label = f"before {errand.slot} {errand.to}" if errand.kind is ErrandKind.HANDS_BEFORE else label
                begin(ERRANDS[errand.kind], at, label)
            case Back() | ResetSpared():
                begin("checking", at)
            case WriteStaged() | WriteUnsent() | ResetUnsent() | Confirmed() | Ended() | Deferred():
                close(at)
            case ErrandDone() | ErrandGivenUp():
                close(at)
            case WriteDone() if spans and spans[-1].kind != "checking":  # else it is what was staged, after its reset
                close(at)
            case WriteFailed():
                close(at)
                if spans:
                    spans[-1] = dataclasses.replace(spans[-1], kind="failed")
    return [span for span in spans if span.end is None or span.end > span.start]
