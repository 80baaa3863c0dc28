"""What waits for a reset by what was written, where the controller tells nothing of it."""

from __future__ import annotations

import pytest

from ordnung.core.components import Server
from ordnung.core.route import Write, plan_route
from ordnung.core.waiting import show_waiting, still_left
from tests.core.houses import component, positions, product, release

BIOS = product("bios", release("1.0"), release("2.0"), release("3.0"))


def write(slot="bios", source="1.0", to="2.0"):
    return Write(slot=slot, product="bios", source=source, to=to, seconds=None)


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
