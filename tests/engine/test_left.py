"""How long a server will still take, by its tape: what is under way, and all that is planned."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.engine import entries as e
from ordnung.engine.left import CHECK_S, USUAL_RESET_S, USUAL_WRITE_S, round_seconds, seconds_left, step_under_way
from ordnung.engine.tape import fold
from tests.engine.test_tape import (
    BACK,
    BEGUN,
    CONFIRMED,
    FAILED,
    INTENT,
    NOW,
    PLACE,
    READ,
    RESET,
    RESET_SENT,
    ROUND,
    SEEN,
    SENT,
    WRITTEN,
    tape,
)

AGO = NOW + datetime.timedelta(seconds=30)
UNKNOWN = dataclasses.replace(ROUND, reset_seconds=None, writes=(
    dataclasses.replace(ROUND.writes[0], write=dataclasses.replace(ROUND.writes[0].write, seconds=None)),
))  # fmt: skip
TWO = e.Plan(rounds=(ROUND, ROUND))
RESETTING = (*WRITTEN, RESET, RESET_SENT)


def test_a_round_takes_its_writes_its_reset_and_the_reading():
    assert round_seconds(ROUND) == 60 + 300 + CHECK_S and round_seconds(ROUND, written=1) == 300 + CHECK_S
    assert round_seconds(UNKNOWN) == USUAL_WRITE_S + USUAL_RESET_S + CHECK_S
    assert round_seconds(dataclasses.replace(ROUND, reset=None)) == 60


@pytest.mark.parametrize(
    ("values", "percent", "what", "left"),
    [
        (BEGUN, None, "", 0.0),
        ((*BEGUN, INTENT, SENT), None, "writing bios 2", 30.0),
        ((*BEGUN, INTENT, SENT), 4, "writing bios 2", 30.0),
        ((*BEGUN, INTENT, SENT), 25, "writing bios 2", 90.0),
        ((*BEGUN, INTENT, SENT), 100, "writing bios 2", 0.0),
        (RESETTING, None, "in its server reboot", 290.0),
    ],
)
def test_what_can_not_be_cut_short(values, percent, what, left):
    assert step_under_way(fold(tape(*values)), NOW, AGO, percent) == (what, left)


def test_what_takes_longer_than_planned_is_over_any_moment():
    late = NOW + datetime.timedelta(hours=2)
    assert step_under_way(fold(tape(*BEGUN, INTENT, SENT)), NOW, late) == ("writing bios 2", 0.0)
    assert step_under_way(fold(tape(*RESETTING)), NOW, late) == ("in its server reboot", 0.0)


@pytest.mark.parametrize(
    ("values", "left"),
    [
        ((PLACE, READ), 0.0),
        (BEGUN, 380.0),
        ((PLACE, READ, TWO), 760.0),
        ((*BEGUN, INTENT, SENT), 30.0 + 320.0),
        (WRITTEN, 320.0),
        (RESETTING, 290.0),
        ((*RESETTING, SEEN, BACK), CHECK_S),
        ((*RESETTING, SEEN, BACK, CONFIRMED), 0.0),
        ((*BEGUN, FAILED), 0.0),
    ],
)
def test_what_is_planned_is_counted_down(values, left):
    assert seconds_left(fold(tape(*values)), NOW, AGO) == left
