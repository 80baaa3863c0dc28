"""What a tape amounts to, for the record: rounds, remedies, what was done outside. Pure."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from ordnung.core.run_record import (
    GOOD,
    HELPED,
    OutsideRecord,
    RemedyRecord,
    ResetRecord,
    RoundRecord,
    TapeRecord,
    WriteRecord,
)
from ordnung.core.sheet import DiscPart
from ordnung.engine.entries import (
    Back,
    Confirmed,
    Deferred,
    Ended,
    Entry,
    ErrandAsked,
    ErrandDone,
    ErrandGivenUp,
    Remedied,
    ResetIntent,
    ResetSeen,
    ResetUnsent,
    Troubled,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteStaged,
    WriteUnsent,
)
from ordnung.engine.telling import REMEDIES, tell_entry, tell_errand_asked, tell_reason


def tell_tape(tape: Sequence[Entry]) -> tuple[TapeRecord, ...]:
    """Every entry in words."""
    return tuple(TapeRecord(seq=entry.seq, at=entry.at, text=tell_entry(entry.value)) for entry in tape)


@dataclass(slots=True)
class _Round:
    writes: list[WriteRecord] = field(default_factory=list)
    resets: list[ResetRecord] = field(default_factory=list)
    confirmed: tuple[str, ...] = ()

    @property
    def is_empty(self) -> bool:
        return not (self.writes or self.resets or self.confirmed)

    def kept(self) -> RoundRecord:
        return RoundRecord(writes=tuple(self.writes), resets=tuple(self.resets), confirmed=self.confirmed)


def rounds_of(tape: Sequence[Entry]) -> tuple[RoundRecord, ...]:
    """The rounds as they went. One that is gone on with after trouble is another; what is sent again is told again."""
    rounds = [_Round()]
    staged: list[tuple[_Round, int]] = []
    """What waits for a reset, whose outcome is told after it; ``due`` of these once it is over."""
    due: list[tuple[_Round, int]] = []
    for entry in tape:
        now = rounds[-1]
        match entry.value:
            case Remedied() | Deferred() if not now.is_empty:
                rounds.append(_Round())
            case WriteIntent() as intent:
                now.writes.append(_intended(intent, entry.at))
            case WriteUnsent() | WriteStaged() | WriteDone() | WriteFailed() as outcome if due or now.writes:
                of, at = due.pop(0) if due else (now, len(now.writes) - 1)
                of.writes[at] = _with_outcome(of.writes[at], outcome, entry.at)
                staged += [(of, at)] if isinstance(outcome, WriteStaged) else []
            case ResetIntent(kind=kind, type=type_):
                now.resets.append(ResetRecord(kind=kind, type=type_, acted_by="", began=entry.at, back=None))
            case ResetSeen(evidence=evidence) if now.resets:
                now.resets[-1] = dataclasses.replace(now.resets[-1], acted_by=str(evidence))
            case ResetUnsent() if now.resets:
                now.resets.pop()
            case Back() if now.resets:
                due, staged = staged, []
                now.resets[-1] = dataclasses.replace(now.resets[-1], back=entry.at)
            case Confirmed(versions=versions):
                now.confirmed = tuple(f"{slot} {version}" for slot, version in versions)
                rounds.append(_Round())
    return tuple(step.kept() for step in rounds if not step.is_empty)


def _intended(intent: WriteIntent, at: datetime.datetime) -> WriteRecord:
    write, payload = intent.planned.write, intent.planned.payload
    return WriteRecord(
        slot=write.slot, source=write.source, to=write.to, sha256=payload.sha256 if payload else "", way=intent.way,
        identified_by=intent.settled_by, began=at, ended=None, result="open",
    )  # fmt: skip


def _with_outcome(
    write: WriteRecord, outcome: WriteUnsent | WriteStaged | WriteDone | WriteFailed, at: datetime.datetime
) -> WriteRecord:
    match outcome:
        case WriteStaged():
            return dataclasses.replace(write, result="staged", detail="its device waits for the reset with the rest")
        case WriteDone(evidence=evidence):
            result, detail = "written", f"by {evidence}"
        case WriteFailed(reason=reason, facts=facts):
            result, detail = "not written", tell_reason(reason, facts)
        case WriteUnsent(reason=reason, facts=facts):
            result, detail = "never arrived", tell_reason(reason, facts)
    return dataclasses.replace(write, ended=at, result=result, detail=detail)


def remedies_of(tape: Sequence[Entry]) -> tuple[RemedyRecord, ...]:
    """Every remedy that was tried, with its result: whether the next that is told is trouble again or a good end."""
    found: list[RemedyRecord] = []
    trouble = ""
    for entry in tape:
        match entry.value:
            case Troubled(reason=reason, facts=facts):
                trouble = tell_reason(reason, facts)
                _settle(found, f"did not help: {trouble}")
            case Remedied(remedy=remedy, by=by):
                found.append(RemedyRecord(at=entry.at, remedy=REMEDIES[remedy], why=trouble, by=by, result=""))
            case Ended(ending=ending, reason=reason, facts=facts):
                told = "ended otherwise" if ending != "failed" else f"did not help: {tell_reason(reason, facts)}"
                _settle(found, HELPED if ending in GOOD else told)
    return tuple(found)


def _settle(found: list[RemedyRecord], result: str) -> None:
    if found and not found[-1].result:
        found[-1] = dataclasses.replace(found[-1], result=result)


def outside_of(tape: Sequence[Entry]) -> tuple[OutsideRecord, ...]:
    """What was asked for outside, in order; asked again after a crash is asked once."""
    return tuple(_outside(tape))


def _outside(tape: Sequence[Entry]) -> Iterator[OutsideRecord]:
    asked: OutsideRecord | None = None
    for entry in tape:
        match entry.value:
            case ErrandAsked() as value:
                if asked is not None:
                    yield asked
                what = tell_errand_asked(value)
                asked = OutsideRecord(at=entry.at, ended=None, what=what, of=value.of, by="", note="")
            case ErrandDone(by=by, note=note) if asked is not None:
                yield dataclasses.replace(asked, ended=entry.at, by=by, note=note)
                asked = None
            case ErrandGivenUp(why=why) if asked is not None:
                yield dataclasses.replace(asked, ended=entry.at, note=f"given up: {why}")
                asked = None
    if asked is not None:
        yield asked


def away_seconds(tape: Sequence[Entry]) -> float:
    """How long its system was out of service by our resets, in seconds; an outage that is not over counts nothing."""
    total, since, in_disc = 0.0, None, False
    for entry in tape:
        match entry.value:
            case WriteIntent(planned=planned) if planned.disc is not None:
                in_disc = planned.disc is not DiscPart.OUT
            case ResetIntent(kind=kind) if kind in ("server reboot", "power cycle"):
                since = since or entry.at
            case ResetUnsent():
                since = None
            case Back() if since is not None and not in_disc:
                total += (entry.at - since).total_seconds()
                since = None
    return total
