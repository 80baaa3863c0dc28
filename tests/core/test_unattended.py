"""What of a route may be left for whatever reboot comes next, and what waits."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.away import AwayPlace
from ordnung.core.components import Component, Server
from ordnung.core.night.itinerary import Duty, plan_itinerary
from ordnung.core.night.limits import NightLimits
from ordnung.core.route import Route, Write
from ordnung.core.sheet import PlannedRound, PlannedWrite
from ordnung.core.unattended import leave_reboots, tell_waiting


def planned(slot: str, *, ahead: bool = True, hands: str = "") -> PlannedWrite:
    write = Write(slot=slot, product="p", source="1", to="2", seconds=60)
    return PlannedWrite(write=write, payload=None, ahead=ahead, hands_after=hands)


def step(reset: str | None, *writes: PlannedWrite) -> PlannedRound:
    return PlannedRound(
        writes=writes, reset=reset, reset_seconds=300, activates=tuple((p.write.slot, "2") for p in writes)
    )


RESTART, REBOOT = step("controller restart", planned("bmc")), step("server reboot", planned("bios"), planned("raid"))
LEFT = dataclasses.replace(REBOOT, reset=None, reset_seconds=None, activates=())


@pytest.mark.parametrize(
    ("rounds", "written", "left"),
    [
        ([], (), ()),
        ([RESTART], (), (RESTART,)),
        ([REBOOT], (), (LEFT,)),
        ([RESTART, REBOOT, REBOOT], (), (RESTART, LEFT)),
        ([step(None, planned("nic", ahead=False)), REBOOT], (), (step(None, planned("nic", ahead=False)), LEFT)),
        ([step("power cycle", planned("psu"))], (), ()),
        ([step("server reboot", planned("bios"), planned("nic", ahead=False))], (), ()),
        ([step("server reboot", planned("bios", hands="look"))], (), ()),
        ([step("server reboot")], (), ()),
        ([REBOOT], [("bios", "2")], (dataclasses.replace(LEFT, writes=LEFT.writes[1:]),)),
        ([REBOOT], [("bios", "2"), ("raid", "2")], ()),
    ],
)
def test_what_may_be_left(rounds, written, left):
    assert leave_reboots(rounds, written) == left


def test_what_waits_is_told():
    parts = [
        Component(slot=slot, kind="bios", name=slot, version=version, waiting=waiting)
        for slot, version, waiting in (("bios", "1", "2"), ("raid", "1", None), ("nic", "2", None))
    ]
    server = Server(name="s", model="m", components=tuple(parts))
    assert tell_waiting(server) == ("bios 2",)


def test_a_server_of_which_nothing_is_left_to_do_takes_no_time():
    duty = Duty(place=AwayPlace(server="s"), model="m", route=Route(rounds=(), stranded=(), proven=True), releases={})
    itinerary = plan_itinerary(duty, NightLimits())
    assert itinerary.steps == () and itinerary.stretches == ()
