"""A tape as people see it in the lanes: spans of time. Pure. What is read as text comes from ``engine.telling``."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.engine.entries import (
    Back,
    Confirmed,
    Deferred,
    Ended,
    Entry,
    ResetIntent,
    ResetUnsent,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
    WriteUnsent,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class SpanRow:
    """Something a server went through, in seconds from the run's start; an open one has no end."""

    kind: str
    start: float
    end: float | None
    label: str


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
            case Back():
                begin("checking", at)
            case WriteDone() | WriteUnsent() | ResetUnsent() | Confirmed() | Ended() | Deferred():
                close(at)
            case WriteFailed():
                close(at)
                if spans:
                    spans[-1] = dataclasses.replace(spans[-1], kind="failed")
    return [span for span in spans if span.end is None or span.end > span.start]
