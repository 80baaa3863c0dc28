"""One server's run, broken off at every position of its tape: the engine dies there, or what it keeps can't be kept."""

from __future__ import annotations

from pathlib import Path

import pytest

from ordnung.engine.world import Patience
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.one_server import carry_out, check_device, written
from tests.simulation.world import House, VirtualClock

NAME = "surge-07"
RESETS = ["controller restart", "server reboot", "server reboot"]
pytestmark = [pytest.mark.exhaustive, pytest.mark.parametrize("when", ["before", "after"])]


def open_house(mirror: Path, **broken: int) -> House:
    """A house whose journal breaks off at a position."""
    clock = VirtualClock()
    house = House(clock, demo_hardware(clock.seconds, [place for place in PLACES if place.name == NAME]), mirror)
    house.patience = Patience(poll_s=40.0)
    for name, position in broken.items():
        setattr(house.journal, name, position)
    return house


async def go_steadily(mirror: Path) -> tuple[int, list[tuple[str, str]]]:
    """How many entries a run has that nothing breaks off, and what it writes."""
    house = open_house(mirror)
    await carry_out(house, NAME)
    assert house.journal.count > 25
    return house.journal.count, written(house, NAME)


async def check_it_goes_level(house: House, wanted: list[tuple[str, str]], position: int) -> None:
    """As if nothing had happened: the same writes, and not a reset more."""
    state = await carry_out(house, NAME)
    assert state.ended == "level", (position, state.reason)
    assert written(house, NAME) == wanted, position
    assert [e["kind"] for e in house.devices[NAME].log if e["what"] == "reset"] == RESETS, position
    check_device(house, NAME)
    assert not house.troubles, position


async def test_an_engine_that_dies_there_loses_and_doubles_nothing(mirror_folder, when):
    house = open_house(mirror_folder)
    for position, left in await deaths(house, when, lambda house: carry_out(house, NAME)):
        await check_it_goes_level(left, written(house, NAME), position)


async def test_a_disk_that_fails_there_is_waited_for_and_nothing_is_doubled(mirror_folder, when):
    """The journal can't be written, or it was and nobody was told: the same engine goes on when it can be read again."""
    positions, wanted = await go_steadily(mirror_folder)
    for position in range(1, positions + 1):
        await check_it_goes_level(open_house(mirror_folder, **{f"out_{when}": position}), wanted, position)
