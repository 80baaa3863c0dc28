"""What needs a person now, over all runs: ticks, questions, gates, refusals, failures (``night.md`` P3, P6).

A call stays until it is answered or over. Whoever has seen it stops its being repeated, not the call.
"""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from django.db.models import Q

from ordnung.core.errands import Errand, ErrandKind, tell_errand
from ordnung.core.run_sheet import HandsOn
from ordnung.engine.tape import fold
from ordnung.server.audit.recording import UNDONE, record
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.runs.derived import load_tape
from ordnung.server.runs.models import CallNote, Run, RunServer
from ordnung.server.runs.ticks import errand_of_place
from ordnung.server.runs.turns import wave_stands, whole_stand
from ordnung.server.runs.unattended import waiting_for_reboot
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.shared import Shared

CALLING = Q(ended="failed") | ~Q(question="") | Q(errand__isnull=False) | Q(hands__0__isnull=False)
"""Servers that may call for something: of hundreds a few."""
STANDING = ("run", "wave", "ended", "since", "server__name")
"""What of every server it takes to say how its wave stands: the rest of a row is kilobytes."""
CallKind = Literal["tick", "refused", "question", "gate", "failed", "reboot", "coming"]


@dataclass(frozen=True, slots=True, kw_only=True)
class CallRow:
    """One thing that needs a person, with where the server stands.

    ``id`` names it over all its life; ``key`` is what a tick for it carries, empty where there is none to give.
    ``coming``: it is not due yet. ``seen_by``: who has seen it, empty while nobody has.
    """

    id: str
    kind: CallKind
    run: int
    run_name: str
    server: str
    room: str
    rack: str
    unit: int
    text: str
    told: str
    since: datetime.datetime | None
    key: str
    seen_by: str


def call_rows() -> list[CallRow]:
    """Every call, those that are due first; each by room, rack and unit, as one walks."""
    runs, waiting = _looked_at(), list(waiting_for_reboot())
    noted = {run.pk for run in runs} | {place.run_id for place, _ in waiting}
    notes = {(note.run_id, note.call): note.seen_by for note in CallNote.objects.filter(run__in=noted)}
    found = [row for run in runs for row in _of_run(run, notes)]
    found += [_of_waiting(place, what, notes) for place, what in waiting]
    return sorted(found, key=lambda row: (row.kind == "coming", row.room, row.rack, -row.unit, row.server, row.id))


CALLS = Shared(call_rows, frozenset({"calls", "work", "readings", "runs", "places", "house"}), kept_s=1.0)
"""Every open page shows them: read once for all."""
UNDONE.append(CALLS.forget)


def see_call(call: str, person: str) -> None:
    """Say that a call was seen: it is repeated no more. Raises Problem when there is none (any more)."""
    row = next((row for row in call_rows() if row.id == call and row.kind != "coming"), None)
    if row is None:
        raise Problem("no-such-call", "That call is over.", status=404)
    record(on={"run": row.run, "server": row.server}, after={"seen": row.text})
    CallNote.objects.update_or_create(run_id=row.run, call=row.id, defaults={"seen_by": person})
    tell("calls")


def _looked_at() -> list[Run]:
    """Runs under way, and those that ended with a failure that nobody has seen."""
    unseen = Work.objects.filter(kind="run", state=Work.State.FAILED, seen=False)
    ended = [pk for pk in unseen.values_list("subject__run", flat=True) if pk is not None]
    return list(Run.objects.filter(Q(state=Run.State.RUNNING) | Q(pk__in=ended)).order_by("pk"))


def _of_run(run: Run, notes: dict[tuple[int, str], str]) -> Iterator[CallRow]:
    for place in run.servers.filter(CALLING).select_related("server"):
        found = _of_server(place)
        if found is not None:
            kind, what, told, since, key = found
            yield _row(run, place, kind, what, told=told, since=since, key=key, notes=notes)
        if place.hands and not place.ended:
            for errand in _coming(place):
                yield _row(run, place, "coming", tell_errand(errand, place.server.name), notes=notes)
    if run.state == Run.State.RUNNING:
        yield from _gates(run, list(run.servers.select_related("server").only(*STANDING)), notes)


def _of_server(place: RunServer) -> tuple[CallKind, str, str, datetime.datetime | None, str] | None:
    """What one server calls for: kind, sentence, what was told of it, since when, and the key of a tick."""
    if place.ended == "failed":
        return "failed", place.reason, "", place.since, ""
    if place.question and not place.answer:
        return "question", place.question[:1].upper() + place.question[1:], "", place.since, ""
    errand = errand_of_place(place)
    if errand is None or place.errand is None or place.ticked_by:
        return None
    text, since = tell_errand(errand, place.server.name), datetime.datetime.fromisoformat(place.errand["since"])
    if not place.errand["of"]:
        return "tick", text, "", since, place.errand_key
    told = place.detail.partition(": ")[2]
    return ("refused", text, f"{place.errand['of']}: {told}", since, place.errand_key) if told else None


def _of_waiting(place: RunServer, what: Sequence[str], notes: dict[tuple[int, str], str]) -> CallRow:
    text = f"It waits for a reboot, whenever that comes: {', '.join(what)}. Restart it while somebody is there."
    return _row(place.run, place, "reboot", text, since=place.since, notes=notes)


def _coming(place: RunServer) -> list[Errand]:
    """What will be to do at a server, as its sheet says, without what is done or asked for now."""
    done = fold(load_tape(place.run_id, place.server.name)).hands
    now_asked = errand_of_place(place)
    known = {(e.kind, e.slot, e.to) for e in (*done, *([now_asked] if now_asked else []))}
    errands = [_of_hands(HandsOn(**step)) for step in place.hands]
    return [errand for errand in errands if (errand.kind, errand.slot, errand.to) not in known]


def _of_hands(step: HandsOn) -> Errand:
    kind = ErrandKind.HANDS_BEFORE if step.when == "before" else ErrandKind.HANDS_AFTER
    return Errand(kind=kind, slot=step.slot, to=step.to, what=step.what)


def _gates(run: Run, places: list[RunServer], notes: dict[tuple[int, str], str]) -> Iterator[CallRow]:
    stands = wave_stands(run, places) or (whole_stand(run, places),)
    for stand in stands:
        if not stand.asks or (stand is stands[-1] and not (stand.has_failed and stand.working)):
            continue
        trouble = f": {', '.join(stand.troubled)} did not go well" if stand.troubled else ", all went well"
        text = f"{stand.name} of {run.name} is done{trouble}. Let the next wave go?"
        if stand.has_failed and stand.working:
            text = (
                f"{stand.failed} of {stand.servers} servers of {stand.name or run.name} failed. Let the others go on?"
            )
        yield _row(run, None, "gate", text, since=stand.ended_at, notes=notes, wave=stand.name)


def _row(
    run: Run, place: RunServer | None, kind: CallKind, text: str, *, notes: dict[tuple[int, str], str],
    told: str = "", since: datetime.datetime | None = None, key: str = "", wave: str = "",
) -> CallRow:  # fmt: skip
    server = place.server if place is not None else None
    name = server.name if server else ""
    call = f"{run.pk}/{kind}/{wave or name}/{key or (since.isoformat() if since else text[:80])}"
    return CallRow(
        id=call, kind=kind, run=run.pk, run_name=run.name, server=name, room=server.room if server else "",
        rack=server.rack if server else "", unit=server.unit if server else 0, text=text, told=told, since=since,
        key=key, seen_by=notes.get((run.pk, call), ""),
    )  # fmt: skip


def unheard(again_s: float) -> list[CallRow]:
    """Calls that nobody has seen and that were not told to the house's hook for so many seconds."""
    rows = [row for row in call_rows() if row.kind != "coming" and not row.seen_by]
    late = now() - datetime.timedelta(seconds=again_s)
    told = set(CallNote.objects.filter(told_at__gt=late).values_list("run_id", "call"))
    return [row for row in rows if (row.run, row.id) not in told]


def note_told(row: CallRow) -> None:
    """The house's hook was told of a call."""
    CallNote.objects.update_or_create(run_id=row.run, call=row.id, defaults={"told_at": now()})
