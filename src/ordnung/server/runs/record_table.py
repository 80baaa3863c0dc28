"""The record of a run as a table: one row a write (``docs/formats/tables.md``)."""

from __future__ import annotations

import datetime
from collections.abc import Iterator

from ordnung.core.run_record import RunRecord, ServerRecord

RECORD_COLUMNS = (
    "run", "name", "server", "model", "serial", "group", "room", "rack", "unit", "wave", "ended", "reason", "round",
    "slot", "from", "to", "result", "detail", "way", "identified_by", "sha256", "began", "finished", "resets",
    "away_seconds", "differences",
)  # fmt: skip
RECORD_TEXTS = ("name", "server", "model", "serial", "group", "room", "rack", "wave", "slot", "from", "to")


def record_table(record: RunRecord) -> Iterator[tuple[object, ...]]:
    """One row a write, in order; one for each server to which nothing was written."""
    for server in record.servers:
        head = (
            record.number, record.name, server.server, server.model, server.serial, server.group, server.room,
            server.rack, server.unit, server.wave, server.ended, server.reason,
        )  # fmt: skip
        resets = sum(len(step.resets) for step in server.rounds)
        tail = (resets, round(server.away_seconds), "; ".join(server.differences))
        for own in _writes(server):
            yield (*head, *own, *tail)


def _writes(server: ServerRecord) -> Iterator[tuple[object, ...]]:
    written = [(number, write) for number, step in enumerate(server.rounds, start=1) for write in step.writes]
    for number, w in written:
        times = (_instant(w.began), _instant(w.ended))
        yield (number, w.slot, w.source, w.to, w.result, w.detail, w.way, w.identified_by, w.sha256, *times)
    if not written:
        yield ("",) * 11


def _instant(moment: datetime.datetime | None) -> str:
    return "" if moment is None else moment.isoformat(timespec="seconds").replace("+00:00", "Z")
