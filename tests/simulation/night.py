"""One random night: several runs at once over random servers with faults and manners, groups and pairs, holds and stops,
every way of bringing a payload, an engine that dies at random moments and a disk that fails. Afterwards every
invariant is asserted.

``python -m tests.simulation.soak --seed N`` replays one.
"""

from __future__ import annotations

import asyncio
import dataclasses
import datetime
import random
from collections.abc import Mapping, Sequence
from pathlib import Path

from ordnung.core.away import AwayLimits
from ordnung.core.errands import Moves
from ordnung.core.rules import FIXED_RULES
from ordnung.core.turn import Turn
from ordnung.engine.entries import Answer, Remedy
from ordnung.engine.ports import Reply
from ordnung.engine.run import carry_out_run
from ordnung.engine.world import Choice, Patience
from ordnung.standins import makers
from ordnung.standins.faults import CHANGING, QUIRKS, Fault
from ordnung.standins.hardware import Hardware
from ordnung.standins.models import FLASH_STORE, PELLAM1160, RackPlace, build_hardware
from ordnung.standins.scenario import random_hardware
from ordnung.standins.workdesk import ASKED, DESK_FAULTS, DeskFault
from tests.simulation.clock import VirtualClock, run
from tests.simulation.invariants import (
    check_desk,
    check_home,
    check_limits,
    check_nobody_reset,
    check_server,
)
from tests.simulation.kit_host import KitHost
from tests.simulation.world import Crashed, House

MANNERS = sorted(set(QUIRKS) - {"nic twice", "inline members"})
THEMES: tuple[list[str], ...] = (
    [], [], [], [],
    ["bare 202", "no task list"],
    ["empty 202", "no task state"],
    ["no reset time", "no boot progress"],
    ["no reset time", "no boot progress", "graceful ignored"],
    ["basic only", "power cycle on system", "action info"],
)  # fmt: skip
"""Manners that are met together, and are dangerous together."""
MAX_LIVES = 12
DRIVES = 6
"""So many of a server's drives take part: more of the same prove nothing more, and are read each time."""


@dataclasses.dataclass(frozen=True)
class Night:
    """What became of one night."""

    seed: int
    servers: int
    lives: int
    endings: tuple[str, ...]


def play(seed: int, mirror: Path) -> Night:
    """Play one night to its end and assert every invariant. Raises AssertionError that names the command to replay."""
    try:
        return run(_play(seed, mirror))
    except (AssertionError, Exception) as error:
        raise AssertionError(f"python -m tests.simulation.soak --seed {seed}: {error}") from error


async def _play(seed: int, mirror: Path) -> Night:
    chance = random.Random(seed)
    clock = VirtualClock()
    devices = random_hardware(chance.choice((1, 1, 2, 3)), seed, clock.seconds)
    _fit_stores(random.Random(f"stores {seed}"), devices)
    _thin_out(devices)
    groups = {d.name: chance.choice(("pair", "pair", "ring", "")) for d in devices}
    limits = AwayLimits(groups={"pair": 1, "ring": 2}, at_once=chance.choice((1, 2, 8)))
    house = House(clock, devices, mirror, limits)
    way = random.Random(f"way {seed}")
    if way.random() < WAY_DOWN:
        begins = way.uniform(0, 8000)
        house.cuts = ((begins, begins + way.choice((120, 2400, 9000))),)
    house.disk = random.Random(f"disk {seed}")
    house.protocols = chance.choice((("HTTPS", "HTTP"), ("HTTP",), ()))
    house.patience = Patience(
        place_s=1200.0, may_force=chance.random() < 0.3, poll_s=chance.choice((10.0, 40.0, 40.0)), answer_s=1800.0
    )
    answers = {device.name: chance.choice((None, *Answer)) for device in devices}
    house.replies = {name: Reply(answer=answer, by="night shift") for name, answer in answers.items() if answer}
    for device in devices:
        device.quirks = frozenset(chance.sample(MANNERS, chance.choice((0, 0, 1, 2, 3))) + chance.choice(THEMES))
        spoil(chance, device)
        is_chosen = random.Random(f"next start {seed} {device.name}").random() < CHOSEN
        if is_chosen and "starts untold" not in device.quirks:  # else nobody could know
            device.patched[SYSTEM] = {"Boot": {"BootSourceOverrideEnabled": "Once", "BootSourceOverrideTarget": "Pxe"}}
        if {"no reset time", "no boot progress"} <= device.quirks and chance.random() < 0.7:
            device.faults.append(Fault("answer lost", on="reset", times=chance.randint(1, 2)))
    runs = [devices[::2], devices[1::2]] if len(devices) > 1 and chance.random() < 0.6 else [devices]
    house.moves = {device.name: chance.choice(MOVES) for device in devices}
    if chance.random() < 0.4:
        _give_window(chance, house)
    house.remedies = {remedy: chance.choice(tuple(Choice)) for remedy in Remedy}
    house.desk.faults = [_desk_fault(chance, devices) for _ in range(chance.choice((0, 0, 0, 1, 3)))]
    house.desk.seconds, house.desk.heals = chance.choice((5.0, 60.0, 600.0)), chance.choice((0.0, 900.0))
    house.unattended = random.Random(f"unattended {seed}").random() < UNATTENDED
    if not house.unattended and random.Random(f"by disc {seed}").random() < BY_DISC:
        _insert_discs(random.Random(f"discs {seed}"), house)
    if not house.by_disc and random.Random(f"supplies {seed}").random() < SUPPLIES:
        _lag_supplies(house)
    house.access.settles_s = random.Random(f"settled {seed}").choice((None, 300.0, 1500.0))
    lives = await _live(chance, house, runs, groups)
    if house.unattended:
        check_nobody_reset(house)
        house.unattended = False
    for number, members in enumerate(runs, start=1):
        for device in members:
            await check_server(house, str(number), device)
            check_desk(house, device, house.moves[device.name])
            check_home(house, str(number), device)
    check_limits(devices, groups, limits)
    if house.by_disc:
        assert not house.kits.nobody.troubles, house.kits.nobody.troubles
        house.by_disc = False
    if chance.random() < 0.4:
        lives += await _go_back(chance, house, devices, groups)
    assert not house.troubles, f"errors of our own: {house.troubles}"
    endings = tuple(str(state.ended.ending) for state in house.journal.states.values() if state.ended)
    return Night(seed, len(devices), lives, endings)


SYSTEM = "/redfish/v1/Systems/1"
WAY_DOWN = 0.1
"""Of the nights, in which for a while no controller is reached."""
CHOSEN = 0.05
"""Servers whose next start somebody has sent elsewhere: a reboot of ours would start that."""
STORES = 0.3
"""Servers with a flash store of their own, whole, older, blank, damaged, or half way by a night before."""


def _thin_out(devices: Sequence[Hardware]) -> None:
    for device in devices:
        more = [part for part in device.parts if part.kind == "drive"][DRIVES:]
        device.parts[:] = [part for part in device.parts if part not in more]


def _fit_stores(chance: random.Random, devices: Sequence[Hardware]) -> None:
    for device in devices:
        if chance.random() >= STORES:
            continue
        states = {slot: chance.choice(("ready", "ready", "blank", "damaged", "empty")) for slot, _ in FLASH_STORE}
        versions = {slot: chance.choice(make.releases).version for slot, make in FLASH_STORE}
        place = RackPlace(
            name="", model=PELLAM1160, unit=1, serial="PEL99", group="", role="", extra=FLASH_STORE, store=states,
            versions=versions,
        )  # fmt: skip
        device.parts += [p for p in build_hardware(place, "X", device.now).parts if p.kind == "store"]
        if chance.random() < 0.3:
            device.faults.append(Fault("set-up fails", chance.choice(tuple(states)), times=chance.randint(1, 3)))


BY_DISC = 0.2
"""Nights that go by a disc in each server's virtual media."""
DISC_FAULTS = ("boot order ignored", "media lost")


def _insert_discs(chance: random.Random, house: House) -> None:
    house.by_disc, house.kits = True, KitHost(house)
    house.protocols = house.protocols or ("HTTP",)
    for device in house.devices.values():
        device.host = house.kits
        if chance.random() < 0.3:
            device.faults.append(Fault(chance.choice(DISC_FAULTS)))


UNATTENDED = 0.15
"""Nights whose reboots are left to whenever they come."""
SUPPLIES = 0.2
"""Nights in which power supplies are flashed, too."""


def _give_window(chance: random.Random, house: House) -> None:
    """A window hours away, with or without writing ahead of it; long enough for whatever the night brings."""
    opens = house.clock.now() + datetime.timedelta(minutes=chance.choice((10, 90, 300)))
    house.windows = ((opens, opens + datetime.timedelta(days=20)),)
    house.ahead = chance.random() < 0.7
    for name in house.devices:
        house.journal.turns[name] = lambda _, name=name: Turn(server=name, windows=house.windows, needs_seconds=3600.0)


MOVES = (
    Moves(), Moves(), Moves(off=True), Moves(off=True, between=True), Moves(off=True, healed=True), Moves(healed=True)
)  # fmt: skip


def _desk_fault(chance: random.Random, devices: Sequence[Hardware]) -> DeskFault:
    return DeskFault(
        chance.choice(sorted(DESK_FAULTS)),
        server=chance.choice((None, chance.choice(devices).name)),
        on=chance.choice((None, *ASKED)),
        times=chance.choice((1, 3, 1000)),
    )


def _lag_supplies(house: House) -> None:
    """A house that flashes its power supplies too, and has old ones."""
    house.rules = FIXED_RULES[1:]
    oldest = {make.software_id: make.releases[0].version for make in (makers.SUPPLY_800, makers.SUPPLY_1400)}
    for device in house.devices.values():
        for part in device.parts:
            part.version = oldest.get(part.software_id, part.version)


def spoil(chance: random.Random, device: Hardware) -> None:
    """Perhaps set a fault or two: any that does not bar every further look for good."""
    slots = [part.slot for part in device.parts]
    for _ in range(chance.choice((0, 0, 1, 2))):
        kind = chance.choice(SPOILS)
        fault = Fault(
            kind,
            slot=chance.choice(slots) if kind in SLOTTED else None,
            on=chance.choice(ON[kind]) if kind in ON else None,
            times=chance.randint(1, 3),
            seconds=float(chance.choice((30, 300, 1500))),
        )
        if kind == "boot hangs" and "no boot progress" in device.quirks:
            continue  # nobody could know: its controller tells the same of a server that runs
        device.faults.append(fault)


SLOTTED = (
    "version late", "image refused", "signature refused", "staging full", "write fails", "task lies",
    "task denies", "version untold", "drive drops out", "supply starts late",
)  # fmt: skip
ACTS = ("update", "reset")
ON = {
    "answer lost": ACTS,
    "fails late": ACTS,
    "fails early": ACTS,
    "busy": (None, *ACTS),
    "sessions taken": (None, "alone"),
}
SPOILS = (
    *SLOTTED, "answer lost", "answer lost", "fails late", "fails early", "busy", "session expired", "sessions taken",
    "task stalls", "task vanishes", "link cut", "stays away", "boot hangs", "part gone", "clock wrong", "job pending", "array rebuilding", "feed lost",
    "licence missing", "refuses company", "refuses company", "wants a restart", *CHANGING,
)  # fmt: skip


async def _live(
    chance: random.Random, house: House, runs: Sequence[Sequence[Hardware]], groups: dict[str, str],
    backs: Mapping[str, Mapping[str, str]] | None = None,
) -> int:  # fmt: skip
    """Live until every server has ended, dying now and then; returns how many lives it took.

    Args:
        backs: of the one run that takes back, what of each server goes back to which version.
    """
    for life in range(1, MAX_LIVES + 1):
        house.journal.count = house.journal.failures = 0
        last = life == MAX_LIVES
        house.journal.crash_before = None if last else chance.choice((None, None, chance.randint(1, 60)))
        house.journal.crash_after = None if last else chance.choice((None, None, chance.randint(1, 60)))
        house.journal.out_before = house.disk.choice((None, None, None, house.disk.randint(1, 80)))
        house.journal.out_after = house.disk.choice((None, None, None, house.disk.randint(1, 80)))
        try:
            async with asyncio.TaskGroup() as group:
                meddling = group.create_task(_meddle(chance, house))
                works = [
                    group.create_task(_carry_out(house, BACK if backs else str(number), members, groups, backs))
                    for number, members in enumerate(runs, start=1)
                ]
                await asyncio.gather(*works)
                meddling.cancel()
            return life
        except BaseExceptionGroup as deaths:
            if deaths.split(Crashed)[1] is not None:
                raise
            house.clock.t += chance.choice((1, 30, 400))
            house.orders.clear()
            house.born()
    raise AssertionError("it never came to an end")


BACK = "9"


async def _go_back(chance: random.Random, house: House, devices: Sequence[Hardware], groups: dict[str, str]) -> int:
    """Something that the night did is taken back, by its other bank or by its payload; every invariant holds again."""
    states = {name: state for (_, name), state in house.journal.states.items()}
    backs = {}
    for device in devices:
        state = states[device.name]
        if state.done and state.place is None and state.before is not None:
            slot, _ = chance.choice(state.done)
            old = state.before.component(slot)
            if old is not None and old.version is not None:
                backs[device.name] = {slot: old.version}
    chosen = [device for device in devices if device.name in backs]
    house.orders.clear()  # what was ordered in the night is over with it
    for device in chosen:
        device.log.clear()
        spoil(chance, device)
    lives = await _live(chance, house, [chosen], groups, backs) if chosen else 0
    for device in chosen:
        await check_server(house, BACK, device)
        check_home(house, BACK, device)
    return lives


async def _carry_out(
    house: House, number: str, members: Sequence[Hardware], groups: dict[str, str],
    backs: Mapping[str, Mapping[str, str]] | None = None,
) -> None:  # fmt: skip
    lanes = [house.lane(device.name, groups[device.name], (backs or {}).get(device.name)) for device in members]
    lanes = [
        lane
        for lane in lanes
        if (state := house.journal.states.get((number, lane.endpoint.name))) is None or state.ended is None
    ]
    await carry_out_run(number, lanes, house.world(), order=int(number))


async def _meddle(chance: random.Random, house: House) -> None:
    """People hold, let go on, and now and then stop a server."""
    for _ in range(chance.choice((0, 0, 1, 2))):
        await house.clock.sleep(chance.uniform(10, 3000))
        name = chance.choice(sorted(house.devices))
        house.orders[name] = chance.choice(("hold", "hold", "hold", "stop", "leave out"))
        await house.clock.sleep(chance.uniform(10, 2000))
        if house.orders[name] == "hold":
            del house.orders[name]
