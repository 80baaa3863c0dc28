"""What waits for a reset by what was written, where the controller tells nothing of it."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.core.components import Server
from ordnung.core.facts import Facts
from ordnung.core.route import plan_route
from ordnung.core.start_times import is_same_start
from ordnung.core.waiting import Left, show_waiting, still_left
from tests.core.houses import component, positions, product, release

BIOS = product("bios", release("1.0"), release("2.0"), release("3.0"))


def write(slot="bios", source="1.0", to="2.0", **more):
    return Left(slot=slot, product="bios", source=source, to=to, seconds=None, **more)


def server(version="1.0", **facts):
    return Server(
        name="s", model="m", components=(component("bios", "bios", version, **facts), component("nic", "nic", "1"))
    )


def waiting(found):
    return {part.slot: part.waiting for part in found.components}


def test_what_was_written_waits_and_the_last_of_it_counts():
    assert waiting(show_waiting(server(), [write()])) == {"bios": "2.0", "nic": None}
    assert waiting(show_waiting(server(), [write(), write(to="3.0")]))["bios"] == "3.0"
    assert show_waiting(server(), []) == server()


def test_a_partition_with_nothing_on_it_was_written_over_that():
    blank = server(None, state="blank")
    assert waiting(show_waiting(blank, [write(source="blank")]))["bios"] == "2.0"
    assert still_left(blank, [write(source="blank")])


@pytest.mark.parametrize(
    ("version", "told", "left"),
    [("2.0", None, False), ("3.0", None, False), ("1.0", "3.0", True), (None, None, True)],
    ids=["it runs", "another runs", "another is told", "nothing is told"],
)
def test_but_not_if_something_has_happened_or_is_told(version, told, left):
    seen = server(version, waiting=told)
    assert waiting(show_waiting(seen, [write()]))["bios"] == told
    assert bool(still_left(seen, [write()])) is left


def test_what_is_not_there_may_come_back():
    assert still_left(server(), [write("gone")]) == (write("gone"),)


def test_the_way_on_is_the_reset_alone():
    shown = show_waiting(server(), [write(to="3.0")])
    route = plan_route(positions([BIOS], list(shown.components)))
    assert not route.writes and [step.reset for step in route.rounds] == ["server reboot"]


EARLY, LATE, READ_AT = "2026-11-29T01:00:00+00:00", "2026-11-29T02:00:00+00:00", "2026-11-29T05:00:00+00:00"
OWN = {"started": EARLY, "controller_started": EARLY, "reset": "controller restart"}
CYCLE = {"started": EARLY, "controller_started": EARLY, "reset": "power cycle"}


@pytest.mark.parametrize(
    ("case", "kept", "surely"),
    [
        ({"started": EARLY, "told": {"started": EARLY}}, True, True),
        ({"started": EARLY, "told": {"started": "2026-11-29T01:00:05Z"}}, True, True),
        ({"started": EARLY, "told": {"started": LATE}}, False, False),
        ({"started": EARLY, "told": {"controller_started": EARLY}}, True, False),
        (OWN | {"told": {"started": LATE, "controller_started": EARLY}}, True, True),
        (OWN | {"told": {"started": EARLY, "controller_started": LATE}}, False, False),
        (CYCLE | {"told": {"started": EARLY, "controller_started": LATE}}, True, True),
        (CYCLE | {"told": {"started": LATE, "controller_started": LATE}}, True, False),
        ({"started": EARLY, "told": {"started": LATE, "boot": "MemoryInitializationStarted"}}, True, True),
        ({"started": EARLY, "told": {"started": LATE, "power": "PoweringOn"}}, True, True),
        ({"started": EARLY, "told": {"started": READ_AT}}, True, True),  # how far it has come is not told
        ({"started": EARLY, "told": {"started": READ_AT, "boot": "OSRunning"}}, False, False),
        ({"started": EARLY, "told": {"started": READ_AT, "clock_off_s": 900.0}}, True, True),
        ({"started": "once", "told": {"started": "twice"}}, False, False),
        ({"started": None, "told": {"started": LATE}}, True, False),
        ({"started": EARLY, "told": None}, True, False),
    ],
    ids=str,
)
def test_a_version_that_is_told_from_the_first_runs_only_after_a_start(case, kept, surely):
    """Some tell what was written as what runs, at once: nothing was restarted, and the run called it level."""
    told, case = case["told"], {name: value for name, value in case.items() if name != "told"}
    seen = dataclasses.replace(server("2.0 "), facts=Facts(**told) if told is not None else None)
    seen = dataclasses.replace(seen, read_at=datetime.datetime.fromisoformat(READ_AT))
    new = write(seen_old=False, **case)
    assert (bool(still_left(seen, [new])), bool(still_left(seen, [new], surely=True))) == (kept, surely)
    shown = show_waiting(seen, [new]).component("bios")
    assert (shown.version, shown.waiting) == (("1.0", "2.0") if kept else ("2.0 ", None))


def test_what_has_shown_what_ran_before_and_shows_another_version_was_started():
    (waits,) = still_left(server("1.0"), [write(seen_old=False, started=EARLY)])
    assert waits.seen_old
    assert not still_left(dataclasses.replace(server("2.0"), facts=Facts(started=EARLY)), [waits])
    assert not still_left(server("3.0"), [write(seen_old=False)]), "written over by somebody else"
    assert not still_left(server("2.0"), [write(source="blank", seen_old=False)])


@pytest.mark.parametrize(
    ("before", "now", "same"),
    [
        (EARLY, EARLY, True),
        (EARLY, "2026-11-29T02:00:20+01:00", True),
        (EARLY, "2026-11-29T01:00:31", False),
        (EARLY, None, None),
        (None, EARLY, None),
        ("once", "once", True),
        ("once", "twice", False),
        (EARLY, "twice", False),
    ],
)
def test_times_of_one_start(before, now, same):
    assert is_same_start(before, now) is same
