"""Whose turn it is by the sheet: waves, waits, gates, windows (T7, T9, T10, P2)."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.away import AwayLimits, AwayPlace, may_begin
from ordnung.core.turn import Turn, WaveStand, bars_reset, may_turn

NOW = datetime.datetime(2026, 11, 26, 22, 30, tzinfo=datetime.UTC)
MIN = datetime.timedelta(minutes=1)


def said(now=NOW, **facts):
    found = may_turn(Turn(server="surge-01", **facts), now)
    return None if found is None else (found.limit, str(found), found.never)


@pytest.mark.parametrize(
    ("wave", "expected"),
    [
        ({"working": ("a", "b")}, ("wave", "canary is not done: a, b", False)),
        ({"working": tuple("abcde")}, ("wave", "canary is not done: a, b, c and 2 more", False)),
        ({"ended_at": NOW, "wait_seconds": 1800}, ("wait", "canary is left to run until 23:00", False)),
        ({"ended_at": NOW - 30 * MIN, "wait_seconds": 1800}, None),
        ({"ended_at": NOW, "gate": True}, ("gate", "a person lets it go on after canary", False)),
        ({"ended_at": NOW, "gate": True, "opened": True}, None),
        ({"ended_at": NOW - 60 * MIN, "wait_seconds": 60, "troubled": ("a",)},
         ("gate", "a person lets it go on after canary: a did not go well", False)),
        ({"ended_at": NOW, "troubled": ("a",)}, None),
        ({}, None),
    ],
)  # fmt: skip
def test_waves_waits_and_gates(wave, expected):
    assert said(before=(WaveStand(name="canary", **wave),)) == expected


def test_all_earlier_waves_are_asked_in_order():
    before = (WaveStand(name="one"), WaveStand(name="two", working=("b",)))
    assert said(before=before) == ("wave", "two is not done: b", False)


@pytest.mark.parametrize(
    ("windows", "needs", "expected"),
    [
        (None, 9000, None),
        ([(-30, 330)], 3000, None),
        ([(60, 330)], 3000, ("window", "the window opens at 23:30", False)),
        ([(-60, 20), (600, 900)], 3000, ("window", "the window opens at 08:30", False)),
        ([(-60, 20)], 3000, ("window", "needs 50 min, 20 are left", True)),
        ([(-60, -5)], 60, ("window", "needs 1 min, no window is left", True)),
    ],
)
def test_windows(windows, needs, expected):
    spans = None if windows is None else tuple((NOW + a * MIN, NOW + b * MIN) for a, b in windows)
    assert said(windows=spans, needs_seconds=needs) == expected


def test_what_a_person_put_later_waits():
    assert said(not_before=NOW + 5 * MIN) == ("not before", "not before 22:35, as the sheet says", False)
    assert said(not_before=NOW) is None


def test_no_reset_begins_outside_a_window():
    opened = [(NOW - 60 * MIN, NOW + MIN)]
    assert bars_reset(None, NOW) == "" and bars_reset(opened, NOW) == ""
    assert "closed at 22:31" in bars_reset(opened, NOW + MIN)
    assert "opens at 23:00" in bars_reset([*opened, (NOW + 30 * MIN, NOW + 60 * MIN)], NOW + MIN)


def test_a_place_that_is_taken_comes_free_and_one_that_heals_is_told_as_such():
    pair = AwayPlace(server="b", groups=("pair",), heals=True)
    limits = AwayLimits(groups={"pair": 1}, at_once=1)
    refusal = may_begin([pair], limits, AwayPlace(server="a", groups=("pair",)))
    assert refusal is not None and not refusal.never and not refusal.kept
    assert str(refusal) == "group pair allows 1 away: b (healing) is away or about to be"
    assert may_begin([pair], limits, AwayPlace(server="c", outage=False)) is None


def test_who_finds_no_window_any_more_is_told_so_and_not_that_a_person_is_waited_for():
    gate = WaveStand(name="canary", gate=True)
    turn = Turn(server="s", before=(gate,), windows=((NOW, NOW + datetime.timedelta(minutes=10)),), needs_seconds=3600)
    found = may_turn(turn, NOW)
    assert found.never and str(found) == "needs 60 min, 10 are left"


@pytest.mark.parametrize(
    ("failed", "servers", "opened", "holds"),
    [(0, 4, False, False), (1, 4, False, False), (2, 4, False, True), (2, 4, True, False), (0, 0, False, False)],
)
def test_more_failures_than_the_house_lets_pass_hold_the_rest_until_a_person_says_so(failed, servers, opened, holds):
    stand = WaveStand(name="rest", working=("s",), failed=failed, servers=servers, opened=opened, stop_share=0.25)
    for turn in (Turn(server="s", own=stand), Turn(server="s", wave="later", before=(stand,))):
        found = may_turn(turn, NOW)
        assert (found is not None and found.limit == "gate") is holds
    assert stand.asks is holds
    whole = WaveStand(name="", failed=1, servers=1, stop_share=0.25)
    assert str(may_turn(Turn(server="s", own=whole), NOW)) == "1 of 1 servers failed; a person lets the others go on"
