"""A write that failed, and an engine that dies before it has noted what becomes of it: nothing is sent again blindly."""

from __future__ import annotations

import pytest

from ordnung.engine import entries as e
from ordnung.engine.entries import Ending, Reason, Remedy
from ordnung.engine.server_run import carry_out
from ordnung.engine.world import USUAL, Choice
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from tests.simulation.invariants import check_server
from tests.simulation.test_remedies import ONE, make, spoil
from tests.simulation.world import Crashed

FAULTS = {
    "it fails while it is written": ("write fails", (), Reason.TASK_FAILED),
    "it says done and holds nothing": ("task lies", ("bare 202", "no task list"), Reason.TASK_VANISHED),
    "its image is refused": ("image refused", (), Reason.TASK_FAILED),
}


def start(mirror, fault: str, quirks, house_tries: Choice):
    house = make(mirror)
    device = spoil(house, Fault(fault, slot="bmc"))
    device.quirks |= frozenset(quirks)
    house.remedies = {**USUAL, **dict.fromkeys(Remedy, house_tries)}
    return house, device


@pytest.mark.parametrize("when", ["crash_before", "crash_after"])
@pytest.mark.parametrize(("fault", "quirks", "reason"), list(FAULTS.values()), ids=list(FAULTS))
async def test_a_write_that_failed_is_not_begun_again_by_the_next_engine(mirror_folder, fault, quirks, reason, when):
    house, device = start(mirror_folder, fault, quirks, Choice.NEVER)
    plain = await carry_out(house.hand(ONE))
    assert (plain.ended.ending, plain.ended.reason) == (Ending.FAILED, reason)
    writes = writes_of(device.log)
    failed = next(x.seq for x in house.journal.tapes["1", ONE] if isinstance(x.value, e.WriteFailed))
    for position in range(failed - 1, failed + 2):
        house, device = start(mirror_folder, fault, quirks, Choice.NEVER)
        setattr(house.journal, when, position)
        with pytest.raises(Crashed):
            await carry_out(house.hand(ONE))
        house.born()
        state = await carry_out(house.hand(ONE))
        assert (state.ended.ending, state.ended.reason) == (Ending.FAILED, reason), position
        assert writes_of(device.log) == writes, (position, "written again")
        intents = [x.value for x in house.journal.tapes["1", ONE] if isinstance(x.value, e.WriteIntent)]
        assert len({(i.planned.write.slot, i.planned.write.to) for i in intents}) == len(intents), position
        await check_server(house, "1", device)


async def test_a_remedy_is_offered_for_it_all_the_same(mirror_folder):
    """The next engine takes up what the dead one had found, and asks the house as that would have."""
    fault, quirks, _ = FAULTS["it fails while it is written"]
    house, device = start(mirror_folder, fault, quirks, Choice.AUTOMATIC)
    await carry_out(house.hand(ONE))
    tape = [x.value for x in house.journal.tapes["1", ONE]]
    failed = next(at for at, value in enumerate(tape) if isinstance(value, e.WriteFailed))
    house, device = start(mirror_folder, fault, quirks, Choice.AUTOMATIC)
    house.journal.crash_after = failed + 1
    with pytest.raises(Crashed):
        await carry_out(house.hand(ONE))
    house.born()
    await carry_out(house.hand(ONE))
    again = [x.value for x in house.journal.tapes["1", ONE]]
    kinds = [type(value).__name__ for value in tape]
    assert [type(value).__name__ for value in again] == kinds and isinstance(again[failed + 1], e.Troubled)
    await check_server(house, "1", device)
