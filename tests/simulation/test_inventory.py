"""An inventory that is not whole: told bit by bit after a start, or for good without what a sheet was planned from."""

from __future__ import annotations

import datetime

import pytest

from ordnung.engine.entries import Read, Remedy, Troubled, WriteDone, WriteIntent, WriteSent
from ordnung.engine.server_run import carry_out as carry_out_hand
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import USUAL, Choice
from ordnung.standins.faults import Fault
from ordnung.standins.resets import restart_controller
from tests.simulation.one_server import THREE, carry_out, check_device, resets, with_manners, written
from tests.simulation.world import Crashed

ONE, DRIVES = "surge-07", "surge-20"
STEADY = datetime.timedelta(minutes=6)
"""A little longer than it is waited for what does not come."""


def tape(house, name=ONE):
    return house.journal.tapes["1", name]


def first(house, kind, name=ONE):
    return next(entry for entry in tape(house, name) if isinstance(entry.value, kind))


async def with_sheet(house, name, *slots):
    hand = house.hand(name)
    hand.on_sheet = frozenset(slots)
    state = await carry_out_hand(hand)
    return state.ended.ending, tell_reason(state.ended.reason, state.ended.facts)


# The first reading


async def test_what_is_on_the_sheet_and_not_listed_yet_is_waited_for(house):
    """A server that somebody has just restarted was planned without its drives, and called level."""
    device = house.devices[DRIVES]
    drives = [part.slot for part in device.parts if part.kind == "drive"]
    house.clock.t += 10_000
    device.quirks = frozenset({"listed one by one"})
    device.boot_until = house.clock.seconds()
    ending, _ = await with_sheet(house, DRIVES, *drives)
    assert ending == "level"
    assert {slot for slot, _ in written(house, DRIVES)} >= set(drives)
    check_device(house, DRIVES)


async def test_a_part_of_the_sheet_that_is_not_there_is_told_and_the_rest_is_done(house):
    """It was pulled since the sheet was planned; the server was called level without a word of it."""
    device = house.devices[ONE]
    pulled = device.part("nic-1")
    pulled.gone = True
    began = house.clock.now()
    ending, reason = await with_sheet(house, ONE, "nic-1", "bmc")
    assert (ending, reason) == (
        "level",
        "as far as it goes. nic-1 is on the sheet, and its controller does not list it",
    )
    assert first(house, Read).at - began < STEADY
    assert "bmc" in {slot for slot, _ in written(house, ONE)}


async def test_one_whose_version_only_a_host_report_had_is_told_too(house):
    house.devices[ONE].faults.append(Fault("version untold", slot="nic-1"))
    _, reason = await with_sheet(house, ONE, "nic-1")
    assert reason == "as far as it goes. nic-1 is on the sheet, and its controller tells no version of it"


async def test_a_server_of_which_only_that_part_was_wanted_says_so(house):
    outcome = await carry_out(house, ONE)
    assert outcome.ended == "level"
    house.devices[ONE].part("nic-1").gone = True
    hand = house.hand(ONE, run="2")
    hand.on_sheet = frozenset({"nic-1"})
    state = await carry_out_hand(hand)
    assert state.ended.ending == "skipped" and "nic-1 is on the sheet" in state.ended.facts["lost"]


async def test_a_person_who_stops_it_meanwhile_is_obeyed(house):
    house.devices[ONE].part("nic-1").gone = True
    began = house.clock.now()

    def stop(server, state, detail):
        if "settle" in detail:
            house.orders[server] = "stop"

    house.listeners.append(stop)
    ending, _ = await with_sheet(house, ONE, "nic-1")
    assert ending == "stopped" and not written(house, ONE)
    assert house.clock.now() - began < datetime.timedelta(minutes=2)


# Between writes and resets


async def test_a_part_that_tells_no_version_any_more_is_found_by_the_check_after(house):
    """A card that died with its update shows no version: that passed for unchanged."""
    device = house.devices[ONE]
    fault = Fault("version untold", slot="psu-1")

    def lose(server, state, detail):
        if state == "returning" and fault not in device.faults:
            device.faults.append(fault)

    house.listeners.append(lose)
    version = device.part("psu-1").version
    outcome = await carry_out(house, ONE)
    assert outcome.ended == "failed"
    assert f"in psu-1 told {version} and tells no version now" in outcome.reason


async def test_before_a_reset_nothing_is_judged_by_half_an_inventory(house):
    """Its controller starts unasked between the writes of a round and the reset: the array that rebuilds is not listed
    when the checks look.
    """
    name = "vault-02"
    device = house.devices[name]
    device.quirks = frozenset({"listed one by one"})

    def start_unasked(server, state, detail):
        if state == "resetting" and detail == "server reboot" and not device.has_fault("array rebuilding"):
            device.away_until = house.clock.seconds() - 1
            device.faults.append(Fault("array rebuilding"))

    house.listeners.append(start_unasked)
    seen = []
    house.listeners.append(lambda server, state, detail: seen.append(detail))
    outcome = await carry_out(house, name)
    assert outcome.ended == "failed" and "Rebuild at" in outcome.reason
    assert [d for d in seen if "waiting for it to settle" in d]
    assert resets(device) == []


async def test_a_part_that_does_not_come_back_is_not_waited_for_at_each_write(house):
    device = house.devices[ONE]

    def pull(server, state, detail):
        if state == "written":
            device.part("psu-1").gone = True

    house.listeners.append(pull)
    outcome = await carry_out(house, ONE)
    assert outcome.ended == "failed" and "psu-1 is gone" in outcome.reason
    assert first(house, Troubled).at - first(house, WriteDone).at < 3 * STEADY


# A controller that has forgotten


@pytest.mark.parametrize("more", [(), ("reset times in 1970",)], ids=" and ".join)
@pytest.mark.parametrize("name", [ONE, "gauge-01"])
async def test_a_task_that_was_forgotten_with_a_start_is_not_taken_for_one_that_never_was(house, name, more):
    """It has restarted itself with its new image, has no tasks, and shows the old version still: it was written anew."""
    device = house.devices[name]
    device.late_seconds = 400.0
    house.protocols = ("HTTPS",)
    house.journal.crash_before = 5
    with pytest.raises(Crashed):
        await with_manners(house, name, "restarts itself", "listed one by one", *more)
    assert isinstance(tape(house, name)[-1].value, WriteIntent), "its answer was not noted"
    house.clock.t += 330
    house.born()
    outcome = await carry_out(house, name)
    assert outcome.ended == "level", outcome.reason
    check_device(house, name)


async def test_what_never_arrived_at_one_that_has_started_since_is_sent_after_all(house):
    house.journal.crash_after = 4
    with pytest.raises(Crashed):
        await carry_out(house, ONE)
    assert isinstance(tape(house)[-1].value, WriteIntent) and not written(house, ONE)
    restart_controller(house.devices[ONE])
    house.clock.t += 300
    house.born()
    outcome = await carry_out(house, ONE)
    assert outcome.ended == "level", outcome.reason
    sent = [entry.at for entry in tape(house) if isinstance(entry.value, WriteIntent | WriteSent)]
    assert sent[1] - sent[0] > datetime.timedelta(minutes=20), "only once no late version can still show"
    assert resets(house.devices[ONE]) == ["controller restart", *THREE]
    check_device(house, ONE)


# Members by other names


@pytest.mark.parametrize("name", [ONE, "gauge-01", "vault-01"])
@pytest.mark.parametrize("fault", [None, "answer lost", "fails late"])
@pytest.mark.parametrize("manners", [("versions in ids",), ("two images",), ("versions in ids", "versions late")])
async def test_members_of_any_name_are_the_same_parts_after_an_update(house, name, manners, fault):
    """Named by its version, a part was gone after its update and another one there; a task for it was not known again."""
    faults = [Fault(fault, on="update")] if fault is not None else []
    outcome, _ = await with_manners(house, name, *manners, faults=faults)
    assert outcome.ended == "level", outcome.reason
    check_device(house, name)


@pytest.mark.parametrize("manners", [("wakes slowly", "versions late"), ("wakes slowly",), ("versions late",)])
async def test_what_a_restart_takes_away_for_a_while_is_no_news_to_plan_by(house, manners):
    """Without its inventory it told more than before, was planned anew by that, and was called level, far from it."""
    house.remedies = {**USUAL, Remedy.ALONE: Choice.NEVER}
    out, _ = await with_manners(house, ONE, *manners, faults=[Fault("wants a restart")])
    assert (out.ended, out.reason) == ("level", "every version confirmed by reading")
    assert ("bios", "3.2.0") in written(house, ONE)
    check_device(house, ONE)
