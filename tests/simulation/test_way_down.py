"""The way to all controllers is down for a while: no server is given up for it, and nothing is proved by it."""

from __future__ import annotations

import datetime

import pytest

from ordnung.engine.contact import LATELY_S, LONGEST_S, NOBODY_S, Contact
from ordnung.engine.entries import Evidence, ResetSeen, ResetSent
from ordnung.engine.hand import NOBODY
from ordnung.engine.run import carry_out_run
from ordnung.standins.faults import Fault
from tests.simulation.one_server import check_device
from tests.simulation.world import START, House, demo_house

NAMES = ("surge-03", "surge-05", "surge-06", "surge-07", "surge-08", "surge-09", "surge-10", "gauge-01")
AT = datetime.datetime(2026, 11, 27, 1, tzinfo=datetime.UTC)


@pytest.fixture
def house(mirror_folder) -> House:
    return demo_house(mirror_folder)


async def carry_out(house: House, *names: str) -> dict[str, str]:
    return await carry_out_run("1", [house.lane(name) for name in names], house.world())


@pytest.mark.exhaustive
@pytest.mark.parametrize("begins", range(0, 1500, 250))
@pytest.mark.parametrize("lasts_h", [1, 3])
async def test_all_that_were_under_way_go_on_when_it_is_there_again(house, begins, lasts_h):
    house.cuts = ((begins, begins + lasts_h * 3600),)
    ended = await carry_out(house, *NAMES)
    assert set(ended.values()) == {"level"}, ended
    for name in NAMES:
        check_device(house, name)
    assert not house.troubles


async def test_it_is_said(house):
    house.cuts = ((0, 5400),)
    await carry_out(house, *NAMES)
    assert any(detail == NOBODY for _, _, detail in house.told)


async def test_one_server_alone_that_does_not_answer_is_given_up_as_before(house):
    house.cuts = ((0, 5400),)
    assert (await carry_out(house, "surge-03"))["surge-03"] == "failed"


async def test_a_way_that_stays_down_ends_them_for_a_person(house):
    house.cuts = ((0, 10 * LONGEST_S),)
    ended = await carry_out(house, *NAMES)
    assert set(ended.values()) == {"failed"}
    assert (house.clock.now() - START).total_seconds() < LONGEST_S + 3 * 3600


async def test_a_connection_that_is_lost_with_all_others_proves_no_reset(house, mirror_folder):
    """Of a controller that tells nothing of its restarts, a lost connection is the only evidence."""

    def prepare(one: House) -> None:
        one.devices["surge-07"].quirks |= {"no reset time"}
        one.devices["surge-07"].faults.append(Fault("restart ignored"))

    reference = demo_house(mirror_folder)
    prepare(reference)
    await carry_out(reference, *NAMES)
    sent = next(e.at for e in reference.journal.tapes["1", "surge-07"] if isinstance(e.value, ResetSent))
    begins = (sent - START).total_seconds() + 1
    prepare(house)
    house.cuts = ((begins, begins + 1500),)
    await carry_out(house, *NAMES)
    tape = [e.value for e in house.journal.tapes["1", "surge-07"]]
    assert any(isinstance(value, ResetSent) for value in tape)
    proofs = [value.evidence for value in tape if isinstance(value, ResetSeen)]
    assert Evidence.CONNECTION not in proofs
    check_device(house, "surge-07")


@pytest.mark.parametrize(
    ("told", "is_down"),
    [
        ((), False),
        ((("a", 0, False), ("b", 0, False)), False),
        ((("a", 0, False), ("b", 0, False), ("c", 0, False)), True),
        ((("a", -5, False), ("b", -5, False), ("c", -5, False), ("d", 0, True)), False),
        ((("d", -NOBODY_S + 1, True), ("a", 0, False), ("b", 0, False), ("c", 0, False)), False),
        ((("d", -NOBODY_S, True), ("a", 0, False), ("b", 0, False), ("c", 0, False)), True),
        ((("a", -LATELY_S - 1, False), ("b", 0, False), ("c", 0, False)), False),
        ((("a", -200, False), ("b", -200, False), ("d", -150, True), ("c", 0, False)), False),
        ((("a", -LONGEST_S - 1, False), ("a", 0, False), ("b", 0, False), ("c", 0, False)), False),
    ],
    ids=[
        "nobody asked", "two alone", "three", "one answers", "one just did", "heard a while ago", "one long ago",
        "silent before somebody answered", "for too long",
    ],
)  # fmt: skip
def test_it_takes_several_that_were_asked_lately_and_nobody_who_answers(told, is_down):
    contact = Contact()
    for url, at, answered in told:
        contact.note(url, AT + datetime.timedelta(seconds=at), answered=answered)
    assert contact.is_down(AT) is is_down
