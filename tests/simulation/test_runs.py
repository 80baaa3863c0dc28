"""The engine in simulation: crashes at every journal position, lost answers, refusals, late versions.

After every run the invariants hold and the tape tells the same story as the device's own log.
"""

from __future__ import annotations

from typing import NamedTuple

import pytest

from ordnung.core.away import AwayLimits
from ordnung.engine.entries import Ending, WriteDone, WriteIntent
from ordnung.engine.run import carry_out_run
from ordnung.engine.server_run import carry_out as carry_out_hand
from ordnung.engine.tape import TapeState
from ordnung.engine.telling import tell_reason
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import demo_hardware
from tests.simulation.world import Crashed, House, VirtualClock


@pytest.fixture
def mirror(mirror_folder):
    return mirror_folder


@pytest.fixture
def house(mirror) -> House:
    clock = VirtualClock()
    return House(clock, demo_hardware(clock.seconds), mirror)


def written(house: House, name: str) -> list[tuple[str, str]]:
    return writes_of(house.devices[name].log)


def told_by_tape(house: House, run: str, name: str) -> list[tuple[str, str]]:
    tape = house.journal.tapes[run, name]
    done, last = [], None
    for entry in tape:
        if isinstance(entry.value, WriteIntent):
            last = entry.value.planned.write
        if isinstance(entry.value, WriteDone):
            done.append((last.slot, last.to))
    return done


def check_device(house: House, name: str) -> None:
    """No component dead, no reset during a write, nothing written twice to the same version."""
    device = house.devices[name]
    assert not [part.slot for part in device.parts if part.dead]
    assert "killed a write" not in [entry["what"] for entry in device.log]
    writes = written(house, name)
    assert len(writes) == len(set(writes)), "a second write of the same release"


class Outcome(NamedTuple):
    ended: Ending
    reason: str
    state: TapeState


async def carry_out(house: House, name: str, run: str = "1", back=None):
    state = await carry_out_hand(house.hand(name, run, back))
    assert state.ended is not None
    return Outcome(state.ended.ending, tell_reason(state.ended.reason, state.ended.facts), state)


async def test_a_server_goes_level_by_the_fewest_resets(house):
    state = await carry_out(house, "surge-07")
    assert state.ended == "level", state.reason
    log = house.devices["surge-07"].log
    assert [e["kind"] for e in log if e["what"] == "reset"] == [
        "controller restart",
        "server reboot",
        "server reboot",
    ]
    assert written(house, "surge-07") == told_by_tape(house, "1", "surge-07")
    check_device(house, "surge-07")


@pytest.mark.parametrize("name", ["surge-04", "surge-08", "gauge-01", "vault-01", "vault-02"])
async def test_every_kind_of_server_goes_level(house, name):
    state = await carry_out(house, name)
    assert state.ended == "level", state.reason
    check_device(house, name)


async def test_a_level_server_is_skipped_and_never_touched(house):
    state = await carry_out(house, "surge-02")
    assert state.ended == "skipped" and not writes_of(house.devices["surge-02"].log)


@pytest.mark.parametrize("when", ["before", "after"])
async def test_a_crash_at_any_journal_position_loses_and_doubles_nothing(house, mirror, when):
    steady = VirtualClock()
    reference = House(steady, demo_hardware(steady.seconds), mirror)
    await carry_out(reference, "surge-07")
    positions = reference.journal.count
    wanted = written(reference, "surge-07")
    assert positions > 25
    for position in range(1, positions + 1):
        clock = VirtualClock()
        trial = House(clock, demo_hardware(clock.seconds), mirror)
        setattr(trial.journal, f"crash_{when}", position)
        with pytest.raises(Crashed):
            await carry_out(trial, "surge-07")
        clock.t += 45  # the engine is started again a while later
        trial.born()
        state = await carry_out(trial, "surge-07")
        assert state.ended == "level", (position, state.reason)
        assert written(trial, "surge-07") == wanted, position
        resets = [e["kind"] for e in trial.devices["surge-07"].log if e["what"] == "reset"]
        assert resets == ["controller restart", "server reboot", "server reboot"], position
        check_device(trial, "surge-07")


@pytest.mark.parametrize("on", ["update", "reset"])
async def test_a_lost_answer_is_looked_up_not_repeated(house, on):
    house.devices["surge-07"].faults.append(Fault("answer lost", on=on, times=2))
    state = await carry_out(house, "surge-07")
    assert state.ended == "level", state.reason
    check_device(house, "surge-07")
    resets = [e for e in house.devices["surge-07"].log if e["what"] == "reset"]
    assert len(resets) == 3


async def test_a_refused_image_leaves_the_server_as_it_was(house):
    house.devices["surge-09"].faults.append(Fault("image refused", slot="bmc"))
    state = await carry_out(house, "surge-09")
    assert state.ended == "failed"
    assert "bmc 5.30.0 was not written" in state.reason and "still at 5.10.2" in state.reason
    assert house.devices["surge-09"].part("bmc").version == "5.10.2"
    assert written(house, "surge-09") == []


async def test_a_version_that_shows_late_is_waited_for(house):
    house.devices["surge-03"].faults.append(Fault("version late", slot="raid-1", seconds=600))
    state = await carry_out(house, "surge-03")
    assert state.ended == "level", state.reason
    assert any("waiting for the version to show" in detail for _, _, detail in house.told)


async def test_a_version_that_never_shows_is_a_failure_in_words(house):
    house.devices["surge-03"].faults.append(Fault("version late", slot="raid-1", seconds=90000))
    state = await carry_out(house, "surge-03")
    assert state.ended == "failed" and "raid-1 shows 7.16.1, promised was 7.18.0" in state.reason


async def test_a_card_that_vanishes_is_found_by_the_check_after(house):
    house.devices["surge-03"].faults.append(Fault("part gone", slot="nic-1"))
    state = await carry_out(house, "surge-03")
    assert state.ended == "failed" and "Quorrin Q25, 2 ports in nic-1 is gone" in state.reason


async def test_a_missing_payload_stops_before_anything_is_sent(house, mirror, tmp_path):
    house.mirror = tmp_path
    state = await carry_out(house, "surge-03")
    assert state.ended == "failed" and "nothing was sent" in state.reason
    assert not writes_of(house.devices["surge-03"].log)


async def test_one_update_is_taken_back_with_its_reset(house):
    await carry_out(house, "surge-03")
    state = await carry_out(house, "surge-03", run="2", back={"raid-1": "7.16.1"})
    assert state.ended == "put back", state.reason
    assert house.devices["surge-03"].part("raid-1").version == "7.16.1"


async def test_a_way_back_below_the_floor_is_refused_untouched(house):
    await carry_out(house, "surge-07")
    before = len(house.devices["surge-07"].log)
    state = await carry_out(house, "surge-07", run="2", back={"bios": "2.1.0"})
    assert state.ended == "failed" and "no way back below 2.4.1" in state.reason
    assert len(house.devices["surge-07"].log) == before


async def test_stop_leaves_a_known_state(house):
    house.orders["surge-07"] = "stop"
    state = await carry_out(house, "surge-07")
    assert state.ended == "stopped" and written(house, "surge-07") == []


async def test_a_pair_is_never_away_together_and_four_go_at_once(house):
    names = ["surge-03", "surge-04", "surge-05", "surge-06", "surge-07", "gauge-01", "gauge-02"]
    most, pair = 0, 0
    seen = house.told.append

    def watch(item):
        nonlocal most, pair
        busy = {place.server for place in house.journal.places}
        most = max(most, len(busy))
        pair = max(pair, len(busy & {"gauge-01", "gauge-02"}))
        seen(item)

    house.told = type("Told", (list,), {"append": lambda self, item: watch(item)})()
    house.journal.limits = AwayLimits(groups={"pair": 1}, at_once=4)
    servers = [house.lane(n, "pair" if "gauge" in n else None) for n in names]
    ended = await carry_out_run("1", servers, house.world())
    assert set(ended.values()) == {"level"}
    assert (most, pair) == (4, 1)


async def test_a_controller_that_drops_out_before_a_write_is_waited_for(house):
    """Nothing was sent yet, so nothing is lost by trying again."""
    device = house.devices["surge-03"]
    seen = house.told.append

    def drop_out(item):
        if item[1] == "staging" and not device.away_until:
            device.away_until = house.clock.t + 600
        seen(item)

    house.told = type("Told", (list,), {"append": lambda self, item: drop_out(item)})()
    state = await carry_out(house, "surge-03")
    assert state.ended == "level", state.reason
    check_device(house, "surge-03")


async def test_a_controller_that_never_comes_back_is_a_failure_with_nothing_under_way(house):
    house.devices["surge-03"].faults.append(Fault("silent"))
    state = await carry_out(house, "surge-03")
    assert state.ended == "failed" and "no answer for 30 min" in state.reason
    assert "Nothing more was sent" in state.reason
