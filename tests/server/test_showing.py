"""What the screens are given: glyph rows, spans and sentences of a tape."""

from __future__ import annotations

import datetime

import pytest

from ordnung.controllers import Marker
from ordnung.core.assessment import assess_fleet
from ordnung.core.away import AwayPlace
from ordnung.core.components import KINDS, Server
from ordnung.core.drift import Verdict
from ordnung.core.route import Write
from ordnung.core.rules import FIXED_RULES
from ordnung.core.sheet import NamedPayload, PlannedWrite
from ordnung.engine import entries as e
from ordnung.engine.entries import Entry
from ordnung.engine.telling import tell_entry
from ordnung.server.assessment.present import FIXED, LETTERS, glyph_row, resets_text, worst
from ordnung.server.runs.story import tell_steps
from tests.core.houses import DAY, catalogs, component, product, release

START = datetime.datetime(2026, 11, 23, 1, tzinfo=datetime.UTC)
BIOS = product("bios", release("1.0"), release("1.1", importance="security"))


def standing(*components):
    server = Server(name="s", model="m", components=components)
    return assess_fleet([server], catalogs(BIOS), FIXED_RULES, DAY)[0]


def test_a_row_always_has_the_same_six_places():
    row = glyph_row(standing(component("b", "bios", "1.0")))
    assert tuple(cell.kind for cell in row) == FIXED
    assert [cell.letter for cell in row] == ["F", "M", "R", "N", "D", "P"]
    assert row[0].verdict == "exposed" and row[1].verdict == "unread" and row[1].count == 0


def test_several_of_a_kind_fold_into_the_worst_with_counts():
    row = glyph_row(standing(*(component(f"b{n}", "bios", "1.0" if n in (2, 5) else "1.1") for n in range(8))))
    assert (row[0].verdict, row[0].versions, row[0].lagging, row[0].count) == (
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
    assert set(LETTERS) == set(KINDS)
    assert len(set(LETTERS.values())) == len(KINDS) and all(len(letter) == 1 for letter in LETTERS.values())


def tape(*values):
    return [
        Entry(seq=n, at=START + datetime.timedelta(seconds=10 * n), value=value)
        for n, value in enumerate(values, start=1)
    ]


WRITE = Write(slot="bios", product="p", source="1", to="2", seconds=60)
PAYLOAD = NamedPayload(sha256="ab" * 32, size=4, maker="Corvane", catalog="c", issue="2026-11")
INTENT = e.WriteIntent(planned=PlannedWrite(write=WRITE, payload=PAYLOAD), way="push")
SENT, DONE = e.WriteSent(task="/t/1"), e.WriteDone(evidence=e.Evidence.TASK)
RESET = e.ResetIntent(kind=e.ResetKind.SERVER_REBOOT, marker=Marker(), type="ForceRestart")
BACK, CONFIRMED = e.Back(marker=Marker()), e.Confirmed(versions=(("bios", "2"),))
FAILED = e.WriteFailed(reason=e.Reason.TASK_VANISHED, facts={"slot": "bios"})


def test_a_tape_becomes_spans_from_the_runs_start():
    spans = tell_steps(tape(INTENT, SENT, DONE, RESET, BACK, CONFIRMED), START)
    assert [(s.kind, s.start, s.end) for s in spans] == [
        ("staging", 10, 20), ("writing", 20, 30), ("server reboot", 40, 50), ("checking", 50, 60),
    ]  # fmt: skip
    assert spans[1].label == "bios 2"


def test_what_is_under_way_has_no_end_and_what_failed_is_marked():
    assert tell_steps(tape(INTENT, SENT), START)[-1].end is None
    assert tell_steps(tape(INTENT, SENT, FAILED), START)[-1].kind == "failed"


@pytest.mark.parametrize(
    ("value", "told"),
    [
        (INTENT, "will push bios 1 → 2, abababababab… of Corvane 2026-11"),
        (SENT, "the controller took it on"),
        (
            e.WriteSent(task="/t", evidence=e.Evidence.TASK_LIST),
            "the controller took it on (found after a break, by the device's tasks)",
        ),
        (DONE, "written, by its task"),
        (FAILED, "not written: bios: the task vanished and the version is not there"),
        (RESET, "will ask for a server reboot, by force"),
        (e.ResetSent(), "the controller took the reset on"),
        (e.ResetSeen(evidence=e.Evidence.BOOT_PROGRESS), "the reset has acted, by its boot progress"),
        (
            e.ResetSpared(kind=e.ResetKind.CONTROLLER_RESTART),
            "no controller restart is needed: it has started since, by itself, and what waited for that is active",
        ),
        (BACK, "answers again, its system runs"),
        (CONFIRMED, "confirmed by reading: bios 2"),
        (e.Confirmed(versions=()), "confirmed by reading"),
        (e.Plan(rounds=()), "nothing to do"),
        (e.PlaceTaken(place=AwayPlace(server="s")), "its turn: it may go away"),
        (e.PlaceGiven(by="lead", why="seen in the aisle"), "counted as back: seen in the aisle (lead)"),
        (
            e.Ended(ending=e.Ending.LEVEL, reason=e.Reason.CONFIRMED),
            "level: every version confirmed by reading",
        ),
    ],
)
def test_every_entry_is_a_sentence(value, told):
    assert tell_entry(value) == told
