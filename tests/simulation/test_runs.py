"""The engine in simulation: crashes at every journal position, lost answers, refusals, late versions.

After every run the invariants hold and the tape tells the same story as the device's own log.
"""

from __future__ import annotations

import asyncio
import dataclasses
from typing import NamedTuple

import pytest

from ordnung.core.away import AwayLimits
from ordnung.core.matching import Catalogs
from ordnung.engine.entries import (
    Answer,
    Answered,
    Asked,
    Back,
    Ended,
    Ending,
    Evidence,
    ResetIntent,
    Warned,
    WriteDone,
    WriteIntent,
)
from ordnung.engine.ports import Reply
from ordnung.engine.run import carry_out_run
from ordnung.engine.server_run import carry_out as carry_out_hand
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_entry, tell_reason
from ordnung.engine.world import Patience
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
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


async def with_manners(house, name, *manners, faults=()):
    device = house.devices[name]
    device.quirks = frozenset(manners)
    device.faults += faults
    return await carry_out(house, name), device


def resets(device):
    return [entry["kind"] for entry in device.log if entry["what"] == "reset"]


THREE = ["controller restart", "server reboot", "server reboot"]


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


@pytest.mark.parametrize("name", ["vault-01"])
async def test_a_power_cycle_is_taken_where_it_is_offered(house, name):
    outcome, device = await with_manners(house, name, "power cycle on system", "no reset time")
    assert outcome.ended == "level", outcome.reason
    assert "power cycle" in resets(device)
    check_device(house, name)


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


async def test_what_a_check_warns_of_stands_on_the_tape_once(house):
    house.protocols = ()
    outcome, _ = await with_manners(house, "surge-07", faults=[Fault("clock wrong", seconds=4000.0)])
    warned = [e.value for e in house.journal.tapes["1", "surge-07"] if isinstance(e.value, Warned)]
    assert outcome.ended == "level" and [w.check for w in warned] == ["clock"]
    assert tell_entry(warned[0]).startswith("warning, clock: its clock is 67 min ahead")


async def test_a_licence_that_is_missing_is_named_where_it_bars_every_way(house):
    house.protocols = ()
    outcome, _ = await with_manners(house, "surge-07", faults=[Fault("licence missing")])
    assert outcome.ended == "failed" and "Remote firmware delivery is not in force" in outcome.reason
    assert not written(house, "surge-07")


@pytest.mark.parametrize("name", ["vault-01", "surge-07"])
@pytest.mark.parametrize("manners", [("no boot progress",), ("no boot progress", "no reset time")], ids=" and ".join)
async def test_a_server_whose_start_nobody_tells_of_is_not_called_back_before_it_runs(house, name, manners):
    """Its place was given back two minutes after a power cycle, and its partner rebooted while it still started."""
    outcome, device = await with_manners(house, name, *manners)
    assert outcome.ended == "level", outcome.reason
    away = [e["at"] for e in device.log if e["what"] == "reset" and e["kind"] != "controller restart"]
    up = [e["at"] for e in device.log if e["what"] == "system up"]
    tape = house.journal.tapes["1", name]
    kinds = [e.value.kind for e in tape if isinstance(e.value, ResetIntent)]
    back = [e.at.timestamp() for e in tape if isinstance(e.value, Back)]
    outages = [at for kind, at in zip(kinds, back, strict=True) if kind.is_outage]
    assert len(away) == len(up) == len(outages)
    assert all(told >= true for told, true in zip(outages, up, strict=True))


async def test_a_reset_whose_answer_is_lost_is_never_asked_for_twice_on_a_guess(house):
    """After lost answers, a server without LastResetTime was rebooted three times."""
    lost = [Fault("answer lost", on="reset", times=3)]
    outcome, device = await with_manners(house, "surge-07", "no reset time", "no boot progress", faults=lost)
    assert resets(device) == THREE or (outcome.ended == "failed" and len(resets(device)) <= 3)
    assert len(resets(device)) <= 3
    check_device(house, "surge-07")


async def test_a_lost_answer_without_a_list_of_tasks_is_followed_by_what_the_device_holds(house):
    lost = [Fault("answer lost", on="update", times=2)]
    outcome, device = await with_manners(house, "surge-07", "no task list", faults=lost)
    assert outcome.ended == "level", outcome.reason
    check_device(house, "surge-07")


@pytest.mark.parametrize(
    ("reply", "order", "waited_s"),
    [(None, "go", 4 * 3600), (Reply(answer=Answer.LEAVE, by="lead"), "go", 60), (None, "stop", 60)],
    ids=["nobody answers", "left", "stopped"],
)
async def test_a_graceful_restart_that_does_not_come_to_pass_asks_a_person(house, reply, order, waited_s):
    def answer(server, state, detail):
        if "restart it by force?" in detail:
            house.orders[server] = order
            if reply is not None:
                house.replies[server] = reply

    house.listeners.append(answer)
    outcome, device = await with_manners(house, "surge-07", "graceful ignored")
    assert outcome.ended == "failed" and "did not carry out the graceful restart within 15 min" in outcome.reason
    assert "server reboot" not in resets(device) and outcome.state.place is not None, "it may still come: away"
    entries = house.journal.tapes["1", "surge-07"]
    asked, ended = (next(e.at for e in entries if isinstance(e.value, kind)) for kind in (Asked, Ended))
    assert waited_s - 60 <= (ended - asked).total_seconds() <= waited_s + 60
    assert [e.value.by for e in entries if isinstance(e.value, Answered)] == (["lead"] if reply else [])


async def test_a_person_who_says_so_has_it_restarted_by_force(house):
    house.replies["surge-07"] = Reply(answer=Answer.FORCE, by="lead")
    outcome, device = await with_manners(house, "surge-07", "graceful ignored")
    assert outcome.ended == "level", outcome.reason
    assert resets(device) == THREE
    entries = house.journal.tapes["1", "surge-07"]
    assert [e.value.type for e in entries if isinstance(e.value, ResetIntent)][-2:] == [
        "GracefulRestart",
        "ForceRestart",
    ]
    assert [e.value.by for e in entries if isinstance(e.value, Answered)] == ["lead"] * 2


async def test_a_restart_that_comes_while_a_person_is_asked_is_taken_for_it(house):
    device = house.devices["surge-07"]

    def restart_at_last(server, state, detail):
        if "restart it by force?" in detail:
            device.quirks = device.quirks - {"graceful ignored"}
            device.reboot()

    house.listeners.append(restart_at_last)
    outcome, device = await with_manners(house, "surge-07", "graceful ignored")
    assert outcome.ended == "level", outcome.reason
    assert resets(device) == THREE
    assert not [e for e in house.journal.tapes["1", "surge-07"] if isinstance(e.value, Answered)]


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_a_crash_around_a_question_asks_once_and_heeds_the_answer(mirror, when):
    async def play(crash: int | None):
        clock = VirtualClock()
        trial = House(clock, demo_hardware(clock.seconds), mirror)
        trial.patience = Patience(poll_s=40.0)
        trial.replies["surge-07"] = Reply(answer=Answer.FORCE, by="lead")
        trial.devices["surge-07"].quirks = frozenset(("graceful ignored",))
        if crash is not None:
            setattr(trial.journal, f"crash_{when}", crash)
            with pytest.raises(Crashed):
                await carry_out(trial, "surge-07")
            clock.t += 45
            trial.born()
        state = await carry_out(trial, "surge-07")
        return trial, state

    reference, _ = await play(None)
    entries = reference.journal.tapes["1", "surge-07"]
    around = [e.seq for e in entries if isinstance(e.value, (Asked, Answered))]
    for position in {n + d for n in around for d in (0, 1)}:
        trial, state = await play(position)
        assert state.ended == "level", (position, state.reason)
        values = [e.value for e in trial.journal.tapes["1", "surge-07"]]
        assert sum(isinstance(v, Asked) for v in values) == sum(isinstance(v, Answered) for v in values) == 2, position
        assert resets(trial.devices["surge-07"]) == THREE, position


async def test_a_graceful_restart_that_does_not_come_to_pass_is_forced_where_the_house_allows(house):
    house.patience = Patience(may_force=True)
    outcome, device = await with_manners(house, "surge-07", "graceful ignored")
    assert outcome.ended == "level", outcome.reason
    assert resets(device) == THREE
    asked = [e.value.type for e in house.journal.tapes["1", "surge-07"] if isinstance(e.value, ResetIntent)]
    assert asked == ["GracefulRestart", "GracefulRestart", "ForceRestart", "GracefulRestart", "ForceRestart"]


async def test_someone_elses_job_holds_a_place_for_minutes_not_hours(house):
    """A pending job of someone else held a place for six hours."""
    began = house.clock.t
    outcome, device = await with_manners(house, "surge-03", faults=[Fault("job pending")])
    assert outcome.ended == "failed" and "Configuration job of another (Pending)" in outcome.reason
    assert house.clock.t - began < 1500 and not writes_of(device.log)
    assert outcome.state.deferrals == 1 and outcome.state.place is None


async def test_a_job_that_ends_meanwhile_is_waited_for_and_the_others_go_first(house):
    house.journal.limits = AwayLimits(at_once=1)
    device = house.devices["surge-03"]
    device.faults.append(Fault("job pending"))

    async def end_it():
        await house.clock.sleep(800)
        device.faults.clear()

    async def both():
        async with asyncio.TaskGroup() as group:
            group.create_task(end_it())
            return await group.create_task(
                carry_out_run("1", [house.lane("surge-03"), house.lane("gauge-01")], house.world())
            )

    assert await both() == {"surge-03": "level", "gauge-01": "level"}
    first = {name: house.devices[name].log[-1]["at"] for name in ("surge-03", "gauge-01")}
    assert first["gauge-01"] < first["surge-03"]


@pytest.mark.parametrize(
    ("fault", "seen"),
    [
        ("array rebuilding", "Rebuild"),
        ("feed lost", "has no input"),
    ],
)
async def test_checks_stop_a_server_before_anything_is_sent(house, fault, seen):
    """vault-08 was rebooted while its array rebuilt, chart-14 written with one feed lost."""
    name = "vault-01"
    outcome, device = await with_manners(house, name, faults=[Fault(fault)])
    assert outcome.ended == "failed" and seen in outcome.reason and "Nothing more was sent" in outcome.reason
    assert not writes_of(device.log) and resets(device) == []


async def test_a_check_is_asked_again_before_each_reset(house):
    device = house.devices["surge-07"]
    seen = house.told.append

    def lose_feed(item):
        if item[1] == "resetting" and not device.has_fault("feed lost"):
            device.faults.append(Fault("feed lost"))
        seen(item)

    house.told = type("Told", (list,), {"append": lambda self, item: lose_feed(item)})()
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "failed" and "has no input" in outcome.reason
    assert writes_of(device.log) and resets(device) == []


async def test_a_person_may_override_some_checks_with_a_reason(house):
    why = "the second feed is pulled for tonight's work"
    house.overridden["surge-07"] = {"feed": why, "health": why}
    outcome, _ = await with_manners(house, "surge-07", faults=[Fault("feed lost")])
    assert outcome.ended == "level", outcome.reason


async def test_a_clock_that_is_off_takes_another_way_than_https(house):
    house.protocols = ("HTTPS", "HTTP")
    outcome, _ = await with_manners(house, "surge-03", faults=[Fault("clock wrong", seconds=4000)])
    assert outcome.ended == "level", outcome.reason
    ways = {e.value.way for e in house.journal.tapes["1", "surge-03"] if isinstance(e.value, WriteIntent)}
    assert ways == {"push"}


async def test_a_busy_controller_is_waited_for_however_often_it_says_so(house):
    outcome, _ = await with_manners(house, "surge-03", faults=[Fault("busy", seconds=20, times=30)])
    assert outcome.ended == "level", outcome.reason


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
    device.power_cycle()
    await house.clock.sleep(600)
    device.advance()
    assert not controller.dead and controller.version == spare and controller.spare is None
