"""Seeded runs over random servers with crashes, lost answers, refusals and late versions, many at once.

Whatever happens, afterwards: one write at a time, no reset during a write, nothing written twice, nothing
below a floor, the tape and the device's log tell the same story, and every server ends level, failed with a
reason, or skipped.
"""

from __future__ import annotations

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.drift import Verdict
from ordnung.core.house import judge_house
from ordnung.core.rules import FIXED_RULES
from ordnung.engine.run import RunServer, carry_out_run
from ordnung.engine.server_run import ServerRun
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import Hardware, writes_of
from ordnung.standins.scenario import random_hardware
from tests.simulation.world import Crashed, House, InProcess, VirtualClock, endpoint


def spoil(chance: random.Random, device: Hardware) -> None:
    """Perhaps set a fault or two."""
    slots = [part.slot for part in device.parts]
    for _ in range(chance.choice((0, 0, 1, 2))):
        device.faults.append(
            chance.choice(
                (
                    Fault("answer lost", on=chance.choice(("update", "reset")), times=chance.randint(1, 3)),
                    Fault("version late", slot=chance.choice(slots), seconds=chance.choice((30, 300))),
                    Fault("image refused", slot=chance.choice(slots)),
                )
            )
        )


async def run_to_the_end(house: House, name: str, chance: random.Random) -> int:
    """Carry a server out, killing the engine now and then; returns how often it was killed."""
    deaths = 0
    while True:
        house.journal.count = 0
        house.journal.crash_before = chance.choice((None, chance.randint(1, 40)))
        house.journal.crash_after = chance.choice((None, chance.randint(1, 40)))
        if deaths > 6:
            house.journal.crash_before = house.journal.crash_after = None
        try:
            state = await ServerRun("1", endpoint(name), house.world()).carry_out()
        except Crashed:
            deaths += 1
            house.clock.t += chance.choice((1, 30, 400))
            continue
        assert state.ended in ("level", "failed", "skipped"), state
        assert state.ended != "failed" or state.reason
        return deaths


def check(house: House, device: Hardware) -> None:
    what = [entry["what"] for entry in device.log]
    assert "killed a write" not in what and not any(part.dead for part in device.parts)
    begun = [e for e in device.log if e["what"] in ("write begun", "write done")]
    for one, two in zip(begun[::2], begun[1::2], strict=False):
        assert (one["what"], two["what"]) == ("write begun", "write done"), "one write at a time"
    writes = writes_of(device.log)
    assert len(writes) == len(set(writes)), "nothing is written twice"
    tape = house.journal.tapes[("1", device.name)]
    intended = {(e.body["write"]["slot"], e.body["write"]["to"]) for e in tape if e.kind == "write intent"}
    assert set(writes) <= intended, "nothing is written that was not intended"
    if tape[-1].body["state"] == "level":
        assert not any(part.waiting and part.kind != "power" for part in device.parts)


@pytest.mark.parametrize("seed", range(40))
async def test_a_random_server_through_anything(mirror_folder, seed):
    chance = random.Random(seed)
    clock = VirtualClock()
    (device,) = random_hardware(1, seed, clock.seconds)
    house = House(clock, [device], mirror_folder)
    spoil(chance, device)
    await run_to_the_end(house, device.name, chance)
    check(house, device)


@pytest.mark.parametrize("seed", range(4))
async def test_a_random_fleet_without_faults_goes_level_under_its_limits(mirror_folder, seed):
    clock = VirtualClock()
    devices = random_hardware(12, 100 + seed, clock.seconds)
    house = House(clock, devices, mirror_folder)
    servers = [
        RunServer(endpoint=endpoint(d.name), group="pair" if i % 3 == 0 else None) for i, d in enumerate(devices)
    ]
    ended = await carry_out_run("1", servers, {"pair": 1}, house.world())
    for device in devices:
        check(house, device)
        reading = await InProcess(device).read(clock.now)
        (standing,) = judge_house([reading], house.catalogs, FIXED_RULES, clock.now().date())
        left = {d.verdict for d in standing.drift} - {Verdict.LEVEL, Verdict.HELD, Verdict.AHEAD, Verdict.UNLISTED}
        assert left <= {Verdict.STRANDED}, (device.name, ended[device.name], left)


@given(seed=st.integers(0, 10**6))
def test_a_reading_equals_the_hardware_whatever_it_is(seed):
    import asyncio

    clock = VirtualClock()
    (device,) = random_hardware(1, seed, clock.seconds)
    chance = random.Random(seed)
    for part in device.parts:
        if chance.random() < 0.2:
            part.waiting, part.waiting_activation = "9.9.9", "server reboot"
    reading = asyncio.run(InProcess(device).read(clock.now))
    found = {c.slot: (c.kind, c.version, c.waiting, c.software_id, c.pci) for c in reading.components}
    assert found == {p.slot: (p.kind, p.version, p.waiting, p.software_id, p.pci) for p in device.parts}
    assert (reading.model, reading.serial) == (device.model, device.serial)
