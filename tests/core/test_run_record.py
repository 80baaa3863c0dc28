"""A run in a few sentences: what a lead has to know first, and nothing that is not so."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.run_record import Foretold, good_forecasts, summarise
from tests.core.records import REMEDY, a_record, a_server

STORIES = [
    # what, servers, the first sentences
    ("one", [a_server("a")], ["The one server is level with the baseline."]),
    ("all", [a_server("a"), a_server("b", "skipped")], ["All 2 servers are level with the baseline."]),
    (
        "one failed",
        [a_server("a"), a_server("b", "failed", reason="raid-1: refused.")],
        ["1 of 2 servers are level with the baseline.", "b needs a person: raid-1: refused."],
    ),
    (
        "many failed, some stopped",
        [*(a_server(f"f{n}", "failed") for n in range(6)), a_server("s", "stopped"), a_server("o", "left out")],
        [
            "0 of 8 servers are level with the baseline.",
            "f0, f1, f2, f3 and 2 more need a person. s was stopped. o was left out.",
        ],
    ),
    (
        "left over, two of them",
        [a_server("a"), a_server("b", "left over"), a_server("c", "left over")],
        ["1 of 3 servers are level with the baseline.", "b, c were left over."],
    ),
]


@pytest.mark.parametrize(("what", "servers", "told"), STORIES, ids=[story[0] for story in STORIES])
def test_what_needs_somebody_stands_first(what, servers, told):
    assert list(summarise(a_record(*servers)))[: len(told)] == told


def test_the_time_is_held_against_the_plan_and_the_forecast():
    time = summarise(a_record())[-1]
    assert time == (
        "It took 50 min; planned were 50 min, foretold with nine in ten at most 55 min, which held. "
        "1 reset, 1 was planned."
    )
    late = summarise(a_record(foretold=Foretold(p50=1.0, p90=2000.0, p99=3.0)))[-1]
    assert "at most 34 min, which did not hold" in late
    assert "foretold" not in summarise(a_record(foretold=None))[-1]
    assert summarise(a_record(planned_seconds=7260.0, foretold=None))[-1].startswith(
        "It took 50 min; planned were 2 h 1 min"
    )


def test_a_run_under_way_has_not_taken_any_time_yet():
    told = summarise(a_record(a_server("a", ""), ended_at=None))
    assert told == ("0 of 1 servers are level with the baseline.", "a is under way.")


def test_remedies_are_counted_by_whether_they_helped():
    failed = a_server("b", "failed", remedies=(REMEDY, dataclasses.replace(REMEDY, result="did not help: refused")))
    assert summarise(a_record(failed))[-1] == "Updates that failed were met by a remedy 2 times; 1 of them helped."
    once = a_server("b", remedies=(REMEDY,))
    assert summarise(a_record(once))[-1] == "An update that failed was met by a remedy once, which helped."


def test_what_takes_a_run_back_is_measured_by_that():
    assert summarise(a_record(takes_back=3))[0] == "The one server is as before the run that it takes back."


def test_how_good_the_forecasts_were():
    assert good_forecasts([]) == (0, 0)
    assert good_forecasts([(10.0, 12.0), (13.0, 12.0), (12.0, 12.0)]) == (2, 3)
