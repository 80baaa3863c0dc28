"""What somebody has prepared for the next start, another source or other settings: no reboot of ours sets it off."""

from __future__ import annotations

import pytest

from ordnung.engine.entries import Warned
from ordnung.engine.world import Patience
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.one_server import carry_out
from tests.simulation.world import House, VirtualClock

ONE, SYSTEM = "surge-05", "/redfish/v1/Systems/1"


@pytest.fixture
def house(mirror_folder) -> House:
    clock = VirtualClock()
    made = House(clock, demo_hardware(clock.seconds, [p for p in PLACES if p.name == ONE]), mirror_folder)
    made.patience = Patience(poll_s=40.0)
    return made


def choose(house, enabled: str, target: str, place: str = SYSTEM) -> None:
    boot = {"BootSourceOverrideEnabled": enabled, "BootSourceOverrideTarget": target}
    house.devices[ONE].patched[place] = {"Boot": boot}


def others(house) -> list[str]:
    return [entry["target"] for entry in house.devices[ONE].log if entry["what"] == "other start"]


async def test_an_installer_that_waits_for_the_next_start_is_not_started_by_us(house):
    choose(house, "Once", "Pxe")
    state = await carry_out(house, ONE)
    assert state.ended == "failed" and "its next start goes, once, to Pxe" in state.reason
    assert writes_of(house.devices[ONE].log) == [] and others(house) == [], "nor is anything left waiting for it"


async def test_chosen_while_the_run_is_under_way_it_is_seen_before_the_reset(house):
    def meddle(server, state, detail):
        if state == "written":
            choose(house, "Once", "Pxe")

    house.listeners.append(meddle)
    state = await carry_out(house, ONE)
    assert state.ended == "failed" and "to Pxe" in state.reason and others(house) == []


async def test_whoever_knows_why_says_so_and_it_goes_on(house):
    choose(house, "Once", "Pxe")
    house.overridden = {ONE: {"next start": "the installer finds it registered and leaves it"}}
    state = await carry_out(house, ONE)
    assert state.ended == "level", state.reason
    assert others(house) == ["Pxe"]


async def test_a_server_that_always_starts_elsewhere_is_warned_of_and_goes_on(house):
    choose(house, "Continuous", "Pxe")
    state = await carry_out(house, ONE)
    assert state.ended == "level", state.reason
    told = [e.value for e in house.journal.tapes["1", ONE] if isinstance(e.value, Warned)]
    assert [w.check for w in told] == ["next start"] and "every start goes to Pxe" in told[0].seen


@pytest.mark.parametrize(("enabled", "target"), [("Disabled", "Pxe"), ("Once", "None"), ("Once", "Hdd")])
async def test_its_own_start_is_no_other_start(house, enabled, target):
    choose(house, enabled, target)
    state = await carry_out(house, ONE)
    assert state.ended == "level", state.reason


async def test_settings_that_somebody_staged_bar_the_reboot_and_are_no_surprise_to_whoever_knows_of_them(house):
    device = house.devices[ONE]
    device.surroundings.staged = {"BootMode": "Legacy", "WatchdogMinutes": 30, "PowerProfile": "Throughput"}
    state = await carry_out(house, ONE)
    assert state.ended == "failed" and writes_of(device.log) == []
    assert "BootMode → Legacy, WatchdogMinutes → 30" in state.reason and "PowerProfile" not in state.reason
    house.overridden = {ONE: {"settings": "the watch desk asked for it"}}
    state = await carry_out(house, ONE, run="2")
    assert state.ended == "level", state.reason
    assert device.surroundings.settings["BootMode"] == "Legacy"
