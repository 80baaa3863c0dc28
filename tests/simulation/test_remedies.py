"""What practised people try when an update fails: each remedy where it helps, once, as the house lets it."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.engine import entries as e
from ordnung.engine.entries import Answer, Ending, Reason, Remedy
from ordnung.engine.ports import Reply
from ordnung.engine.server_run import carry_out
from ordnung.engine.telling import tell_entry, tell_reason
from ordnung.engine.world import USUAL, Choice, RemedyException
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.invariants import check_server
from tests.simulation.world import House, VirtualClock

ONE = "gauge-03"


@pytest.fixture
def house(mirror_folder) -> House:
    return make(mirror_folder)


def make(mirror, name=ONE) -> House:
    clock = VirtualClock()
    house = House(clock, demo_hardware(clock.seconds, [p for p in PLACES if p.name == name]), mirror)
    house.devices[name].faults.clear()
    return house


def spoil(house, *faults):
    device = house.devices[next(iter(house.devices))]
    device.faults += faults
    return device


def remedies(house, name=ONE):
    return [str(x.value.remedy) for x in house.journal.tapes["1", name] if isinstance(x.value, e.Remedied)]


def choose(house, **choices):
    """As usual but for these; a release between only where it is chosen."""
    chosen = {Remedy[name]: Choice[choice] for name, choice in choices.items()}
    house.remedies = {**USUAL, Remedy.BETWEEN: Choice.NEVER, **chosen}


async def test_what_is_refused_in_company_is_taken_alone(house):
    device = spoil(house, Fault("refuses company"))
    state = await carry_out(house.hand(ONE))
    assert (state.ended.ending, remedies(house)) == (Ending.LEVEL, ["alone"])
    outages = [entry for entry in device.log if entry["what"] == "reset" and entry["kind"] == "server reboot"]
    assert len(outages) == 2, "one more than in company"
    await check_server(house, "1", device)
    told = [tell_entry(x.value) for x in house.journal.tapes["1", ONE]]
    assert any(
        text.startswith("trouble: nic-1 24.2.8 was not written:") and "not while bios waits" in text for text in told
    )
    assert "tries a remedy: that update alone, without company" in told


async def test_a_controller_that_wants_a_restart_gets_one(house):
    device = spoil(house, Fault("wants a restart"))
    state = await carry_out(house.hand(ONE))
    assert (state.ended.ending, remedies(house)) == (Ending.LEVEL, ["restart first"])
    await check_server(house, "1", device)


STEP = Fault("wants a step", slot="raid-1", on="7.16.1")


async def test_what_is_not_taken_over_the_old_one_is_brought_by_a_release_between(mirror_folder):
    house = make(mirror_folder, "surge-06")
    choose(house, ALONE="NEVER", RESTART_FIRST="NEVER", BETWEEN="AUTOMATIC")
    device = spoil(house, dataclasses.replace(STEP))
    state = await carry_out(house.hand("surge-06"))
    assert (state.ended.ending, remedies(house, "surge-06")) == (Ending.LEVEL, ["release between"])
    assert [version for slot, version in writes_of(device.log) if slot == "raid-1"] == ["7.16.1", "7.18.0"]
    await check_server(house, "1", device)
    told = [tell_entry(x.value) for x in house.journal.tapes["1", "surge-06"]]
    assert "tries a remedy: a release between the two written first" in told


async def test_a_release_between_is_asked_for_unless_the_house_says_otherwise(mirror_folder):
    house = make(mirror_folder, "surge-06")
    house.remedies = {**USUAL, Remedy.ALONE: Choice.NEVER, Remedy.RESTART_FIRST: Choice.NEVER}
    house.replies = {"surge-06": Reply(answer=Answer.TRY, by="lead")}
    spoil(house, dataclasses.replace(STEP))
    state = await carry_out(house.hand("surge-06"))
    assert state.ended.ending is Ending.LEVEL and remedies(house, "surge-06") == ["release between"]


@pytest.mark.parametrize("why", ["not at hand", "approved", "none"])
async def test_no_release_between_is_tried_that_is_not_here_not_seen_or_not_made(mirror_folder, why):
    house = make(mirror_folder, "surge-06")
    choose(house, ALONE="NEVER", RESTART_FIRST="NEVER", BETWEEN="AUTOMATIC", PUT_BACK="NEVER")
    device = spoil(house, dataclasses.replace(STEP))
    hand = house.hand("surge-06")
    if why == "not at hand":
        find = house.find
        house.find = lambda payload: find(
            dataclasses.replace(payload, path="gone") if "7.16.1" in payload.path else payload
        )
    elif why == "approved":
        async with hand.open() as controller:
            _, rounds = await hand.plan(await controller.read(house.clock.now))
        hand.approved = frozenset((p.write.slot, p.brings) for step in rounds for p in step.writes)
    else:
        device.part("raid-1").version = "7.16.1"
        device.faults[:] = [Fault("wants a step", slot="raid-1", on="7.17.0")]
    state = await carry_out(hand)
    assert state.ended.ending is Ending.FAILED and remedies(house, "surge-06") == []
    assert "does not follow the one that is installed" in tell_reason(state.ended.reason, state.ended.facts)
    assert not [w for w in writes_of(device.log) if w[0] == "raid-1"]


async def test_what_does_not_arrive_by_one_way_is_brought_by_another(mirror_folder):
    house = make(mirror_folder, "surge-03")
    device = spoil(house, Fault("link cut", times=50))
    state = await carry_out(house.hand("surge-03"))
    assert (state.ended.ending, remedies(house, "surge-03")) == (Ending.LEVEL, ["another way"])
    ways = [x.value.way for x in house.journal.tapes["1", "surge-03"] if isinstance(x.value, e.WriteIntent)]
    assert ways == ["pull over HTTPS"] * 3 + ["push"]
    await check_server(house, "1", device)


async def test_where_there_is_no_other_way_the_controller_is_restarted_and_then_a_person_is_left_with_it(house):
    spoil(house, Fault("link cut", times=500))
    house.devices[ONE].quirks = frozenset()
    house.protocols = ("HTTPS", "HTTP")
    for fault in (Fault("licence missing"),):
        house.devices[ONE].faults.append(fault)
    state = await carry_out(house.hand(ONE))
    assert state.ended.ending is Ending.FAILED and state.ended.reason is Reason.NOT_ARRIVED
    assert remedies(house)[-1] == "restart first"


@pytest.mark.parametrize(
    ("faults", "tried"),
    [
        ([Fault("write fails", "bmc")] * 2, ["alone", "restart first"]),
        ([Fault("write fails", "drive-05")], ["alone"]),
        ([Fault("task denies", "drive-03")], ["alone"]),
        ([Fault("task denies", "bmc")], ["alone"]),
        ([Fault("task denies", "bios")], ["alone"]),
        ([Fault("task denies", "raid-1")], ["alone"]),
    ],
    ids=str,
)
async def test_what_was_written_beside_it_or_though_it_was_denied_is_no_surprise(mirror_folder, faults, tried):
    """It may be active long before the next check after, by whatever reset, or at once."""
    house = make(mirror_folder, "surge-07")
    device = spoil(house, *faults)
    state = await carry_out(house.hand("surge-07"))
    assert (state.ended.ending, remedies(house, "surge-07")) == (Ending.LEVEL, tried), state.ended
    await check_server(house, "1", device)


@pytest.mark.parametrize(("slot", "how"), [("bmc", "waiting for a reset"), ("drive-03", "active")])
async def test_what_a_device_denies_and_shows_is_told_so(mirror_folder, slot, how):
    house = make(mirror_folder, "surge-07")
    house.remedies = dict.fromkeys(USUAL, Choice.NEVER)
    spoil(house, Fault("task denies", slot))
    ended = (await carry_out(house.hand("surge-07"))).ended
    assert ended.reason is Reason.TASK_DENIED and f"shows it as {how}" in tell_reason(ended.reason, ended.facts)


async def test_what_a_device_denies_is_put_back_and_what_waits_is_told(mirror_folder):
    """A version that waits can't be written over (R4): the next reset makes it active, whoever asks for that."""
    house = make(mirror_folder, "surge-07")
    house.remedies = {**dict.fromkeys(USUAL, Choice.NEVER), Remedy.PUT_BACK: Choice.AUTOMATIC}
    device = spoil(house, Fault("task denies", "drive-03"))
    before = {part.slot: part.version for part in device.parts}
    ended = (await carry_out(house.hand("surge-07"))).ended
    assert ended.ending is Ending.PUT_BACK, ended
    assert {part.slot: part.version for part in device.parts} == before
    told = tell_reason(ended.reason, ended.facts)
    assert "as far as it goes: bmc: 5.30.0 waits for a reset; once that has made it active" in told


async def test_where_all_that_was_written_waits_nothing_can_be_put_back(mirror_folder):
    house = make(mirror_folder, "surge-07")
    house.remedies = {**dict.fromkeys(USUAL, Choice.NEVER), Remedy.PUT_BACK: Choice.AUTOMATIC}
    spoil(house, Fault("task denies", "bmc"))
    ended = (await carry_out(house.hand("surge-07"))).ended
    assert (ended.ending, ended.reason) == (Ending.FAILED, Reason.BARRED)
    assert tell_reason(ended.reason, ended.facts).startswith("bmc: 5.30.0 waits for a reset")


async def test_each_is_tried_once_and_then_the_server_is_left_to_a_person(house):
    device = spoil(house, Fault("image refused", slot="bios", times=9))
    choose(house, PUT_BACK="NEVER")
    state = await carry_out(house.hand(ONE))
    assert state.ended.ending is Ending.FAILED and state.ended.reason is Reason.TASK_FAILED
    assert remedies(house) == ["alone", "restart first"]
    await check_server(house, "1", device)


async def test_the_house_may_rule_them_out(house):
    spoil(house, Fault("refuses company"))
    choose(house, ALONE="NEVER", RESTART_FIRST="NEVER", PUT_BACK="NEVER")
    state = await carry_out(house.hand(ONE))
    assert state.ended.ending is Ending.FAILED and remedies(house) == []
    assert not [x for x in house.journal.tapes["1", ONE] if isinstance(x.value, e.Troubled)]


@pytest.mark.exhaustive
@pytest.mark.parametrize(
    ("answer", "ending"), [(Answer.TRY, Ending.LEVEL), (Answer.LEAVE, Ending.FAILED), (None, Ending.FAILED)]
)
async def test_a_person_is_asked_where_the_house_wants_that(house, answer, ending):
    spoil(house, Fault("refuses company"))
    choose(house, ALONE="ASK", RESTART_FIRST="NEVER", PUT_BACK="NEVER")
    if answer is not None:
        house.replies[ONE] = Reply(answer=answer, by="lead")
    state = await carry_out(house.hand(ONE))
    assert state.ended.ending is ending
    told = [tell_entry(x.value) for x in house.journal.tapes["1", ONE]]
    asked = next(text for text in told if text.startswith("asked a person"))
    assert asked.endswith(". Shall this be tried: that update alone, without company?")
    by = {Answer.TRY: "lead answered: try it", Answer.LEAVE: "lead answered: leave it as it is"}
    assert by.get(answer, "nobody in time answered: leave it as it is") in told


async def test_what_may_be_written_and_shows_nothing_of_it_is_not_called_put_back(mirror_folder):
    """The drive had the new version, and told the old one for longer than it is waited for that."""
    house = make(mirror_folder, "surge-07")
    choose(house, PUT_BACK="AUTOMATIC")
    device = spoil(house, Fault("version late", slot="drive-05", seconds=3000))
    state = await carry_out(house.hand("surge-07"))
    assert (state.ended.ending, state.ended.reason) == (Ending.PUT_BACK, Reason.PUT_BACK_PARTLY)
    told = "drive-05: its device said that GX04 was written, and shows GX02"
    assert state.ended.facts["lost"] == told, "drive-03 is back"
    await check_server(house, "1", device)


async def test_what_this_run_did_is_put_back_where_the_house_wants_that(house):
    device = spoil(house, Fault("image refused", slot="bios", times=9))
    before = {part.slot: part.version for part in device.parts}
    choose(house, ALONE="NEVER", RESTART_FIRST="NEVER", PUT_BACK="AUTOMATIC")
    state = await carry_out(house.hand(ONE))
    assert state.ended.ending is Ending.PUT_BACK, tell_reason(state.ended.reason, state.ended.facts)
    assert {part.slot: part.version for part in device.parts} == before
    assert tell_reason(state.ended.reason, state.ended.facts).startswith("put back as it was, after this: bios 1.56.0")
    assert writes_of(device.log) == [("bmc", "2.80.0")], "back to what its other bank holds: switched, not written"
    assert "bank chosen" in [entry["what"] for entry in device.log]


CONTROLLERS = RemedyException(remedy=Remedy.PUT_BACK, choice=Choice.NEVER, kind="controller")
ELSEWHERE = RemedyException(remedy=Remedy.PUT_BACK, choice=Choice.NEVER, model="Corvane Reed 14")
LATER = RemedyException(remedy=Remedy.PUT_BACK, choice=Choice.AUTOMATIC)


@pytest.mark.parametrize(
    ("exceptions", "ending"),
    [
        ((CONTROLLERS,), Ending.FAILED),
        ((CONTROLLERS, LATER), Ending.FAILED),
        ((ELSEWHERE,), Ending.PUT_BACK),
        ((dataclasses.replace(CONTROLLERS, kind="bios"),), Ending.PUT_BACK),
    ],
)
async def test_the_house_puts_back_by_model_and_kind_of_what_was_written(house, exceptions, ending):
    """Its controller was written, its BIOS refused: what would be put back is the controller."""
    spoil(house, Fault("image refused", slot="bios", times=9))
    choose(house, ALONE="NEVER", RESTART_FIRST="NEVER", PUT_BACK="AUTOMATIC")
    house.exceptions = exceptions
    state = await carry_out(house.hand(ONE))
    assert state.ended.ending is ending


@pytest.mark.parametrize(
    ("kinds", "choice"),
    [
        (("nic",), Choice.AUTOMATIC), (("bios",), Choice.ASK), (("nic", "bios"), Choice.ASK), (("power",), Choice.NEVER),
        (("nic", "bios", "power"), Choice.NEVER), ((), Choice.AUTOMATIC),
    ],
)  # fmt: skip
def test_the_most_cautious_word_on_what_is_touched_holds(house, kinds, choice):
    house.remedies = {Remedy.PUT_BACK: Choice.AUTOMATIC}
    house.exceptions = (
        RemedyException(remedy=Remedy.ALONE, choice=Choice.NEVER, kind="nic"),
        RemedyException(remedy=Remedy.PUT_BACK, choice=Choice.ASK, model="Reed", kind="bios"),
        RemedyException(remedy=Remedy.PUT_BACK, choice=Choice.NEVER, kind="power"),
        RemedyException(remedy=Remedy.PUT_BACK, choice=Choice.AUTOMATIC, kind="power"),
    )
    assert house.world().may_try(Remedy.PUT_BACK, "Reed", kinds) is choice


async def test_nothing_is_put_back_by_itself_that_nobody_approved(house):
    spoil(house, Fault("image refused", slot="bios", times=9))
    choose(house, ALONE="NEVER", RESTART_FIRST="NEVER", PUT_BACK="AUTOMATIC")
    hand = house.hand(ONE)
    async with hand.open() as controller:
        _, rounds = await hand.plan(await controller.read(house.clock.now))
    hand.approved = frozenset((p.write.slot, p.payload.sha256) for step in rounds for p in step.writes)
    state = await carry_out(hand)
    assert state.ended.ending is Ending.FAILED and remedies(house) == []


async def test_a_write_that_can_not_be_told_apart_is_never_tried_again(house):
    spoil(house, Fault("task vanishes"), Fault("task stalls", slot="bios"))
    state = await carry_out(house.hand(ONE))
    assert state.ended is not None and "alone" not in remedies(house)


async def test_what_the_device_said_was_written_and_a_reset_does_not_show_is_not_written_again(house):
    """It re-plans after another component was refused: once, that wrote to the liar a second time."""
    device = spoil(house, Fault("task lies", slot="bios"), Fault("image refused", slot="nic-1"))
    choose(house, PUT_BACK="NEVER")
    state = await carry_out(house.hand(ONE))
    assert remedies(house) == ["alone"] and state.ended.reason is Reason.NOT_SHOWN
    assert writes_of(device.log).count(("bios", "1.56.0")) == 1
    assert "bios shows 1.52.0, promised was 1.56.0" in tell_reason(state.ended.reason, state.ended.facts)


async def test_what_would_be_active_at_once_and_is_not_is_a_lie(mirror_folder):
    name = "surge-07"
    house = make(mirror_folder, name)
    device = spoil(house, Fault("task lies", slot="drive-03"), Fault("image refused", slot="drive-05"))
    choose(house, PUT_BACK="NEVER")
    state = await carry_out(house.hand(name))
    assert remedies(house, name) == ["alone"] and state.ended.reason is Reason.NOT_HELD
    assert [slot for slot, _ in writes_of(device.log)].count("drive-03") == 1
    assert "drive-03 GX04" in tell_reason(state.ended.reason, state.ended.facts)


@pytest.mark.parametrize("fault", ["refuses company", "wants a restart"])
@pytest.mark.parametrize("order", ["stop", "leave out"])
async def test_a_stop_while_a_person_is_asked_leaves_it_as_it_is(house, order, fault):
    """Left out is only who was sent nothing: one whose first update was refused was told so too."""
    spoil(house, Fault(fault))
    choose(house, ALONE="ASK", RESTART_FIRST="ASK", PUT_BACK="ASK")

    def hear(server, state, detail):
        if "Shall this be tried" in detail:
            house.orders[ONE] = order

    house.listeners.append(hear)
    state = await carry_out(house.hand(ONE))
    assert state.ended.ending is Ending.STOPPED and remedies(house) == []


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_an_engine_that_dies_at_any_moment_of_it_tries_nothing_twice(mirror_folder, when):
    steady = make(mirror_folder)
    spoil(steady, Fault("refuses company"), Fault("wants a restart"))
    steady.patience = dataclasses.replace(steady.patience, poll_s=40.0)
    left = await deaths(steady, when, lambda house: carry_out(house.hand(ONE)))
    first = next(x.seq for x in steady.journal.tapes["1", ONE] if isinstance(x.value, e.Troubled))
    for position, house in left[first - 2 : first + 11]:
        state = await carry_out(house.hand(ONE))
        assert state.ended.ending is Ending.LEVEL, position
        assert sorted(remedies(house)) == ["alone", "restart first"]
        await check_server(house, "1", house.devices[ONE])
