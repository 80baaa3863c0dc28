"""The engine in simulation: one server or a few through a run, with lost answers, refusals, late versions and other manners."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.away import AwayLimits
from ordnung.core.matching import Catalogs
from ordnung.engine.entries import (
    Evidence,
    Reason,
    Troubled,
    WriteDone,
    WriteIntent,
)
from ordnung.engine.run import carry_out_run
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.resets import cycle_power
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.one_server import THREE, carry_out, check_device, resets, told_by_tape, with_manners, written
from tests.simulation.world import House, VirtualClock


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


@pytest.mark.exhaustive
@pytest.mark.parametrize("name", ["surge-04", "surge-08", "gauge-01", "vault-01", "vault-02"])
async def test_every_kind_of_server_goes_level(house, name):
    state = await carry_out(house, name)
    assert state.ended == "level", state.reason
    check_device(house, name)


async def test_a_level_server_is_skipped_and_never_touched(house):
    state = await carry_out(house, "surge-02")
    assert state.ended == "skipped" and not writes_of(house.devices["surge-02"].log)


@pytest.mark.parametrize("on", ["update", "reset"])
async def test_a_lost_answer_is_looked_up_not_repeated(house, on):
    house.devices["surge-07"].faults.append(Fault("answer lost", on=on, times=2))
    state = await carry_out(house, "surge-07")
    assert state.ended == "level", state.reason
    check_device(house, "surge-07")
    resets = [e for e in house.devices["surge-07"].log if e["what"] == "reset"]
    assert len(resets) == 3


async def test_a_refused_image_leaves_the_server_as_it_was(house):
    house.devices["surge-09"].faults.append(Fault("image refused", slot="bmc", times=9))
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


async def test_who_is_left_out_before_anything_is_sent_is_left_as_it_is(house):
    house.orders["surge-07"] = "leave out"
    state = await carry_out(house, "surge-07")
    assert state.ended == "left out" and written(house, "surge-07") == []
    assert state.reason == "a person left it out; nothing was sent"


async def test_who_has_begun_meanwhile_is_stopped_and_nothing_is_cut_short(house):
    def hear(server, state, detail):
        if state == "writing":
            house.orders["surge-07"] = "leave out"

    house.listeners.append(hear)
    state = await carry_out(house, "surge-07")
    assert state.ended == "stopped" and len(written(house, "surge-07")) == 1
    assert not [entry for entry in house.devices["surge-07"].log if entry["what"] in ("reset", "killed a write")]


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


@pytest.mark.exhaustive
@pytest.mark.parametrize(
    "manners",
    [
        ("empty 202",),
        ("bare 202",),
        ("bare 202", "no task list"),
        ("no task state",),
        ("empty 202", "no task state"),
        ("no task list",),
        ("no reset time",),
        ("no reset time", "no boot progress"),
        ("no boot progress",),
        ("start half told",),
        ("start half told", "no reset time"),
        ("power in steps",),
        ("power in steps", "no boot progress", "no reset time"),
        ("jobs instead of tasks",),
        ("jobs instead of tasks", "open until reset"),
        ("becomes a job",),
        ("no apply time", "pulls untold"),
        ("basic only",),
        ("sessions elsewhere",),
        ("power cycle on system",),
        ("action info",),
        ("inline members", "zero uuid"),
    ],
    ids=", ".join,
)
async def test_a_controller_with_other_manners_goes_level_all_the_same(house, manners):
    """A 202 without body once counted as written; without LastResetTime every reset failed after 40 minutes."""
    outcome, device = await with_manners(house, "surge-07", *manners)
    assert outcome.ended == "level", outcome.reason
    assert resets(device) == THREE
    check_device(house, "surge-07")
    done = [e.value.evidence for e in house.journal.tapes["1", "surge-07"] if isinstance(e.value, WriteDone)]
    if "no task list" in manners and "bare 202" in manners:
        assert set(done) == {Evidence.VERSION}, "no task says so: what the device holds does"


@pytest.mark.parametrize("signed", [True, False])
async def test_a_package_that_names_only_its_maker_is_sent_by_the_catalogs_checksum_or_not_at_all(house, signed):
    if not signed:
        issues = tuple(dataclasses.replace(issue, signed_by="") for issue in house.catalogs.issues)
        house.catalogs = Catalogs(issues)
    outcome = await carry_out(house, "vault-01")
    intents = [e.value for e in house.journal.tapes["1", "vault-01"] if isinstance(e.value, WriteIntent)]
    settled = {v.settled_by for v in intents if v.planned.write.slot == "backplane"}
    assert outcome.ended == ("level" if signed else "failed"), outcome.reason
    assert settled == ({"the catalog's checksum"} if signed else set())
    assert signed or "no signed catalog vouches for its checksum" in outcome.reason
    assert ("backplane" in {slot for slot, _ in written(house, "vault-01")}) is signed


async def test_a_lost_answer_without_a_list_of_tasks_is_followed_by_what_the_device_holds(house):
    lost = [Fault("answer lost", on="update", times=2)]
    outcome, device = await with_manners(house, "surge-07", "no task list", faults=lost)
    assert outcome.ended == "level", outcome.reason
    check_device(house, "surge-07")


async def test_a_busy_controller_is_waited_for_however_often_it_says_so(house):
    outcome, _ = await with_manners(house, "surge-03", faults=[Fault("busy", seconds=20, times=30)])
    assert outcome.ended == "level", outcome.reason


@pytest.mark.parametrize("kind", ["fails late", "fails early"])
@pytest.mark.parametrize("on", ["update", "reset"])
async def test_an_answer_of_500_proves_nothing_and_the_device_is_asked(house, kind, on):
    """It was taken for a refusal: what had been acted upon was sent again, a second reset too."""
    outcome, device = await with_manners(house, "surge-07", faults=[Fault(kind, on=on, times=2)])
    assert outcome.ended == "level", outcome.reason
    assert resets(device) == THREE
    check_device(house, "surge-07")


@pytest.mark.parametrize("on", ["update", "reset"])
async def test_one_that_always_fails_is_left_with_what_it_said(house, on):
    outcome, device = await with_manners(house, "surge-03", faults=[Fault("fails early", on=on, times=99)])
    assert outcome.ended == "failed"
    said = "It last said: it answered 500: The request failed due to an internal service error."
    assert f"{said} The service is still operational." in outcome.reason
    assert "server reboot" not in resets(device) and bool(writes_of(device.log)) == (on == "reset")


@pytest.mark.parametrize(
    "first", [Fault("fails early", on="update"), Fault("answer lost", on="update")], ids=lambda f: f.kind
)
async def test_what_was_said_to_an_earlier_try_is_not_told_of_the_last(house, first):
    await with_manners(house, "surge-03", faults=[first, Fault("link cut", times=9)])
    (trouble,) = [e.value for e in house.journal.tapes["1", "surge-03"] if isinstance(e.value, Troubled)]
    assert trouble.reason is Reason.NOT_ARRIVED and "said" not in trouble.facts


@pytest.mark.parametrize("on", ["update", "reset"])
async def test_one_that_puts_off_what_changes_it_is_asked_again(house, on):
    """Three tries of a reset were all: a minute and a half."""
    outcome, _ = await with_manners(house, "surge-03", faults=[Fault("busy", seconds=60, times=20, on=on)])
    assert outcome.ended == "level", outcome.reason
    check_device(house, "surge-03")


@pytest.mark.parametrize("on", ["update", "reset"])
async def test_one_that_puts_it_off_for_ever_is_left_after_half_an_hour(house, on):
    """It was asked without end, as each try counted as getting on."""
    began = house.clock.t
    outcome, device = await with_manners(house, "surge-03", faults=[Fault("busy", seconds=60, times=1000, on=on)])
    assert outcome.ended == "failed" and outcome.reason.startswith("busy: ")
    assert house.clock.t - began < 3600 and not resets(device)
    assert bool(writes_of(device.log)) == (on == "reset")


async def test_the_controller_first_story_goes_on_by_itself(mirror):
    """After sump-01's controller was updated, everything else once counted as exchanged."""
    clock = VirtualClock()
    sump = [device for device in demo_hardware(clock.seconds, PLACES) if device.name == "sump-01"]
    house = House(clock, sump, mirror)
    outcome = await carry_out(house, "sump-01")
    assert outcome.ended == "level", outcome.reason
    written = [slot for slot, _ in writes_of(sump[0].log)]
    assert written[0] == "bmc" and "bios" in written, "the controller first, then what it then takes"
    check_device(house, "sump-01")


async def test_a_dead_controller_is_saved_by_its_second_bank(house):
    device = house.devices["surge-07"]
    controller = device.part("bmc")
    spare = controller.spare
    controller.dead = True
    cycle_power(device)
    await house.clock.sleep(600)
    device.advance()
    assert not controller.dead and controller.version == spare and controller.spare is None
