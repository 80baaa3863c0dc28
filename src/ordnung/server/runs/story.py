"""A tape as people read it: spans for the lanes, sentences for the list. Pure."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Mapping
from typing import Any, Protocol


class Told(Protocol):
    """What an entry of a tape has, stored or in memory."""

    seq: int
    at: datetime.datetime
    kind: str
    body: Mapping[str, Any]


def tell_steps(entries: Iterable[Told], start: datetime.datetime) -> list[dict[str, Any]]:
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
        match entry.kind:
            case "write intent":
                write = entry.body["write"]
                begin("staging", at, f"{write['slot']} {write['to']}")
            case "write sent":
                begin("writing", at, spans[-1]["label"] if spans else "")
            case "reset intent":
                begin(entry.body["kind"], at)
            case "back":
                begin("checking", at)
            case "write done" | "write unsent" | "reset unsent" | "confirmed" | "ended":
                close(at)
            case "write failed":
                close(at)
                if spans:
                    spans[-1]["kind"] = "failed"
    return [span for span in spans if span["end"] is None or span["end"] > span["start"]]


def tell_entry(kind: str, body: Mapping[str, Any]) -> str:
    """One entry in a sentence."""
    match kind:
        case "read":
            components = body["server"]["components"]
            return f"read {body['why']}: {len(components)} components"
        case "plan":
            writes = sum(len(step["writes"]) for step in body["rounds"])
            return (
                f"planned {writes} writes in {len(body['rounds'])} rounds"
                if writes or body["rounds"]
                else "nothing to do"
            )
        case "write intent":
            write = body["write"]
            return f"will {body['way']} {write['slot']} {write['source']} → {write['to']}"
        case "write sent":
            return f"the controller took it on{' (found after a break)' if 'found' in body else ''}"
        case "write done":
            return f"{body['slot']} written"
        case "write unsent":
            return f"it never arrived: {body['why']}"
        case "write failed":
            return f"{body.get('slot', '')} not written: {body['message']}"
        case "reset intent":
            return f"will ask for a {body['kind']}"
        case "reset sent":
            return f"the reset began{' (found after a break)' if 'found' in body else ''}"
        case "reset unsent":
            return f"the reset did not begin: {body['why']}"
        case "back":
            return "answers again, its system runs"
        case "confirmed":
            told = ", ".join(f"{slot} {version}" for slot, version in body["versions"])
            return f"confirmed by reading: {told}" if told else "confirmed by reading"
        case "ended":
            return f"{body['state']}: {body['reason']}"
    return kind
