"""What a run did, to be proved afterwards: server by server, before and after, rounds, remedies, people (N8.1). Pure.

Times are aware instants in UTC. What is empty or None did not happen, or was not told.
"""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.night.itinerary import round_minutes

GOOD = ("level", "put back", "skipped")
"""How a server ends that needs nobody any more."""
NAMED = 4
"""So many servers are named in a summary; more are counted."""


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteRecord:
    """One write as it was intended, and its result: ``written``, ``not written``, ``never arrived``,
    ``staged`` or ``open``.
    """

    slot: str
    source: str | None
    to: str
    sha256: str
    way: str
    identified_by: str
    began: datetime.datetime
    ended: datetime.datetime | None
    result: str
    detail: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetRecord:
    """One reset: what was asked for, by what it is known to have acted, and when the server was back."""

    kind: str
    type: str
    acted_by: str
    began: datetime.datetime
    back: datetime.datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class RoundRecord:
    """A round: what was written, its reset, and the versions a reading confirmed (``slot version``)."""

    writes: tuple[WriteRecord, ...]
    resets: tuple[ResetRecord, ...]
    confirmed: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class RemedyRecord:
    """A remedy that was tried, for what, on whose word (empty: the house's), and whether it helped."""

    at: datetime.datetime
    remedy: str
    why: str
    by: str
    result: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OutsideRecord:
    """What was asked for outside: of a hook (``of``) or a person; by whom it was done, or why it was given up."""

    at: datetime.datetime
    ended: datetime.datetime | None
    what: str
    of: str
    by: str
    note: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ComponentRecord:
    """A component as a reading saw it."""

    slot: str
    name: str
    version: str | None
    serial: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class TapeRecord:
    """One entry of a tape in words."""

    seq: int
    at: datetime.datetime
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OverrideRecord:
    """A check that a person answered for."""

    check: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerRecord:
    """One server of a run.

    ``differences``: what is otherwise than before and was not this run's doing. ``departures``: in what it went
    otherwise than its sheet said.
    """

    server: str
    model: str
    serial: str | None
    group: str
    room: str
    rack: str
    unit: int
    wave: str
    ended: str
    reason: str
    planned_seconds: float
    took_seconds: float
    away_seconds: float
    before: tuple[ComponentRecord, ...]
    after: tuple[ComponentRecord, ...]
    rounds: tuple[RoundRecord, ...]
    remedies: tuple[RemedyRecord, ...]
    outside: tuple[OutsideRecord, ...]
    differences: tuple[str, ...]
    announced: tuple[str, ...]
    overrides: tuple[OverrideRecord, ...]
    tape: tuple[TapeRecord, ...]
    departures: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonRecord:
    """What a person did to a run, from the audit trail; ``refused``: why it was not done."""

    at: datetime.datetime
    who: str
    what: str
    servers: tuple[str, ...]
    detail: str
    refused: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ApprovalRecord:
    """Who approved the sheet, when, by its sum."""

    by: str
    at: datetime.datetime
    sha256: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Foretold:
    """When the forecast at the start said that all would be done, in seconds from it."""

    p50: float
    p90: float
    p99: float


@dataclass(frozen=True, slots=True, kw_only=True)
class RunRecord:
    """A run as it went."""

    number: int
    name: str
    drafted_by: str
    drafted_at: datetime.datetime
    started_by: str
    started_at: datetime.datetime
    ended_at: datetime.datetime | None
    baseline: int
    payloads: str
    sheet_sha256: str
    takes_back: int | None
    planned_seconds: float
    planned_resets: int
    foretold: Foretold | None
    approvals: tuple[ApprovalRecord, ...]
    people: tuple[PersonRecord, ...]
    servers: tuple[ServerRecord, ...]


def summarise(record: RunRecord) -> tuple[str, ...]:
    """A run in three or four sentences that a lead understands in ten seconds, what needs somebody first."""
    return tuple(
        line for line in (_outcome(record), _trouble(record), _time(record), _remedies(record)) if line is not None
    )


def _outcome(record: RunRecord) -> str:
    good = sum(server.ended in GOOD for server in record.servers)
    count = len(record.servers)
    done = "as before the run that it takes back" if record.takes_back else "level with the baseline"
    who = "The one server is" if count == good == 1 else f"All {count} servers are" if good == count else None
    return f"{who} {done}." if who else f"{good} of {count} servers are {done}."


def _trouble(record: RunRecord) -> str | None:
    lines = []
    for ending, words in (
        ("failed", "needs a person"), ("stopped", "was stopped"), ("left over", "was left over"),
        ("left out", "was left out"), ("waits for a reboot", "waits for a reboot"), ("", "is under way"),
    ):  # fmt: skip
        found = [server for server in record.servers if server.ended == ending]
        if not found:
            continue
        if len(found) == 1 and ending in ("failed", "left over"):
            # A reason may end with or without a stop.
            lines.append(f"{found[0].server} {words}: {found[0].reason.rstrip('.')}.")
            continue
        names = ", ".join(server.server for server in found[:NAMED])
        more = f" and {len(found) - NAMED} more" if len(found) > NAMED else ""
        verb = words if len(found) == 1 else _PLURAL[words]
        lines.append(f"{names}{more} {verb}.")
    return " ".join(lines) or None


_PLURAL = {
    "needs a person": "need a person",
    "was stopped": "were stopped",
    "was left over": "were left over",
    "was left out": "were left out",
    "waits for a reboot": "wait for a reboot",
    "is under way": "are under way",
}


def _time(record: RunRecord) -> str | None:
    if record.ended_at is None:
        return None
    took = (record.ended_at - record.started_at).total_seconds()
    told = f"It took {_span(took)}; planned were {_span(record.planned_seconds)}"
    if record.foretold is not None:
        held = "which held" if took <= record.foretold.p90 else "which did not hold"
        told += f", foretold with nine in ten at most {_span(record.foretold.p90)}, {held}"
    resets = sum(len(step.resets) for server in record.servers for step in server.rounds)
    were = "was" if record.planned_resets == 1 else "were"
    return f"{told}. {resets} reset{'' if resets == 1 else 's'}, {record.planned_resets} {were} planned."


def _remedies(record: RunRecord) -> str | None:
    tried = [remedy for server in record.servers for remedy in server.remedies]
    if not tried:
        return None
    helped = sum(remedy.result == HELPED for remedy in tried)
    if len(tried) == 1:
        return f"An update that failed was met by a remedy once, which {'helped' if helped else 'did not help'}."
    return f"Updates that failed were met by a remedy {len(tried)} times; {helped} of them helped."


HELPED = "helped"


def _span(seconds: float) -> str:
    minutes = round_minutes(seconds)
    hours, rest = divmod(minutes, 60)
    return f"{hours} h {rest} min" if hours else f"{rest} min"


def good_forecasts(runs: Sequence[tuple[float, float]]) -> tuple[int, int]:
    """Of past runs, as (seconds taken, seconds foretold with nine in ten): how many kept to it, and of how many."""
    return sum(took <= told for took, told in runs), len(runs)
