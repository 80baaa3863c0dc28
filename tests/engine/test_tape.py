"""Tapes: the fold, what comes next, and one contract for every journal."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.components import Component, Server
from ordnung.core.route import Round, Write
from ordnung.engine.compare import find_surprises
from ordnung.engine.ports import Entry, TapeConflictError
from ordnung.engine.tape import fold, next_step, parse_rounds, rounds_body
from ordnung.formats.readings import server_entry
from tests.simulation.world import MemoryJournal, VirtualClock

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
WRITE = {"slot": "bios", "product": "p", "source": "1", "to": "2", "seconds": 60}
ROUND = Round(writes=(Write(**WRITE),), reset="server reboot", reset_seconds=300, activates=(("bios", "2"),))
READ = ("read", {"server": server_entry(Server(name="s", model="m")), "why": "before"})
PLAN = ("plan", {"rounds": rounds_body([ROUND]), "stranded": []})
INTENT = ("write intent", {"write": WRITE, "sha256": "aa", "way": "pull", "tasks": ["/t/1"]})
SENT, DONE = ("write sent", {"task": "/t/2"}), ("write done", {"slot": "bios", "message": ""})
RESET = ("reset intent", {"kind": "server reboot", "marker": {"system": "a", "controller": "b", "boot": "OSRunning"}})
BACK, CONFIRMED = ("back", {}), ("confirmed", {"versions": [["bios", "2"]]})


def tape(*entries):
    return [Entry(seq=n, at=NOW, kind=kind, body=body) for n, (kind, body) in enumerate(entries, start=1)]


@pytest.mark.parametrize(
    ("entries", "step"),
    [
        ((), "read"),
        ((READ,), "plan"),
        ((READ, PLAN), "write"),
        ((READ, PLAN, INTENT), "find write"),
        ((READ, PLAN, INTENT, SENT), "follow"),
        ((READ, PLAN, INTENT, ("write unsent", {"why": ""})), "write"),
        ((READ, PLAN, INTENT, SENT, DONE), "reset"),
        ((READ, PLAN, INTENT, SENT, DONE, RESET), "find reset"),
        ((READ, PLAN, INTENT, SENT, DONE, RESET, ("reset unsent", {"why": ""})), "reset"),
        ((READ, PLAN, INTENT, SENT, DONE, RESET, ("reset sent", {})), "await"),
        ((READ, PLAN, INTENT, SENT, DONE, RESET, ("reset sent", {}), BACK), "confirm"),
        ((READ, PLAN, INTENT, SENT, DONE, RESET, ("reset sent", {}), BACK, CONFIRMED), "check"),
        ((READ, ("ended", {"state": "skipped", "reason": ""})), "none"),
    ],
)
def test_what_comes_next_follows_from_the_tape_alone(entries, step):
    assert next_step(fold(tape(*entries))).kind == step


@pytest.mark.parametrize(
    "entries",
    [
        (READ, PLAN, INTENT, INTENT),
        (READ, PLAN, INTENT, RESET),
        (READ, PLAN, SENT),
        (READ, PLAN, DONE),
        (READ, PLAN, INTENT, SENT, DONE, RESET, INTENT),
    ],
)
def test_a_tape_that_breaks_an_invariant_is_an_error(entries):
    with pytest.raises(ValueError, match="does not fit"):
        fold(tape(*entries))


def test_a_gap_in_the_numbers_is_an_error():
    with pytest.raises(ValueError, match="entry 3 follows entry 1"):
        fold([tape(READ)[0], tape(READ, PLAN, INTENT)[2]])


def test_rounds_survive_the_tape():
    assert parse_rounds(rounds_body([ROUND])) == (ROUND,)


def part(slot, version, software_id="A", waiting=None):
    return Component(slot=slot, kind="nic", name=slot, software_id=software_id, version=version, waiting=waiting)


def test_the_check_after_finds_what_nobody_asked_for():
    before = Server(
        name="s", model="m", components=(part("a", "1"), part("b", "1"), part("c", "1", waiting="2"), part("d", "1"))
    )
    after = Server(name="s", model="m", components=(part("a", "2"), part("c", "2"), part("d", "1", "X")))
    assert find_surprises(before, after, {"a"}) == ["b in b is gone", "d was d, now it is d"]
    changed = Server(name="s", model="m", components=(part("a", "2"), part("b", "9"), part("c", "1"), part("d", "1")))
    assert find_surprises(before, changed, {"a"}) == ["b changed from 1 to 9 though it was not touched"]


class MemoryCase:
    def __init__(self):
        self.journal = MemoryJournal(VirtualClock())
        self.run = "1"


class DatabaseCase:
    def __init__(self):
        from ordnung.server.adapters import DatabaseJournal

        self.journal = DatabaseJournal()

    @property
    def run(self):
        from ordnung.server.runs.models import Run

        return str(Run.objects.get_or_create(pk=1, defaults={"name": "r", "drafted_at": NOW, "drafted_by": "t"})[0].pk)


@pytest.mark.parametrize("case", [MemoryCase, DatabaseCase])
@pytest.mark.django_db(transaction=True)
async def test_every_journal_keeps_the_contract(case):
    """Numbers without gaps, nobody overwrites, what was appended is read back in order."""
    from asgiref.sync import sync_to_async

    made = case()
    run = await sync_to_async(lambda: made.run)()
    journal = made.journal
    assert await journal.load(run, "s") == []
    first = await journal.append(run, "s", 1, "read", {"a": [1, None, "ü"]})
    await journal.append(run, "s", 2, "plan", {})
    await journal.append(run, "other", 1, "read", {})
    with pytest.raises(TapeConflictError):
        await journal.append(run, "s", 2, "plan", {"from": "another engine"})
    loaded = await journal.load(run, "s")
    assert [(e.seq, e.kind) for e in loaded] == [(1, "read"), (2, "plan")]
    assert loaded[0].body == first.body == {"a": [1, None, "ü"]}
