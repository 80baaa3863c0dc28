"""The fleet over months: exposures closed after how many days, and what failed how often."""

from __future__ import annotations

import dataclasses
import datetime

from ordnung.core.catalog import Fix
from ordnung.core.months import Closed, Failures, Written, closed_after, count_failures
from tests.core.houses import product, release

FIRST = datetime.date(2026, 9, 1)
BIOS = product(
    "bios",
    release("1", released=datetime.date(2026, 1, 1)),
    release("2", released=FIRST, fixes=(Fix(id="SA-1"),)),
    release("3", released=datetime.date(2026, 10, 1), fixes=(Fix(id="SA-2"),)),
    release("4"),
)
PRODUCTS = {"bios": BIOS}


def write(server: str, version: str, day: int, failed: bool = False, month: int = 9) -> Written:
    at = datetime.datetime(2026, month, day, 12, tzinfo=datetime.UTC)
    return Written(server=server, model="Reed", product="bios", version=version, at=at, failed=failed)


def test_days_count_from_the_first_release_that_closes_it_to_the_first_write_of_one():
    found = closed_after([write("a", "2", 11), write("a", "3", 5, month=10), write("b", "3", 3, month=10)], PRODUCTS)
    assert found == (
        Closed(advisory="SA-2", servers=2, median_days=3.0, longest_days=4.0),
        Closed(advisory="SA-1", servers=2, median_days=21.0, longest_days=32.0),
    )


def test_what_failed_or_came_before_or_closes_nothing_does_not_count():
    assert closed_after([write("a", "2", 11, failed=True), write("b", "1", 11)], PRODUCTS) == ()
    early = dataclasses.replace(write("a", "2", 1), at=datetime.datetime(2026, 8, 1, tzinfo=datetime.UTC))
    assert closed_after([early, dataclasses.replace(early, product="nobody's")], PRODUCTS) == ()


def test_a_later_release_closes_what_those_before_it_close():
    assert {row.advisory for row in closed_after([write("a", "4", 20, month=10)], PRODUCTS)} == {"SA-1", "SA-2"}


def test_an_advisory_of_which_no_release_has_a_day_is_not_counted():
    undated = product("bios", release("2", fixes=(Fix(id="SA-1"),)))
    assert closed_after([write("a", "2", 11)], {"bios": undated}) == ()


def test_what_fails_most_often_stands_first_and_what_never_failed_nowhere():
    writes = [write("a", "2", 1, failed=True), *(write("b", "2", 2) for _ in range(3))]
    writes += [write("a", "3", 1, failed=True), write("b", "3", 1), write("c", "1", 1)]
    assert count_failures(writes) == (
        Failures(model="Reed", product="bios", version="3", writes=2, failed=1),
        Failures(model="Reed", product="bios", version="2", writes=4, failed=1),
    )
