"""Windows that come again: RFC 5545 on the wall clock, over changes of daylight-saving time."""

from __future__ import annotations

import datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ordnung.core.night.recurring import WindowRule, WindowRuleError, check_rule, find_zone, openings

ZONE = find_zone("Europe/Lisbon")
UTC = datetime.UTC


def a_window(**facts):
    told = {
        "name": "Thursdays", "first": datetime.date(2026, 10, 1), "opens": datetime.time(22), "closes": datetime.time(4),
        "rule": "FREQ=WEEKLY;BYDAY=TH",
    }  # fmt: skip
    return WindowRule(**{**told, **facts})


def at(*numbers):
    return datetime.datetime(*numbers, tzinfo=UTC)


def spans(window, since, until, zone=ZONE):
    found = openings([window], zone, since, until)
    return [(o.start.strftime("%d %H:%M"), (o.end - o.start) / datetime.timedelta(hours=1)) for o in found]


@pytest.mark.parametrize(
    ("first", "hours"),
    [
        # Lisbon: put on in the night to 29 March 2026, put back in the night to 25 October 2026.
        (datetime.date(2026, 3, 27), 6.0),
        (datetime.date(2026, 3, 28), 5.0),
        (datetime.date(2026, 10, 23), 6.0),
        (datetime.date(2026, 10, 24), 7.0),
    ],
)
def test_a_window_over_the_change_of_the_clock_is_meant_by_the_wall_clock(first, hours):
    window = a_window(first=first, rule="")
    day = datetime.datetime.combine(first, datetime.time(), UTC)
    ((_, long),) = spans(window, day, day + datetime.timedelta(days=2))
    assert long == hours


def test_a_time_that_the_clock_leaves_out_is_read_by_what_held_before_and_one_that_comes_twice_is_the_first():
    left_out = a_window(
        first=datetime.date(2026, 3, 29), opens=datetime.time(1, 30), closes=datetime.time(5), nights=0, rule=""
    )
    day = at(2026, 3, 29)
    assert spans(left_out, day, day + datetime.timedelta(days=1)) == [("29 01:30", 2.5)]
    twice = a_window(
        first=datetime.date(2026, 10, 25), opens=datetime.time(1, 30), closes=datetime.time(5), nights=0, rule=""
    )
    day = at(2026, 10, 25)
    assert spans(twice, day, day + datetime.timedelta(days=1)) == [("25 00:30", 4.5)]


def test_a_window_that_is_open_already_is_found_and_a_day_can_be_left_out():
    window = a_window(without=frozenset({datetime.date(2026, 11, 12)}))
    found = spans(window, at(2026, 11, 6, 2), at(2026, 11, 20))
    assert [start for start, _ in found] == ["05 22:00", "19 22:00"]


@pytest.mark.parametrize(
    ("rule", "days"),
    [
        ("FREQ=DAILY;INTERVAL=10", ["01", "11", "21", "31"]),
        ("FREQ=MONTHLY;BYDAY=2TH", ["08"]),
        ("FREQ=MONTHLY;BYMONTHDAY=-1", ["31"]),
        ("FREQ=WEEKLY;BYDAY=TH;UNTIL=20261008", ["01", "08"]),
        ("FREQ=WEEKLY;BYDAY=TH,SU;COUNT=3", ["01", "04", "08"]),
    ],
)
def test_the_rules_that_maintenance_windows_have(rule, days):
    found = spans(a_window(rule=rule), at(2026, 10, 1), at(2026, 11, 1))
    assert [start[:2] for start, _ in found] == days


@pytest.mark.parametrize(
    ("facts", "field"),
    [
        ({"rule": "FREQ=SECONDLY"}, "rule"),
        ({"rule": "BYDAY=TH"}, "rule"),
        ({"rule": "FREQ=WEEKLY;BYHOUR=3"}, "rule"),
        ({"rule": "FREQ=WEEKLY;BYDAY=1TH"}, "rule"),
        ({"rule": "FREQ=DAILY;BYDAY=TH;INTERVAL=7"}, "rule"),
        ({"rule": "FREQ=WEEKLY;FREQ=DAILY"}, "rule"),
        ({"rule": "weekly"}, "rule"),
        ({"rule": "FREQ=WEEKLY;COUNT=2;UNTIL=20261101"}, "rule"),
        ({"rule": "FREQ=WEEKLY;UNTIL=20261399"}, "rule"),
        ({"nights": 0}, "closes"),
        ({"nights": 8}, "nights"),
        ({"first": datetime.date(1, 1, 1)}, "first"),
        ({"first": datetime.date(9999, 12, 31)}, "first"),
    ],
)
def test_what_cannot_be_kept_is_refused_with_the_field(facts, field):
    with pytest.raises(WindowRuleError) as refused:
        check_rule(a_window(**facts))
    assert refused.value.field == field


def test_a_zone_nobody_knows_is_refused():
    for name in ("Kelp/Lowmere", "../etc/passwd", ""):
        with pytest.raises(WindowRuleError):
            find_zone(name)


@pytest.mark.exhaustive
@settings(max_examples=30, deadline=None)
@given(
    st.dates(datetime.date(2020, 1, 1), datetime.date(2030, 1, 1)),
    st.times(),
    st.times(),
    st.sampled_from(["", "FREQ=DAILY", "FREQ=WEEKLY;BYDAY=MO,FR", "FREQ=MONTHLY;BYDAY=-1SU", "FREQ=MONTHLY;INTERVAL=12;BYMONTHDAY=31"]),
    st.sampled_from(["Europe/Lisbon", "America/St_Johns", "Pacific/Chatham", "Australia/Lord_Howe", "UTC"]),
    st.integers(1, 3),
)  # fmt: skip
def test_openings_are_in_order_within_what_was_asked_and_never_of_negative_length(
    first, opens, closes, rule, zone, nights
):
    window = a_window(first=first, opens=opens, closes=closes, rule=rule, nights=nights)
    since = at(2026, 3, 1)
    until = since + datetime.timedelta(days=60)
    found = openings([window], find_zone(zone), since, until)
    assert list(found) == sorted(found)
    assert all(o.start < until and o.end > since and o.start <= o.end for o in found)
    asked_twice = openings([window], find_zone(zone), since, since + datetime.timedelta(days=30))
    assert [o for o in found if o.start < since + datetime.timedelta(days=30)] == list(asked_twice)


def test_a_rule_that_never_matches_comes_to_an_end():
    """A rule that searched every day to the year 9999 would go on for minutes: such are not let in."""
    window = a_window(first=datetime.date(2026, 2, 1), rule="FREQ=MONTHLY;INTERVAL=12;BYMONTHDAY=31")
    assert openings([window], ZONE, at(2026, 1, 1), at(2027, 1, 1)) == ()
