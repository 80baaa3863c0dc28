"""The journal in a file: what power takes, what another process holds, what is damaged; and dying at every position."""

from __future__ import annotations

import datetime
import json
import os

import pytest

from ordnung.engine.entries import Ended
from ordnung.engine.journal_lines import OpenedRun
from ordnung.engine.ports import RecordsOutError, TapeConflictError
from ordnung.engine.run import carry_out_run
from ordnung.fieldkit.journal import FileJournal, JournalBusyError
from ordnung.formats.errors import FormatError
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.engine.test_tape import PLACE, PLAN, READ
from tests.simulation.clock import VirtualClock, run
from tests.simulation.world import House

ONE = "surge-06"
AT = datetime.datetime(2026, 11, 23, 1, tzinfo=datetime.UTC)
OPENED = OpenedRun(
    run="1", server="s", at=AT, repository="for the annex", edition=3, packing="ab", back={"bios": "2.1.0"},
    left_out={"nic-1": "by --except"},
)  # fmt: skip


def filled(path):
    with FileJournal(path, VirtualClock()) as journal:
        journal.open_run(OPENED)
        for seq, value in enumerate((PLACE, READ, PLAN), start=1):
            run(journal.append("1", "s", seq, value))
    return path


def test_what_was_written_is_read_again(tmp_path):
    path = filled(tmp_path / "j")
    assert path.stat().st_mode & 0o077 == 0
    with FileJournal(path, VirtualClock()) as journal:
        assert journal.runs == [OPENED]
        assert [entry.value for entry in journal.tape("1", "s")] == [PLACE, READ, PLAN]
        assert journal.state("1", "s").seq == 3 and journal.state("1", "other").seq == 0
        with pytest.raises(TapeConflictError):
            run(journal.append("1", "s", 3, PLAN))


def test_a_line_that_power_was_lost_in_never_counted(tmp_path):
    """Cut anywhere, the journal is what it was after some whole entry, and takes the next one."""
    whole = filled(tmp_path / "j").read_bytes()
    ends = [n for n, byte in enumerate(whole, start=1) if byte == 10]
    for cut in range(len(whole) + 1):
        path = tmp_path / "cut"
        path.write_bytes(whole[:cut])
        with FileJournal(path, VirtualClock()) as journal:
            kept = sum(end <= cut for end in ends)
            assert len(journal.tape("1", "s")) == max(0, kept - 2), cut
            assert len(journal.runs) == (kept > 1)
        assert path.read_bytes() == whole[: max(ends[0], ends[kept - 1] if kept else 0)], "the rest is cut off"


def test_one_process_at_a_time(tmp_path):
    busy = pytest.raises(JournalBusyError, match="another ordnung works with this journal")
    with FileJournal(filled(tmp_path / "j"), VirtualClock()), busy:
        FileJournal(tmp_path / "j", VirtualClock()).__enter__()
    with FileJournal(tmp_path / "j", VirtualClock()):
        pass


@pytest.mark.parametrize(
    ("spoil", "told"),
    [
        (lambda lines: [b'{"format":"ordnung.journal/9"}', *lines[1:]], "line 1: it does not begin with"),
        (lambda lines: [*lines[:2], lines[2][:-9], *lines[3:]], "line 3: it can't be read"),
        (lambda lines: [*lines[:2], *lines[3:]], "line 3: it can't be read: entry 2 follows on 0"),
        (lambda lines: [*lines, lines[-1]], "line 6: it can't be read: entry 3 follows on 3"),
        (lambda lines: [*lines, lines[-1].replace(b'"seq":3', b'"seq":4').replace(b"plan", b"nalp")], "is not known"),
        (lambda lines: [*lines, b"[]"], "line 6"),
        (lambda lines: [*lines, b"null"], "line 6"),
        (lambda lines: [*lines, b'{"opened":"2","at":"2026-11-23T01:00:00"}'], "has no zone|line 6"),
        (lambda lines: [*lines, b"[" * 5000], "line 6"),
    ],
)
def test_what_is_damaged_is_named_and_nothing_is_done(tmp_path, spoil, told):
    path = filled(tmp_path / "j")
    path.write_bytes(b"\n".join(spoil(path.read_bytes().splitlines())) + b"\n")
    before = path.read_bytes()
    with pytest.raises(FormatError, match=told):
        FileJournal(path, VirtualClock()).__enter__()
    assert path.read_bytes() == before


def test_what_can_t_be_written_leaves_the_file_as_it_was(tmp_path, monkeypatch):
    path = filled(tmp_path / "j")
    before = path.read_bytes()
    with FileJournal(path, VirtualClock()) as journal:
        pwrite = os.pwrite
        monkeypatch.setattr(os, "pwrite", lambda file, raw, at: pwrite(file, raw[:7], at))
        with pytest.raises(OSError, match="no room for the journal"):
            journal.open_run(OPENED)
        with pytest.raises(RecordsOutError, match="no room for the journal"):
            run(journal.append("1", "other", 1, PLACE))
        monkeypatch.undo()
        assert path.read_bytes() == before
        journal.open_run(OPENED)
    assert json.loads(path.read_bytes().splitlines()[-1])["opened"] == "1"


class Watched(FileJournal):
    """Keeps what a death at each entry leaves, the house and the file: before it, in the middle of its line, or after."""

    house, when, left = None, "after", ()

    def __deepcopy__(self, memo):
        return None

    def at_once(self) -> tuple[House, bytes]:
        return self.house.twin(), self.path.read_bytes()

    async def append(self, run, server, seq, value):
        house, kept = self.at_once()
        entry = await super().append(run, server, seq, value)
        half = b'{"run":"1","server":"sur' if self.when == "within" else b""
        self.left = (*self.left, self.at_once() if self.when == "after" else (house, kept + half))
        return entry


def level(house: House, path, when: str = "after") -> list[tuple[House, bytes]]:
    """One life over the journal in that file; what it would have left at each entry that it made."""
    with Watched(path, house.clock) as journal:
        journal.house, journal.when, house.journal = house, when, journal
        run(carry_out_run("1", [house.lane(ONE)], house.world()))
        return list(journal.left)


def house_of(mirror) -> House:
    clock = VirtualClock()
    return House(clock, demo_hardware(clock.seconds, [place for place in PLACES if place.name == ONE]), mirror)


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "within", "after"])
def test_dying_at_every_position_loses_and_doubles_nothing(mirror_folder, tmp_path, when):
    steady = house_of(mirror_folder)
    left = level(steady, tmp_path / "steady", when)
    wanted = writes_of(steady.devices[ONE].log)
    assert len(left) > 12 and len(wanted) == 2
    for position, (trial, kept) in enumerate(left, 1):
        (path := tmp_path / f"{when}-{position}").write_bytes(kept)
        trial.clock.base += 45
        level(trial, path)
        assert writes_of(trial.devices[ONE].log) == wanted, position
        with FileJournal(path, trial.clock) as journal:
            assert isinstance(last := journal.tape("1", ONE)[-1].value, Ended) and last.ending == "level", position
