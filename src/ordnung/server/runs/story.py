"""A tape as people see it in the lanes: spans of time. Pure. What is read as text comes from ``engine.telling``."""

from __future__ import annotations

import datetime
from collections.abc import Iterable
from typing import Any

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


def tell_steps(entries: Iterable[Entry], start: datetime.datetime) -> list[dict[str, Any]]:
    """What happened on one server as spans in seconds from the run's start; an open one has no end."""
    spans: list[dict[str, Any]] = []
    open_span: dict[str, Any] | None = None

    def begin(kind: str, at: float, label: str = "") -> None:
        nonlocal open_span
        close(at)
        open_span = {"kind": kind, "start": at, "end": None, "label": label}
        spans.append(open_span)

    def close(at: float) -> None:
        nonlocal open_span
        if open_span is not None:
            open_span["end"] = at
            open_span = None

    for entry in entries:
        at = (entry.at - start).total_seconds()
        match entry.value:
            case WriteIntent(planned=planned):
                begin("staging", at, f"{planned.write.slot} {planned.write.to}")
            case WriteSent():
                begin("writing", at, spans[-1]["label"] if spans else "")
            case ResetIntent(kind=kind):
                begin(str(kind), at)
            case Back():
                begin("checking", at)
            case WriteDone() | WriteUnsent() | ResetUnsent() | Confirmed() | Ended() | Deferred():
                close(at)
            case WriteFailed():
                close(at)
                if spans:
                    spans[-1]["kind"] = "failed"
    return [span for span in spans if span["end"] is None or span["end"] > span["start"]]
