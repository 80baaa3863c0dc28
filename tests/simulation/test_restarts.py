"""Resets: asked for once, known by what a controller tells, and forced only where somebody wants that."""

from __future__ import annotations

import pytest

from ordnung.engine.entries import (
    Answer,
    Answered,
    Asked,
    Back,
    Ended,
    ResetIntent,
    ResetSeen,
    ResetSpared,
)
from ordnung.engine.ports import Reply
from ordnung.engine.telling import tell_entry
from ordnung.engine.world import Patience
from ordnung.standins.faults import Fault
from ordnung.standins.resets import reboot
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.one_server import THREE, carry_out, check_device, resets, with_manners
from tests.simulation.world import House, VirtualClock

USUAL = {"surge-07": THREE, "vault-01": ["power cycle"]}
"""The resets of their ways."""


@pytest.mark.parametrize("name", ["vault-01"])
async def test_a_power_cycle_is_taken_where_it_is_offered(house, name):
    outcome, device = await with_manners(house, name, "power cycle on system", "no reset time")
    assert outcome.ended == "level", outcome.reason
    assert "power cycle" in resets(device)
    check_device(house, name)


@pytest.mark.parametrize("name", ["surge-07", "gauge-01", "vault-01"])
@pytest.mark.parametrize("more", [(), ("no reset time",), ("no task list",), ("basic only",)], ids=" and ".join)
@pytest.mark.parametrize(
    "manner",
    [
        "wakes slowly",
        "accounts late",
        "clock late",
        "restarts itself",
        "listed one by one",
        "versions late",
        "resets untold",
    ],
)
async def test_a_controller_that_answers_before_it_is_awake_is_waited_for(house, name, manner, more):
    """It had no service root for a while, or refused whoever signed in, and the server was given up for it."""
    house.protocols = ("HTTPS",)
    outcome, device = await with_manners(house, name, manner, *more)
    assert outcome.ended == "level", outcome.reason
    kinds = [e.value.kind for e in house.journal.tapes["1", name] if isinstance(e.value, ResetIntent)]
    assert resets(device) == kinds, "each asked for once"
    itself = 0 if "power cycle" in kinds else sum(entry["what"] == "restarted itself" for entry in device.log)
    spared = [e.value.kind for e in house.journal.tapes["1", name] if isinstance(e.value, ResetSpared)]
    is_told = "no reset time" not in more  # else its new version may be told before it runs: it is restarted once more
    assert len(spared) == (itself if is_told else 0), "what it has done by itself is not asked for once more"
    check_device(house, name)


async def test_a_controller_that_nobody_can_restart_does_so_by_itself_or_is_left_to_a_person(mirror_folder):
    for manners, ended in (({"restarts itself"}, "level"), (set(), "failed")):
        clock = VirtualClock()
        devices = demo_hardware(clock.seconds, [p for p in PLACES if p.name == "surge-07"])
        house = House(clock, devices, mirror_folder)
        house.devices["surge-07"].quirks = frozenset({"no restart offered", *manners})
        outcome = await carry_out(house, "surge-07")
        assert outcome.ended == ended, outcome.reason
        assert "controller restart" not in resets(house.devices["surge-07"])
        assert ended == "level" or "it offers no controller restart" in outcome.reason
        check_device(house, "surge-07")


@pytest.mark.parametrize(
    "more", [(), ("no boot progress",), ("waiting untold",), ("versions early",)], ids=" and ".join
)
async def test_one_that_is_rebooted_by_itself_is_not_rebooted_once_more(house, more):
    """Once its image was written its server was down twice, and nobody was told why."""
    outcome, device = await with_manners(house, "surge-07", "reboots itself", *more)
    assert outcome.ended == "level", outcome.reason
    tape = [entry.value for entry in house.journal.tapes["1", "surge-07"]]
    (told,) = [tell_entry(value) for value in tape if isinstance(value, ResetSpared)]
    assert told.startswith("no server reboot is needed: it has started since, and not by this run")
    # What is written after that is written with the reset: its next outage is the one that was planned.
    itself = [n for n, entry in enumerate(device.log) if entry["what"] == "rebooted itself"]
    asked = [n for n, entry in enumerate(device.log) if entry["what"] == "reset" and entry["kind"] == "server reboot"]
    assert len(asked) == 1 and max(itself) < min(asked)
    check_device(house, "surge-07")


async def test_the_next_of_its_model_is_written_with_the_reset_where_that_may_be_asked_for(mirror_folder):
    """Nothing in the standard keeps a service from rebooting for an image that is to be written at once."""
    clock = VirtualClock()
    names = ("surge-05", "surge-07")
    house = House(clock, demo_hardware(clock.seconds, [p for p in PLACES if p.name in names]), mirror_folder)
    for name in names:
        house.devices[name].quirks = frozenset({"reboots itself"})
        assert (await carry_out(house, name)).ended == "level"
    assert "rebooted itself" in [entry["what"] for entry in house.devices["surge-05"].log]
    second = house.devices["surge-07"]
    assert "rebooted itself" not in [entry["what"] for entry in second.log]
    assert resets(second) == THREE
    check_device(house, "surge-07")


@pytest.mark.parametrize("name", ["surge-07", "gauge-01", "vault-01"])
@pytest.mark.parametrize("more", [(), ("no reset time",), ("restarts itself",), ("writes at reset",)], ids=" and ".join)
async def test_a_version_told_before_the_restart_that_makes_it_active_spares_none(house, name, more):
    """The controller was never restarted, and the next image sent to one that still ran its old release."""
    outcome, device = await with_manners(house, name, "versions early", *more)
    assert outcome.ended == "level", outcome.reason
    assert not [part.slot for part in device.parts if part.waiting is not None]
    kinds = [e.value.kind for e in house.journal.tapes["1", name] if isinstance(e.value, ResetIntent)]
    assert resets(device) == kinds, "each asked for once"
    check_device(house, name)


@pytest.mark.parametrize("name", ["surge-07", "gauge-01"])
async def test_one_that_restarts_itself_with_its_new_image_and_has_all_such_manners_is_followed(house, name):
    manners = (
        "restarts itself", "wakes slowly", "accounts late", "clock late", "no reset time", "listed one by one",
        "versions late",
    )  # fmt: skip
    outcome, device = await with_manners(house, name, *manners)
    assert outcome.ended == "level", outcome.reason
    assert "restarted itself" in [e["what"] for e in device.log]
    check_device(house, name)


@pytest.mark.parametrize(("manners", "most"), [((), 3), (("basic only",), 6)], ids=["sessions", "basic"])
async def test_who_is_refused_after_a_restart_does_not_try_until_the_account_is_locked(house, manners, most):
    device = house.devices["surge-07"]

    def change_password(server, state, detail):
        if state == "returning":
            device.password = "another"

    house.listeners.append(change_password)
    outcome, _ = await with_manners(house, "surge-07", *manners)
    assert outcome.ended == "failed" and "signed out: it refused user" in outcome.reason
    assert 1 <= len([e for e in device.log if e["what"] == "sign-in refused"]) <= most


@pytest.mark.parametrize("name", ["vault-01", "surge-07"])
@pytest.mark.parametrize("more", [(), ("no reset time",)], ids=" and ".join)
@pytest.mark.parametrize("manner", ["no boot progress", "start told in its words", "start told to its hardware"])
async def test_a_server_whose_start_nobody_tells_of_is_not_called_back_before_it_runs(house, name, manner, more):
    """Its place was given back two minutes after a power cycle, and its partner rebooted while it still started.

    Where its start is told to its hardware only, or in its maker's words, it counted as starting for ever.
    """
    outcome, device = await with_manners(house, name, manner, *more)
    assert outcome.ended == "level", outcome.reason
    away = [e["at"] for e in device.log if e["what"] == "reset" and e["kind"] != "controller restart"]
    up = [e["at"] for e in device.log if e["what"] == "system up"]
    tape = house.journal.tapes["1", name]
    kinds = [e.value.kind for e in tape if isinstance(e.value, ResetIntent)]
    back = [e.at.timestamp() for e in tape if isinstance(e.value, Back)]
    outages = [at for kind, at in zip(kinds, back, strict=True) if kind.is_outage]
    assert len(away) == len(up) == len(outages)
    assert all(told >= true for told, true in zip(outages, up, strict=True))


@pytest.mark.parametrize("name", ["surge-07", "vault-01"])
@pytest.mark.parametrize("untold", [(), ("no boot progress",)], ids=" and ".join)
@pytest.mark.parametrize("manner", ["reset times in 1970", "reset times reckoned", "restarts not counted"])
@pytest.mark.parametrize("lost", [0, 3])
async def test_a_reset_time_that_is_the_same_or_another_proves_nothing_by_itself(house, name, manner, untold, lost):
    """One that stays as it was made each reset be asked for again, and one that a clock tells a second later, none."""
    faults = [Fault("answer lost", on="reset", times=lost)] if lost else []
    outcome, device = await with_manners(house, name, manner, *untold, faults=faults)
    assert (outcome.ended, resets(device)) == ("level", USUAL[name]), outcome.reason
    check_device(house, name)


@pytest.mark.parametrize("name", ["surge-07", "vault-01"])
@pytest.mark.parametrize("more", [(), ("no reset time",), ("restarts not counted",)], ids=" and ".join)
@pytest.mark.parametrize("lost", [0, 3])
async def test_a_reset_that_begins_late_is_not_asked_for_again_meanwhile(house, name, more, lost):
    """Twenty seconds after a lost answer it was certain that nothing had happened: a second power cycle came in the start."""
    faults = [Fault("answer lost", on="reset", times=lost)] if lost else []
    outcome, device = await with_manners(house, name, "resets late", *more, faults=faults)
    assert (outcome.ended, resets(device)) == ("level", USUAL[name]), outcome.reason
    check_device(house, name)


async def test_a_reset_whose_answer_is_lost_is_never_asked_for_twice_on_a_guess(house):
    """After lost answers, a server without LastResetTime was rebooted three times."""
    lost = [Fault("answer lost", on="reset", times=3)]
    outcome, device = await with_manners(house, "surge-07", "no reset time", "no boot progress", faults=lost)
    assert resets(device) == THREE or (outcome.ended == "failed" and len(resets(device)) <= 3)
    assert len(resets(device)) <= 3
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
            reboot(device)

    house.listeners.append(restart_at_last)
    outcome, device = await with_manners(house, "surge-07", "graceful ignored")
    assert outcome.ended == "level", outcome.reason
    assert resets(device) == THREE
    assert not [e for e in house.journal.tapes["1", "surge-07"] if isinstance(e.value, Answered)]


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_a_crash_around_a_question_asks_once_and_heeds_the_answer(mirror, when):
    clock = VirtualClock()
    house = House(clock, demo_hardware(clock.seconds, [place for place in PLACES if place.name == "surge-07"]), mirror)
    house.patience, house.replies["surge-07"] = Patience(poll_s=40.0), Reply(answer=Answer.FORCE, by="lead")
    left = await deaths(house, when, lambda house: with_manners(house, "surge-07", "graceful ignored"))
    around = [e.seq for e in house.journal.tapes["1", "surge-07"] if isinstance(e.value, (Asked, Answered))]
    for position, trial in left:
        if position not in around and position - 1 not in around:
            continue
        state = await carry_out(trial, "surge-07")
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


async def test_a_version_that_was_active_before_proves_no_reset(house):
    """Somebody else had restarted it: what the round promised was there already, and a reset that never came was seen in it."""
    name, quirks = "surge-05", ("no reset time", "no boot progress", "no user handed out")
    device = house.devices[name]

    def hear(server, state, detail):
        device.advance()
        if state == "written":
            reboot(device)
            house.orders[name] = "hold"
        if house.orders.get(name) == "hold" and device.part("bios").version == "3.2.0":
            house.orders.clear()

    house.listeners.append(hear)
    lost = [Fault("fails early", on="reset", times=9)]
    outcome, _ = await with_manners(house, name, *quirks, faults=lost)
    assert outcome.ended == "failed" and resets(device) == ["server reboot"], "the one of somebody else"
    assert not [e for e in house.journal.tapes["1", name] if isinstance(e.value, ResetSeen | Back)]


@pytest.mark.parametrize("manners", [("power in steps",), ("power in steps", "no boot progress")], ids=", ".join)
async def test_a_server_that_somebody_has_just_switched_on_is_waited_for(house, manners):
    """Its power was told as on the way: it was ended for that, and a person told to turn it on."""
    device = house.devices["surge-05"]
    device.quirks = frozenset(manners)
    reboot(device)
    device.log.clear()
    outcome = await carry_out(house, "surge-05")
    assert outcome.ended == "level", outcome.reason
    assert any("its power is PoweringOn" in detail for _, _, detail in house.told)
    check_device(house, "surge-05")
