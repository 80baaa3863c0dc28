"""Tapes: the fold, what comes next, and one contract for every journal."""

from __future__ import annotations

import dataclasses
import datetime
import json

import pytest

from ordnung.controllers import Marker
from ordnung.core.away import AwayPlace
from ordnung.core.components import Component, Server
from ordnung.core.errands import Errand, ErrandKind, Moves
from ordnung.core.facts import Facts
from ordnung.core.route import Write
from ordnung.core.sheet import NamedPayload, PlannedRound, PlannedWrite
from ordnung.core.waiting import Left
from ordnung.engine import entries as e
from ordnung.engine.compare import find_surprises, proves_back, tells_more
from ordnung.engine.entries import Entry
from ordnung.engine.entry_codec import (
    KINDS,
    VERSION,
    TapeFormatError,
    parse_rounds,
    read_entry,
    rounds_body,
    write_entry,
)
from ordnung.engine.ports import NoPlaceError, TapeConflictError
from ordnung.engine.remedy_steps import find_remedies
from ordnung.engine.tape import TapeBrokenError, fold, next_step
from ordnung.engine.telling import SENTENCES, tell_entry, tell_reason
from ordnung.fieldkit.journal import FileJournal
from ordnung.formats.readings import server_entry
from tests.simulation.world import MemoryJournal, VirtualClock

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
WRITE = Write(slot="bios", product="p", source="1", to="2", seconds=60)
PAYLOAD = NamedPayload(sha256="aa", size=4, maker="M", catalog="c", issue="2026-11")
ROUND = PlannedRound(
    writes=(PlannedWrite(write=WRITE, payload=PAYLOAD),),
    reset="server reboot", reset_seconds=300, activates=(("bios", "2"),),
)  # fmt: skip
PLACE = e.PlaceTaken(place=AwayPlace(server="s", groups=("pair",)))
STAY = e.PlaceTaken(place=AwayPlace(server="s", outage=False))
READ = e.Read(server=Server(name="s", model="m"), why=e.ReadWhy.BEFORE)
PLAN = e.Plan(rounds=(ROUND,))
INTENT = e.WriteIntent(planned=ROUND.writes[0], way="push", known_tasks=("/t/1",), marker=Marker(system="a"))
SENT, DONE = e.WriteSent(task="/t/2"), e.WriteDone(evidence=e.Evidence.TASK)
UNSENT = e.WriteUnsent(reason=e.Reason.TRANSFER_FAILED)
RESET = e.ResetIntent(kind=e.ResetKind.SERVER_REBOOT, marker=Marker(system="a"), type="ForceRestart")
RESET_SENT, RESET_UNSENT = e.ResetSent(), e.ResetUnsent(reason=e.Reason.RESET_NOT_BEGUN)
SPARED = e.ResetSpared(kind=e.ResetKind.CONTROLLER_RESTART)
OWN = e.Plan(rounds=(dataclasses.replace(ROUND, reset="controller restart"),))
SEEN, BACK = e.ResetSeen(evidence=e.Evidence.RESET_TIME), e.Back(marker=Marker())
ASKED = e.Asked(question=e.Question.FORCE_RESTART, facts={"minutes": "15"})
ANSWERED = e.Answered(question=e.Question.FORCE_RESTART, answer=e.Answer.FORCE, by="lead")
CONFIRMED = e.Confirmed(versions=(("bios", "2"),))
FAILED = e.Ended(ending=e.Ending.FAILED, reason=e.Reason.NOT_BACK)
GIVEN = e.PlaceGiven(by="lead", why="seen in the aisle")
DEFERRED = e.Deferred(reason=e.Reason.FOREIGN_JOB)
BEGUN = (PLACE, READ, PLAN)
AHEAD_DONE = e.AheadDone()
EARLY = e.PlaceTaken(place=dataclasses.replace(PLACE.place, outage=False, ahead=True))
BORNE = e.Plan(rounds=(dataclasses.replace(ROUND, writes=(dataclasses.replace(ROUND.writes[0], ahead=True),)),))
WRITTEN = (*BEGUN, INTENT, SENT, DONE)

TROUBLE = e.Troubled(reason=e.Reason.TASK_FAILED, facts={"slot": "bios"}, slot="bios", way="push")
ALONE, RESTART = e.Remedied(remedy=e.Remedy.ALONE), e.Remedied(remedy=e.Remedy.RESTART_FIRST, by="lead")
ASK_REMEDY = e.Asked(question=e.Question.TRY_REMEDY, facts={"remedy": "alone", "slot": "bios", "why": "It failed."})
TRY = e.Answered(question=e.Question.TRY_REMEDY, answer=e.Answer.TRY, by="lead")
LEAVE = e.Answered(question=e.Question.TRY_REMEDY, answer=e.Answer.LEAVE, by="lead")
NOT_WRITTEN = (*BEGUN, INTENT, SENT, e.WriteFailed(reason=e.Reason.TASK_FAILED))
MOVES = (ErrandKind.MOVE_OFF, ErrandKind.TAKE_BACK, ErrandKind.HEALED)
MOVING = e.PlaceTaken(place=PLACE.place, moves=Moves(off=True, healed=True))
OFF, BACK_AGAIN, WHOLE = (e.ErrandAsked(errand=Errand(kind=kind), of="desk") for kind in MOVES)
DONE_OUTSIDE = e.ErrandDone(by="desk", note="with a note")
REFUSED = e.ErrandGivenUp(why="not now")
BEGUN_ALL_THE_SAME = e.ErrandGivenUp(why="nobody answered", begun=True)
STAGED, LEFT = (
    e.WriteStaged(message="it waits"),
    e.LeftBefore(writes=(Left(slot="nic", product=WRITE.product, source=WRITE.source, to=WRITE.to, seconds=None),)),
)
RAID = dataclasses.replace(ROUND.writes[0], write=dataclasses.replace(WRITE, slot="raid"))
BOTH = e.Plan(
    rounds=(dataclasses.replace(ROUND, writes=(*ROUND.writes, RAID), activates=(("bios", "2"), ("raid", "2"))),)
)
INTENT_RAID = dataclasses.replace(INTENT, planned=RAID)
BUSY = e.WriteUnsent(reason=e.Reason.CONTROLLER, facts={"cause": "busy"})
KEPT = (PLACE, READ, BOTH, INTENT, SENT, STAGED)
RESTARTED = (RESET, RESET_SENT, SEEN, BACK)
MOVED = tuple(MOVING if value is PLACE else value for value in WRITTEN)


def tape(*values):
    return [Entry(seq=n, at=NOW, value=value) for n, value in enumerate(values, start=1)]


@pytest.mark.parametrize(
    ("values", "step"),
    [
        ((), "take a place"),
        ((PLACE,), "read"),
        ((PLACE, READ), "plan"),
        (BEGUN, "write"),
        ((STAY, READ, PLAN), "take a place"),
        ((*BEGUN, INTENT), "find write"),
        ((*BEGUN, INTENT, SENT), "follow"),
        ((*BEGUN, INTENT, UNSENT), "write"),
        (WRITTEN, "reset"),
        ((*WRITTEN, RESET), "find reset"),
        ((*WRITTEN, RESET, RESET_UNSENT), "reset"),
        ((*WRITTEN, RESET, RESET_SENT), "await"),
        ((*WRITTEN, RESET, SEEN), "await"),
        ((*WRITTEN, RESET, RESET_SENT, ASKED), "await"),
        ((*WRITTEN, RESET, RESET_SENT, ASKED, ANSWERED), "await"),
        ((*WRITTEN, RESET, RESET_SENT, ASKED, ANSWERED, RESET_UNSENT), "reset"),
        ((*WRITTEN, RESET, RESET_SENT, ASKED, SEEN, BACK), "confirm"),
        ((*WRITTEN, RESET, RESET_SENT, SEEN, BACK), "confirm"),
        ((*WRITTEN, RESET, RESET_SENT, SEEN, BACK, CONFIRMED), "check"),
        ((PLACE, READ, OWN, INTENT, SENT, DONE), "reset"),
        ((PLACE, READ, OWN, INTENT, SENT, DONE, SPARED), "confirm"),
        ((PLACE, READ, OWN, INTENT, SENT, DONE, SPARED, CONFIRMED), "check"),
        ((*BEGUN, DEFERRED), "take a place"),
        ((*BEGUN, DEFERRED, PLACE), "read"),
        ((PLACE, READ, FAILED), "none"),
        (NOT_WRITTEN, "meet a failure"),
        ((*NOT_WRITTEN, INTENT), "find write"),  # as engines did before: their tapes stay readable
        ((*NOT_WRITTEN, TROUBLE), "remedy"),
        ((*NOT_WRITTEN, TROUBLE, ASK_REMEDY), "remedy"),
        ((*NOT_WRITTEN, TROUBLE, ASK_REMEDY, LEAVE), "remedy"),
        ((*NOT_WRITTEN, TROUBLE, ASK_REMEDY, TRY), "remedy"),
        ((*NOT_WRITTEN, TROUBLE, ASK_REMEDY, TRY, ALONE), "read"),
        ((*NOT_WRITTEN, TROUBLE, ALONE, READ), "plan"),
        ((EARLY, READ), "plan"),
        ((EARLY, READ, PLAN), "ahead done"),  # what is written is active at once, or bears no company
        ((EARLY, READ, BORNE), "write"),
        ((EARLY, READ, BORNE, INTENT, SENT), "follow"),
        ((EARLY, READ, BORNE, INTENT, SENT, DONE), "ahead done"),
        ((EARLY, READ, BORNE, INTENT, SENT, DONE, AHEAD_DONE), "take a place"),
        ((EARLY, READ, BORNE, INTENT, SENT, DONE, AHEAD_DONE, PLACE), "read"),
        (
            (EARLY, READ, BORNE, INTENT, SENT, e.WriteFailed(reason=e.Reason.TASK_FAILED), TROUBLE, ALONE, READ, BORNE),
            "ahead done",
        ),
        ((PLACE, LEFT, READ), "plan"),
        (KEPT, "write"),
        ((*KEPT, INTENT_RAID, SENT, STAGED), "reset"),
        ((*KEPT, INTENT_RAID, SENT, STAGED, *RESTARTED), "follow"),
        ((*KEPT, INTENT_RAID, SENT, STAGED, *RESTARTED, DONE), "follow"),
        ((*KEPT, INTENT_RAID, SENT, STAGED, *RESTARTED, DONE, DONE), "confirm"),
        ((*KEPT, INTENT_RAID, SENT, STAGED, *RESTARTED, DONE, STAGED), "confirm"),
        ((*KEPT, INTENT_RAID, SENT, STAGED, *RESTARTED, e.WriteFailed(reason=e.Reason.TASK_FAILED)), "follow"),
        (
            (*KEPT, INTENT_RAID, SENT, STAGED, *RESTARTED, e.WriteFailed(reason=e.Reason.TASK_FAILED), DONE),
            "meet a failure",
        ),
        ((*KEPT, INTENT_RAID, SENT, STAGED, *RESTARTED, UNSENT), "follow"),
        ((*KEPT, INTENT_RAID, BUSY), "reset"),
        ((*KEPT, INTENT_RAID, BUSY, *RESTARTED, DONE), "confirm"),
        ((*KEPT, INTENT_RAID, BUSY, *RESTARTED, DONE, CONFIRMED), "read"),
        ((*BEGUN, INTENT, BUSY), "write"),
        (MOVED, "errand"),
        ((*MOVED, OFF), "errand"),
        ((*MOVED, OFF, DONE_OUTSIDE), "reset"),
        ((*MOVED, OFF, REFUSED), "errand"),
        ((*MOVED, OFF, DONE_OUTSIDE, RESET, RESET_SENT, SEEN, BACK, CONFIRMED), "check"),
        ((*MOVED, OFF, DONE_OUTSIDE, RESET, RESET_SENT, SEEN, BACK, CONFIRMED, BACK_AGAIN), "errand"),
    ],
)
def test_what_comes_next_follows_from_the_tape_alone(values, step):
    assert next_step(fold(tape(*values))) == step


@pytest.mark.parametrize(
    "values",
    [
        (*BEGUN, INTENT, INTENT),
        (*BEGUN, INTENT, RESET),
        (*BEGUN, SENT),
        (*BEGUN, DONE),
        (*WRITTEN, RESET, INTENT),
        (*WRITTEN, BACK),
        (READ, PLAN, RESET),  # an outage without a place
        (STAY, READ, PLAN, RESET),
        (*WRITTEN, RESET, RESET_SENT, DEFERRED),
        (*WRITTEN, ASKED),
        (*WRITTEN, RESET, RESET_SENT, ASKED, ASKED),
        (*WRITTEN, RESET, RESET_SENT, ANSWERED),
        (*WRITTEN, RESET, RESET_SENT, ASKED, SEEN, ANSWERED),
        (*WRITTEN, RESET, RESET_SENT, ASKED, ANSWERED, ANSWERED),
        (*BEGUN, GIVEN),
        (*BEGUN, FAILED, GIVEN),  # it was never away: nothing is kept
        (PLACE, FAILED, READ),
        (*BEGUN, ALONE),
        (*BEGUN, INTENT, TROUBLE),
        (*NOT_WRITTEN, TROUBLE, TROUBLE),
        (*NOT_WRITTEN, TROUBLE, ALONE, READ, PLAN, TROUBLE, ALONE),  # each once
        (*NOT_WRITTEN, TROUBLE, TRY),
        (*NOT_WRITTEN, TROUBLE, ASK_REMEDY, ASK_REMEDY),
        (*NOT_WRITTEN, TROUBLE, ASK_REMEDY, ALONE),  # nobody has answered
        (*NOT_WRITTEN, ASK_REMEDY),
        (EARLY, READ, BORNE, RESET),  # its turn has not come
        (EARLY, READ, BORNE, dataclasses.replace(RESET, kind=e.ResetKind.CONTROLLER_RESTART)),
        (*WRITTEN, SPARED),  # a server is only back from a start that was asked for
        (PLACE, READ, OWN, INTENT, SPARED),
        (PLACE, READ, OWN, INTENT, SENT, DONE, SPARED, SPARED),
        (*BEGUN, AHEAD_DONE),
        (EARLY, READ, BORNE, INTENT, AHEAD_DONE),
        (*KEPT, DONE),
        (*KEPT, INTENT_RAID, RESET),
        (*KEPT, *RESTARTED, RESET),  # what it kept may be at work
        (*KEPT, *RESTARTED, INTENT_RAID),
        (PLACE, READ, LEFT),
        (*MOVED, RESET),  # its work is still there
        (*MOVED, OFF, RESET),
        (*MOVED, OFF, OFF),
        (*MOVED, OFF, INTENT),
        (*WRITTEN, RESET, OFF),
        (*MOVED, DONE_OUTSIDE),
        (*MOVED, REFUSED),
        (*MOVED, OFF, REFUSED, RESET),
        (*MOVED, OFF, DONE_OUTSIDE, DEFERRED),
    ],
)
def test_a_tape_that_breaks_an_invariant_is_an_error(values):
    with pytest.raises(TapeBrokenError, match="does not fit"):
        fold(tape(*values))


def test_what_was_tried_and_declined_follows_from_the_tape():
    state = fold(tape(*NOT_WRITTEN, TROUBLE, ALONE, READ, PLAN))
    assert (state.alone, state.spent_ways, state.puts_back) == ({"bios"}, frozenset(), False)
    again = fold(tape(*NOT_WRITTEN, TROUBLE, ASK_REMEDY, LEAVE))
    assert again.declined == {e.Remedy.ALONE} and find_remedies(again, TROUBLE) == (e.Remedy.RESTART_FIRST,)
    other = fold(tape(*NOT_WRITTEN, TROUBLE, e.Remedied(remedy=e.Remedy.OTHER_WAY)))
    assert other.spent_ways == {"push"} and not other.has_tried(e.Remedy.ALONE)


def bios(version, started=None):
    part = Component(slot="bios", kind="bios", name="BIOS", version=version)
    server = Server(name="s", model="m", components=(part,), facts=Facts(started=started))
    return e.Read(server=server, why=e.ReadWhy.BEFORE)


@pytest.mark.parametrize(
    ("values", "waiting", "staged"),
    [
        (KEPT, ["bios"], ["bios"]),
        ((*KEPT, INTENT_RAID, SENT, DONE), ["bios", "raid"], ["bios"]),
        ((*KEPT, INTENT_RAID, SENT, DONE, *RESTARTED), [], []),
        ((*KEPT, *RESTARTED, STAGED), ["bios"], ["bios"]),
        ((*KEPT, DEFERRED), ["bios"], ["bios"]),
        ((*KEPT, DEFERRED, PLACE, bios("1")), ["bios"], ["bios"]),
        ((*KEPT, DEFERRED, PLACE, bios("2", started="b")), [], []),  # somebody else has reset it
        ((*KEPT, DEFERRED, PLACE, bios("1"), bios("2")), [], []),
        ((*KEPT, DEFERRED, PLACE, bios("2", started="a")), ["bios"], []),  # told to run, and nothing was reset
        ((*KEPT, DEFERRED, PLACE, bios("2")), ["bios"], []),
        ((*KEPT, *RESTARTED, bios("2", started="a")), [], []),
        ((*KEPT, DEFERRED, PLACE, bios(None)), ["bios"], ["bios"]),
        ((PLACE, LEFT, READ), ["nic"], []),
        ((PLACE, LEFT, READ, PLAN, INTENT, SENT, DONE), ["nic", "bios"], []),
    ],
)
def test_what_waits_and_what_is_kept_for_a_reset_follow_from_the_tape(values, waiting, staged):
    state = fold(tape(*values))
    assert [write.slot for write in state.waiting] == waiting
    assert [pending.planned.write.slot for pending in state.staged] == staged


@pytest.mark.parametrize("reason", [e.Reason.TASK_STALLED, e.Reason.TASK_VANISHED, e.Reason.RESET_UNCERTAIN])
def test_where_it_can_not_be_told_what_happened_nothing_is_tried(reason):
    trouble = dataclasses.replace(TROUBLE, reason=reason)
    assert find_remedies(fold(tape(*NOT_WRITTEN)), trouble) == ()


def test_a_gap_in_the_numbers_is_an_error():
    with pytest.raises(TapeBrokenError, match="entry 3 follows entry 1"):
        fold([tape(PLACE)[0], tape(*BEGUN)[2]])


@pytest.mark.parametrize(
    ("values", "holds", "kept", "away"),
    [
        (BEGUN, True, False, False),
        ((*BEGUN, FAILED), False, False, False),
        ((*WRITTEN, RESET), True, False, True),
        ((*WRITTEN, RESET, RESET_UNSENT, FAILED), False, False, False),
        ((*WRITTEN, RESET, RESET_SENT, FAILED), True, True, True),
        ((*WRITTEN, RESET, RESET_SENT, BACK, FAILED), True, True, True),
        ((*WRITTEN, RESET, RESET_SENT, BACK, CONFIRMED, FAILED), False, False, False),
        ((*WRITTEN, RESET, RESET_SENT, FAILED, GIVEN), False, False, False),
        ((*BEGUN, DEFERRED), False, False, False),
        ((*MOVED, OFF, FAILED), False, False, False),
        ((*MOVED, OFF, REFUSED, FAILED), False, False, False),
        ((*MOVED, OFF, BEGUN_ALL_THE_SAME, FAILED), True, True, False),
        ((*MOVED, OFF, DONE_OUTSIDE, FAILED), True, True, False),
        ((*MOVED, OFF, DONE_OUTSIDE, BACK_AGAIN, DONE_OUTSIDE, FAILED), False, False, False),
        ((*MOVED, OFF, DONE_OUTSIDE, BACK_AGAIN, DONE_OUTSIDE, WHOLE, REFUSED, FAILED), True, True, False),
        ((*MOVED, OFF, DONE_OUTSIDE, BACK_AGAIN, REFUSED, FAILED, GIVEN), False, False, False),
    ],
)
def test_a_failure_while_away_keeps_the_place_until_it_is_given_back(values, holds, kept, away):
    """A server that failed while away once gave its place back, and its partner was rebooted."""
    state = fold(tape(*values))
    assert (state.place is not None, bool(state.place and state.place.kept), state.is_away) == (holds, kept, away)


EVERY = (
    *WRITTEN, RESET, RESET_SENT, ASKED, ANSWERED, SEEN, BACK, CONFIRMED, UNSENT, RESET_UNSENT, FAILED, GIVEN, DEFERRED,
    e.Warned(check="clock", seen="its clock is 8 min ahead", remedy="Set it."),
    e.WriteFailed(reason=e.Reason.TASK_FAILED, facts={"slot": "bios"}),
    OFF, DONE_OUTSIDE, REFUSED, TROUBLE, RESTART, AHEAD_DONE, SPARED, STAGED, LEFT,
    dataclasses.replace(INTENT, marker=Marker(controller="a"), target="/redfish/v1/UpdateService/FirmwareInventory/bios"),
)  # fmt: skip


@pytest.mark.parametrize("value", EVERY, ids=lambda value: type(value).__name__)
def test_every_kind_of_entry_survives_a_journal(value):
    kind, body = write_entry(value)
    again = read_entry(7, NOW, VERSION, kind, json.loads(json.dumps(body)))
    assert again == Entry(seq=7, at=NOW, value=value)
    assert tell_entry(value)
    assert {type(v) for v in EVERY} == set(KINDS.values()), "no kind is left out of this test"


def test_every_reason_has_a_sentence_that_stands_without_its_facts():
    assert set(SENTENCES) == set(e.Reason)
    for reason in e.Reason:
        assert tell_reason(reason, {})


@pytest.mark.parametrize(
    ("version", "kind", "body"),
    [
        (3, "back", {}),
        (2, "dance", {}),
        (2, "confirmed", {"versions": 7}),
        (2, "ended", {"ending": "won"}),
        (1, "ended", {}),
    ],
)
def test_what_a_later_ordnung_wrote_is_named_never_guessed(version, kind, body):
    with pytest.raises(TapeFormatError, match="entry 4"):
        read_entry(4, NOW, version, kind, body)


OLD_WRITE = {"slot": "bios", "product": "p", "source": "1", "to": "2", "seconds": 60}
OLD_ROUND = {"writes": [OLD_WRITE], "reset": "server reboot", "reset_seconds": 300, "activates": [["bios", "2"]]}
OLD_MARKER = {"system": "a", "controller": "b", "boot": "OSRunning"}
OLD_TAPE = [
    ("read", {"server": server_entry(Server(name="s", model="m")), "why": "before"}),
    ("plan", {"rounds": [OLD_ROUND], "stranded": []}),
    ("write intent", {"write": OLD_WRITE, "sha256": "aa", "way": "pull", "tasks": ["/t/1"]}),
    ("write sent", {"task": "/t/2"}),
    ("write done", {"slot": "bios", "message": ""}),
    ("reset intent", {"kind": "server reboot", "marker": OLD_MARKER}),
    ("reset unsent", {"why": "not begun"}),
    ("reset intent", {"kind": "server reboot", "marker": OLD_MARKER}),
    ("reset sent", {}),
    ("back", {"marker": OLD_MARKER}),
    ("confirmed", {"versions": [["bios", "2"]]}),
    ("ended", {"state": "level", "reason": "every version confirmed by reading"}),
]


def test_a_tape_of_the_first_version_stays_readable():
    entries = [read_entry(n, NOW, 1, kind, body) for n, (kind, body) in enumerate(OLD_TAPE, start=1)]
    state = fold(entries)
    assert state.ended is not None and state.ended.ending is e.Ending.LEVEL and state.done == (("bios", "2"),)
    assert tell_entry(entries[-1].value) == "level: every version confirmed by reading"


def test_rounds_survive_the_tape_and_name_their_payloads():
    assert parse_rounds(json.loads(json.dumps(rounds_body((ROUND,))))) == (ROUND,)


def part(slot, version, software_id="A", waiting=None):
    return Component(slot=slot, kind="nic", name=slot, software_id=software_id, version=version, waiting=waiting)


def test_the_check_after_finds_what_nobody_asked_for():
    before = Server(
        name="s", model="m", components=(part("a", "1"), part("b", "1"), part("c", "1", waiting="2"), part("d", "1"))
    )
    after = Server(name="s", model="m", components=(part("a", "2"), part("c", "2"), part("d", "1", "X")))
    assert find_surprises(before, after, {"a"}) == [
        "b in b is gone", "d is another device now: software A before; software X now",
    ]  # fmt: skip
    changed = Server(name="s", model="m", components=(part("a", "2"), part("b", "9"), part("c", "1"), part("d", "1")))
    assert find_surprises(before, changed, {"a"}) == ["b changed from 1 to 9 though it was not touched"]


def test_what_was_exchanged_is_told_by_what_differs_and_no_machine_word_is_left():
    old = Component(slot="raid-1", kind="raid", name="Tessaly R9 RAID", version="1", serial="A", pci="1af4:1001")
    swapped = dataclasses.replace(old, serial="B")
    other = dataclasses.replace(old, name="Tessaly R7 RAID", pci="1af4:1002")
    for new, told in (
        (swapped, "raid-1 is another device now: serial A before; serial B now"),
        (
            other,
            "raid-1 is another device now: Tessaly R9 RAID, PCI 1af4:1001 before; Tessaly R7 RAID, PCI 1af4:1002 now",
        ),
    ):
        pair = (Server(name="s", model="m", components=(part,)) for part in (old, new))
        assert find_surprises(*pair, set()) == [told]
    for type_ in ("GracefulRestart", "ForceRestart", "PowerCycle", "FullPowerCycle", "OfTheirOwn"):
        told = tell_entry(e.ResetIntent(kind=e.ResetKind.SERVER_REBOOT, type=type_, marker=Marker()))
        assert told.startswith("will ask for a server reboot") and type_ not in told


def test_a_controller_that_begins_to_tell_more_has_exchanged_nothing():
    """After sump-01's controller was updated, everything else once counted as exchanged."""
    bare = [dataclasses.replace(part(slot, "1", None), updateable=False) for slot in ("raid", "nic")]
    full = [dataclasses.replace(part(slot, "1", f"SW-{slot}"), updateable=True) for slot in ("raid", "nic")]
    before, after = (Server(name="s", model="m", components=tuple(parts)) for parts in (bare, full))
    assert find_surprises(before, after, set()) == [] and tells_more(before, after)
    assert not tells_more(after, after) and not tells_more(after, before)
    gone = Server(name="s", model="m", components=(full[0],))
    assert not tells_more(before, gone), "less is not more"


@pytest.mark.parametrize(
    ("facts", "doubt"),
    [
        (Facts(power="On", boot="OSRunning", health="OK"), None),
        (Facts(), None),
        (Facts(power="Off"), "its power is Off"),
        (Facts(boot="MemoryInitializationStarted"), "its system does not run yet"),
        (Facts(health="Critical"), "its health is Critical"),
    ],
)
def test_what_proves_a_server_back(facts, doubt):
    before = Server(name="s", model="m", components=(part("a", "1"),))
    assert proves_back(before, dataclasses.replace(before, facts=facts)) == doubt
    lost = Server(name="s", model="m", facts=facts)
    assert proves_back(before, lost) is not None


def test_a_start_that_was_never_told_to_its_end_proves_a_server_back_all_the_same():
    told = Server(name="s", model="m", facts=Facts(power="On", boot="OSBootStarted"))
    assert proves_back(told, told) is None
    assert proves_back(dataclasses.replace(told, facts=Facts(boot="OSRunning")), told) == "its system does not run yet"


class MemoryCase:
    def __init__(self, _folder):
        self.journal = MemoryJournal(VirtualClock())
        self.run = "1"


class FileCase:
    def __init__(self, folder):
        self.journal = FileJournal(folder / "journal.jsonl", VirtualClock()).__enter__()
        self.run = "1"


class DatabaseCase:
    def __init__(self, _folder):
        from ordnung.server.runs.journal import DatabaseJournal

        self.journal = DatabaseJournal()

    @property
    def run(self):
        from ordnung.server.fleet.models import Server as Row
        from ordnung.server.runs.models import Run

        for name in ("s", "t", "other"):
            Row.objects.get_or_create(name=name, defaults={"url": f"https://{name}.example"})
        return str(Run.objects.get_or_create(pk=1, defaults={"name": "r", "drafted_at": NOW, "drafted_by": "t"})[0].pk)


@pytest.mark.exhaustive
@pytest.mark.parametrize("case", [MemoryCase, FileCase, DatabaseCase])
@pytest.mark.django_db(transaction=True)
async def test_every_journal_keeps_the_contract(case, tmp_path):
    """Numbers without gaps, nobody overwrites, what was appended is read back in order, limits hold over all tapes."""
    from asgiref.sync import sync_to_async

    made = case(tmp_path)
    run = await sync_to_async(lambda: made.run)()
    journal = made.journal
    assert await journal.load(run, "s") == []
    first = await journal.append(run, "s", 1, e.PlaceTaken(place=AwayPlace(server="s", rack="ü", outage=False)))
    await journal.append(run, "s", 2, READ)
    await journal.append(run, "other", 1, READ)
    with pytest.raises(TapeConflictError):
        await journal.append(run, "s", 2, PLAN)
    with pytest.raises(TapeBrokenError):
        await journal.append(run, "s", 3, SENT)
    loaded = await journal.load(run, "s")
    assert [(entry.seq, type(entry.value)) for entry in loaded] == [(1, e.PlaceTaken), (2, e.Read)]
    assert loaded[0].value == first.value
    for number in range(7):
        await take(journal, run, f"x{number}", ())
    with pytest.raises(NoPlaceError, match="8 servers are worked on already"):
        await take(journal, run, "x8", ())
    assert await journal.load(run, "x8") == [], "nothing was added"


async def take(journal, run, name, groups):
    from asgiref.sync import sync_to_async

    from ordnung.server.fleet.models import Server as Row

    if not isinstance(journal, (MemoryJournal, FileJournal)):
        await sync_to_async(Row.objects.get_or_create)(name=name, defaults={"url": f"https://{name}.example"})
    await journal.append(run, name, 1, e.PlaceTaken(place=AwayPlace(server=name, groups=groups)))
