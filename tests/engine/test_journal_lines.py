"""The lines of a journal in a file: what they add up to, and what is no journal."""

from __future__ import annotations

import datetime
import json

import pytest

from ordnung.engine.entry_codec import VERSION, write_entry
from ordnung.engine.journal_lines import FORMAT, OpenedRun, read_journal
from ordnung.formats.errors import FormatError
from tests.engine.test_tape import NOW, PLACE, PLAN, READ

OPENED = {
    "opened": "1", "at": NOW.isoformat(), "server": "s", "repository": "winter", "edition": 3, "packing": "ab",
    "back": None, "left_out": {"nic-1": "by --except"},
}  # fmt: skip


def entry(seq, value, **change):
    kind, body = write_entry(value)
    line = {
        "run": "1",
        "server": "s",
        "seq": seq,
        "at": NOW.isoformat(),
        "version": VERSION,
        "kind": kind,
        "body": body,
    }
    return {**line, **change}


def written(*lines):
    return b"".join(json.dumps(line).encode() + b"\n" for line in ({"format": FORMAT}, *lines))


WHOLE = written(OPENED, *(entry(seq, value) for seq, value in enumerate((PLACE, READ, PLAN), start=1)))


def test_what_was_written_is_read_and_adds_up():
    found = read_journal(WHOLE, "j")
    at = datetime.datetime.fromisoformat(OPENED["at"])
    assert found.runs == [
        OpenedRun(
            run="1", server="s", at=at, repository="winter", edition=3, packing="ab", left_out={"nic-1": "by --except"}
        )
    ]
    assert [kept.value for kept in found.tape("1", "s")] == [PLACE, READ, PLAN]
    assert found.state("1", "s").seq == 3
    assert found.tape("1", "other") == [] and found.state("2", "s").seq == 0


def test_a_line_without_its_end_never_counted():
    first = WHOLE.index(b"\n") + 1
    for cut in range(first, len(WHOLE) + 1):
        found = read_journal(WHOLE[:cut], "j")
        assert len(found.runs) + len(found.tape("1", "s")) == WHOLE[:cut].count(b"\n") - 1, cut


@pytest.mark.parametrize(
    ("raw", "told"),
    [
        (b"", "it does not begin with"),
        (b'{"format": "ordnung.journal/1"}', "it does not begin with"),
        (b'{"format": "other"}\n', "line 1.*it does not begin with"),
        (b"\xff\n", "line 1.*can't be read"),
        (written("[]"), "line 2.*can't be read"),
        (written({**OPENED, "at": "2026-11-23T01:00:00"}), "line 2.*has no zone"),
        (written({**OPENED, "edition": "third"}), "line 2.*can't be read"),
        (written({**OPENED, "back": 7}), "line 2.*can't be read"),
        (written({"opened": "1"}), "line 2.*can't be read"),
        (written({**OPENED, "left_out": ["nic-1"]}), "line 2.*can't be read"),
        (written(OPENED, entry(2, PLACE)), "line 3.*entry 2 follows on 0"),
        (written(OPENED, entry(1, PLACE, kind="unheard of")), "line 3.*can't be read"),
        (WHOLE + b"[" * 100_000 + b"\n", "line 6.*can't be read"),
    ],
)
def test_what_can_not_be_read_is_named_with_its_line(raw, told):
    with pytest.raises(FormatError, match=f"(?s)j.*{told}"):
        read_journal(raw, "j")
