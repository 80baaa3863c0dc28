"""Controllers that let us in no more in the middle of a run: nothing is lost where a person settles that."""

from __future__ import annotations

import pytest

from ordnung.engine.entries import Answer, Answered, Asked, Ended, Question
from ordnung.engine.let_in_steps import MOST_ASKED
from ordnung.engine.ports import Reply
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.one_server import THREE, carry_out, check_device, resets, told_by_tape, with_manners, written
from tests.simulation.world import House, VirtualClock

HOUR = 3600.0
ANEW = ["certificate anew", "accounts anew"]


def questions(house, name):
    tape = house.journal.tapes["1", name]
    return [e.value for e in tape if isinstance(e.value, Asked | Answered) and e.value.question is Question.LET_IN]


@pytest.mark.parametrize("name", ["surge-07", "gauge-01", "vault-01"])
@pytest.mark.parametrize(
    "manners",
    [ANEW[:1], ANEW[1:], ANEW, [*ANEW, "restarts itself"], ["accounts anew", "password enforced"]],
    ids=" and ".join,
)
async def test_what_a_controller_makes_anew_with_its_image_is_waited_for_and_the_run_goes_on(house, name, manners):
    """It ended its server by *certificate changed*, or *signed out*, in the middle of its run."""
    house.access.settles_s = HOUR
    outcome, device = await with_manners(house, name, *manners)
    assert outcome.ended == "level", outcome.reason
    assert written(house, name) == told_by_tape(house, "1", name)
    check_device(house, name)
    told = questions(house, name)
    assert told and [type(value) for value in told] == [Asked, Answered] * (len(told) // 2)
    assert {value.by for value in told[1::2]} == {"the lead"} and {v.answer for v in told[1::2]} == {Answer.SETTLED}
    refused = [entry for entry in device.log if entry["what"] == "sign-in refused"]
    assert len(refused) <= 3, "nobody's account is locked while a person is waited for"


async def test_nobody_settles_it_and_it_ends_for_a_person_after_the_patience_of_the_house(house):
    outcome, device = await with_manners(house, "surge-07", "certificate anew")
    assert outcome.ended == "failed" and "certificate changed" in outcome.reason
    assert [value.by for value in questions(house, "surge-07")[1:]] == ["nobody in time"]
    assert "accept the new certificate" in outcome.reason and resets(device) == ["controller restart"]


@pytest.mark.parametrize("how", ["leave", "stop"])
async def test_who_gives_it_up_waits_no_longer(house, how):
    def give_up(server, state, detail):
        if "certificate changed" in detail:
            if how == "stop":
                house.orders[server] = "stop"
            else:
                house.replies[server] = Reply(answer=Answer.LEAVE, by="the lead")

    house.listeners.append(give_up)
    outcome, _ = await with_manners(house, "surge-07", "certificate anew")
    assert outcome.ended == "failed" and "certificate changed" in outcome.reason
    tape = house.journal.tapes["1", "surge-07"]
    asked = next(entry.at for entry in tape if isinstance(entry.value, Asked))
    assert (tape[-1].at - asked).total_seconds() < 600 and isinstance(tape[-1].value, Ended)
    last = questions(house, "surge-07")[-1]
    assert (last.answer, last.by) == (Answer.LEAVE, "the lead" if how == "leave" else "a stop")


async def test_a_certificate_shown_only_until_its_own_is_loaded_calls_nobody(house, monkeypatch):
    def of_a_waking(device):
        return f"{int(device.away_until > 0 and 0 <= device.now() - device.away_until < 120):064x}"

    monkeypatch.setattr("tests.simulation.lines.pin_of", of_a_waking)
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "level", outcome.reason
    assert questions(house, "surge-07") == []
    assert any("may not be loaded yet" in detail for _, _, detail in house.told)


async def test_a_controller_that_shows_its_own_certificate_again_after_all_goes_on_by_itself(house):
    device = house.devices["surge-07"]
    began = []

    def show_another(server, state, detail):
        if state == "returning" and not began and device.away_until > 0 and not device.is_away:
            began.append(device.now())
            device.certificates = 1
        if began and device.now() - began[0] > 2 * HOUR:
            device.certificates = 0

    house.listeners.append(show_another)
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "level", outcome.reason
    assert [value.by for value in questions(house, "surge-07")[1:]] == ["its controller"]
    assert resets(device) == THREE


async def test_its_own_certificate_again_and_a_refused_sign_in_is_another_question_and_not_tried_again_and_again(house):
    device, seen = house.devices["surge-07"], []

    def trouble(server, state, detail):
        if resets(device) and not seen:
            device.certificates = 1
        if "certificate changed" in detail:
            seen.append(detail)
            device.certificates, device.password = 0, "another"

    house.listeners.append(trouble)
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "failed" and "signed out" in outcome.reason
    causes = [value.facts["cause"] for value in questions(house, "surge-07") if isinstance(value, Asked)]
    assert causes == ["certificate changed", "signed out"]
    assert len([entry for entry in device.log if entry["what"] == "sign-in refused"]) <= 3


async def test_a_password_that_is_wrong_too_is_tried_once_and_the_next_one_counts(house):
    device, entered = house.devices["surge-07"], []

    def enter(server, state, detail):
        if "signed out" in detail and len(entered) < 2:
            right, wrong = device.password, "mistyped"
            device.password = right if entered else wrong
            house.settle(server)
            device.password = right
            entered.append(detail)

    house.listeners.append(enter)
    outcome, _ = await with_manners(house, "surge-07", "accounts anew")
    assert outcome.ended == "level", outcome.reason
    told = questions(house, "surge-07")
    assert [type(value) for value in told] == [Asked, Answered] and len(entered) == 2
    assert len([entry for entry in device.log if entry["what"] == "sign-in refused"]) <= 4


async def test_what_comes_and_goes_is_not_asked_for_for_ever(house):
    device, told = house.devices["surge-07"], []

    def flap(server, state, detail):
        if resets(device):
            told.append(detail)
            is_strange = "certificate changed" not in detail
            device.certificates = int(is_strange)

    house.listeners.append(flap)
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "failed" and "certificate changed" in outcome.reason
    assert len([value for value in questions(house, "surge-07") if isinstance(value, Asked)]) == MOST_ASKED


async def test_before_anything_is_begun_nothing_is_waited_for(house):
    house.endpoint("surge-07")
    house.devices["surge-07"].certificates = 1
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "failed" and questions(house, "surge-07") == []
    assert house.access.kept["surge-07"][1].seen is not None, "kept for a person to accept"
    assert writes_of(house.devices["surge-07"].log) == []


@pytest.mark.parametrize("at", ["staging", "returning"])
async def test_another_server_that_answers_in_the_middle_is_not_touched_and_waited_out(house, at):
    """Two controllers came back with each other's addresses: the one was written and reset as the other."""
    stranger, house.access.settles_s = house.devices["surge-08"], HOUR
    mine = house.devices["surge-07"]
    swapped = []

    def swap(server, state, detail):
        if state == at and not swapped and resets(mine):
            swapped.append(server)
            house.controllers.devices = {**house.devices, "surge-07": stranger}
            house.controllers.forget()
        if "another server answers" in detail:
            house.controllers.devices = house.devices
            house.controllers.forget()

    stranger.accounts = mine.accounts
    house.listeners.append(swap)
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "level", outcome.reason
    assert swapped and [v.facts["cause"] for v in questions(house, "surge-07")[::2]] == ["another server"]
    assert [e["what"] for e in stranger.log if "write" in e["what"] or e["what"] == "reset"] == []
    assert [v.by for v in questions(house, "surge-07")[1::2]] == ["the lead"], "it is not signed in to unasked"
    check_device(house, "surge-07")


def open_house(mirror, **broken) -> House:
    clock = VirtualClock()
    house = House(clock, demo_hardware(clock.seconds, [place for place in PLACES if place.name == "surge-07"]), mirror)
    house.access.settles_s, house.devices["surge-07"].quirks = HOUR, frozenset(ANEW)
    for name, position in broken.items():
        setattr(house.journal, name, position)
    return house


@pytest.mark.parametrize("when", ["before", "after"])
async def test_whatever_breaks_off_while_it_is_waited_for_loses_and_doubles_nothing(mirror_folder, when):
    steady = open_house(mirror_folder)
    died = dict(await deaths(steady, when, lambda house: carry_out(house, "surge-07")))
    tape = steady.journal.tapes["1", "surge-07"]
    around = {entry.seq + by for entry in tape if isinstance(entry.value, Asked | Answered) for by in (0, 1)}
    for position in sorted(around):
        for house in (died[position], open_house(mirror_folder, **{f"out_{when}": position})):
            outcome = await carry_out(house, "surge-07")
            assert outcome.ended == "level", (position, outcome.reason)
            assert written(house, "surge-07") == written(steady, "surge-07"), position
            assert resets(house.devices["surge-07"]) == THREE and not house.troubles, position
