"""What of a server's part of a run is told as otherwise than planned, and what is not worth telling."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.departures import find_departures
from ordnung.core.route import Write
from ordnung.core.run_record import RoundRecord
from ordnung.core.sheet import PlannedRound, PlannedWrite
from tests.core.records import RESET, WRITE

ON_TIME = ((600.0, 640.0), (1800.0, 1900.0))


def planned(slot="bios", to="3.2.0", reset="server reboot") -> PlannedRound:
    write = Write(slot=slot, product="p", source="1", to=to, seconds=60)
    return PlannedRound(writes=(PlannedWrite(write=write, payload=None),), reset=reset)


def done(*writes, resets=(RESET,)) -> RoundRecord:
    return RoundRecord(writes=writes, resets=resets, confirmed=())


FAILED = dataclasses.replace(WRITE, result="not written")
OTHER = dataclasses.replace(WRITE, slot="bmc", to="5.30.0")


@pytest.mark.parametrize(
    ("sheet", "went", "told"),
    [
        ([planned()], [done(WRITE)], ()),
        ([planned()], [done(FAILED), done(WRITE, resets=())], ()),
        (
            [planned()], [done(FAILED, resets=())],
            ("planned and not written: bios 3.2.0", "server reboot: never instead of once"),
        ),
        ([planned()], [done(WRITE, OTHER)], ("written besides: bmc 5.30.0",)),
        ([planned()], [done(WRITE, WRITE)], ("written again: bios 3.2.0",)),
        ([planned()], [done(WRITE, resets=(RESET, RESET))], ("server reboot: twice instead of once",)),
        ([planned(reset=None)], [done(WRITE, resets=(RESET,) * 3)], ("server reboot: 3 times instead of never",)),
    ],
)  # fmt: skip
def test_updates_and_resets_are_held_against_the_sheet(sheet, went, told):
    assert find_departures(sheet, went, *ON_TIME) == told


@pytest.mark.parametrize(
    ("begin", "took", "told"),
    [
        (None, (600, 0), ("its turn never came",)),
        ((0, 299), (600, 899), ()),
        ((0, 900), (600, 600), ("its turn came 15 min later than planned",)),
        ((1800, 0), (600, 600), ("its turn came 30 min earlier than planned",)),
        ((0, 0), (600, 1200), ("it took 20 min instead of 10",)),
        ((0, 0), (3000, 3400), ()),
        ((0, 0), (3000, 1200), ("it took 20 min instead of 50",)),
    ],
)
def test_times_are_told_where_they_are_worth_it(begin, took, told):
    assert find_departures([planned()], [done(WRITE)], begin, took) == told
