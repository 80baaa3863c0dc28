"""What the screens are given: glyph rows, spans and sentences of a tape."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.components import Server
from ordnung.core.drift import Verdict
from ordnung.core.house import judge_house
from ordnung.core.rules import FIXED_RULES
from ordnung.engine.ports import Entry
from ordnung.server.present import FIXED, LETTERS, glyph_row, resets_text, worst
from ordnung.server.runs.story import tell_entry, tell_steps
from tests.core.houses import DAY, catalogs, component, product, release

START = datetime.datetime(2026, 11, 23, 1, tzinfo=datetime.UTC)
BIOS = product("bios", release("1.0"), release("1.1", importance="security"))


def standing(*components):
    server = Server(name="s", model="m", components=components)
    return judge_house([server], catalogs(BIOS), FIXED_RULES, DAY)[0]


def test_a_row_always_has_the_same_six_places():
    row = glyph_row(standing(component("b", "bios", "1.0")))
    assert tuple(cell["kind"] for cell in row) == FIXED
    assert [cell["letter"] for cell in row] == ["F", "M", "R", "N", "D", "P"]
    assert row[0]["verdict"] == "exposed" and row[1]["verdict"] == "unread" and row[1]["count"] == 0


def test_several_of_a_kind_fold_into_the_worst_with_counts():
    row = glyph_row(standing(*(component(f"b{n}", "bios", "1.0" if n in (2, 5) else "1.1") for n in range(8))))
    assert (row[0]["verdict"], row[0]["versions"], row[0]["lagging"], row[0]["count"]) == (
        "exposed",
        "1.1 ×6, 1.0 ×2",
        2,
        8,
    )


def test_exposed_outweighs_everything_and_level_nothing():
    assert worst(list(Verdict)) is Verdict.EXPOSED
    assert worst([Verdict.LEVEL, Verdict.HELD]) is Verdict.HELD
    assert worst([]) is Verdict.UNREAD


def test_resets_in_words():
    assert resets_text(standing(component("b", "bios", "1.0")).route) == "1 reboot"
    assert resets_text(standing(component("b", "bios", "1.1")).route) == ""


def test_every_kind_has_its_letter():
    assert len(set(LETTERS.values())) == len(LETTERS)


def tape(*entries):
    return [
        Entry(seq=n, at=START + datetime.timedelta(seconds=10 * n), kind=kind, body=body)
        for n, (kind, body) in enumerate(entries, start=1)
    ]


WRITE = {"slot": "bios", "product": "p", "source": "1", "to": "2", "seconds": 60}
INTENT = ("write intent", {"write": WRITE, "sha256": "aa", "way": "pull", "tasks": []})
SENT, DONE = ("write sent", {"task": "/t/1"}), ("write done", {"slot": "bios", "message": ""})
RESET, BACK = ("reset intent", {"kind": "server reboot", "marker": {}}), ("back", {})
CONFIRMED = ("confirmed", {"versions": [["bios", "2"]]})


def test_a_tape_becomes_spans_from_the_runs_start():
    spans = tell_steps(tape(INTENT, SENT, DONE, RESET, BACK, CONFIRMED), START)
    assert [(s["kind"], s["start"], s["end"]) for s in spans] == [
        ("staging", 10, 20), ("writing", 20, 30), ("server reboot", 40, 50), ("checking", 50, 60),
    ]  # fmt: skip
    assert spans[1]["label"] == "bios 2"


def test_what_is_under_way_has_no_end_and_what_failed_is_marked():
    assert tell_steps(tape(INTENT, SENT), START)[-1]["end"] is None
    failed = tell_steps(tape(INTENT, SENT, ("write failed", {"slot": "bios", "message": "no"})), START)
    assert failed[-1]["kind"] == "failed"


@pytest.mark.parametrize(
    ("entry", "told"),
    [
        (INTENT, "will pull bios 1 → 2"),
        (SENT, "the controller took it on"),
        (("write sent", {"task": "/t", "found": "x"}), "the controller took it on (found after a break)"),
        (DONE, "bios written"),
        (("write unsent", {"why": "gone"}), "it never arrived: gone"),
        (("write failed", {"slot": "bios", "message": "no"}), "bios not written: no"),
        (RESET, "will ask for a server reboot"),
        (("reset sent", {}), "the reset began"),
        (("reset unsent", {"why": "no"}), "the reset did not begin: no"),
        (BACK, "answers again, its system runs"),
        (CONFIRMED, "confirmed by reading: bios 2"),
        (("confirmed", {"versions": []}), "confirmed by reading"),
        (("plan", {"rounds": [], "stranded": []}), "nothing to do"),
        (("plan", {"rounds": [{"writes": [1, 2]}], "stranded": []}), "planned 2 writes in 1 rounds"),
        (("read", {"server": {"components": [1]}, "why": "before"}), "read before: 1 components"),
        (("ended", {"state": "level", "reason": "all"}), "level: all"),
        (("something new", {}), "something new"),
    ],
)
def test_every_entry_is_a_sentence(entry, told):
    assert tell_entry(*entry) == told
