"""One server through one run, and what must hold of it by its own log."""

from __future__ import annotations

from typing import NamedTuple

from ordnung.engine.entries import (
    Ending,
    WriteDone,
    WriteIntent,
)
from ordnung.engine.server_run import carry_out as carry_out_hand
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_reason
from ordnung.standins.hardware import writes_of
from tests.simulation.world import House

THREE = ["controller restart", "server reboot", "server reboot"]
"""The resets of surge-07 on its way."""


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


async def with_manners(house, name, *manners, faults=()):
    device = house.devices[name]
    device.quirks = frozenset(manners)
    device.faults += faults
    return await carry_out(house, name), device


def resets(device):
    return [entry["kind"] for entry in device.log if entry["what"] == "reset"]
