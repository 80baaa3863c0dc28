"""One random night: several runs at once over random servers with faults and manners, groups and pairs, holds and stops,
every way of bringing a payload, an engine that dies at random moments and a disk that fails. Afterwards every
invariant is asserted.

``python -m tests.simulation.soak --seed N`` replays one.
"""

from __future__ import annotations

import asyncio
import dataclasses
import datetime
import itertools
import random
from collections.abc import Mapping, Sequence
from pathlib import Path

from ordnung.core.assessment import assess_fleet
from ordnung.core.away import AwayLimits
from ordnung.core.drift import Verdict
from ordnung.core.errands import ErrandKind, Moves
from ordnung.core.rules import FIXED_RULES
from ordnung.core.turn import Turn
from ordnung.engine import entries as e
from ordnung.engine.entries import Answer, Remedy
from ordnung.engine.ports import Reply
from ordnung.engine.run import carry_out_run
from ordnung.engine.tape import fold
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import Choice, Patience
from ordnung.standins.faults import CHANGING, QUIRKS, Fault
from ordnung.standins.hardware import Hardware, writes_of
from ordnung.standins.models import FLASH_STORE, PELLAM1160, RackPlace, build_hardware
from ordnung.standins.scenario import random_hardware
from ordnung.standins.workdesk import ASKED, DESK_FAULTS, DeskFault
from tests.simulation.clock import VirtualClock, run
from tests.simulation.kit_host import KitHost
from tests.simulation.lines import controller_of
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
OUTAGES = ("server reboot", "power cycle")
BY_FAULT = (
    "does not follow the one that is installed",
    "the image was refused", "the signature was refused", "no room is left for an image", "it failed while writing",
    "the line broke while fetching", "the update service is not ready", "not while",
)  # fmt: skip
"""What a device may say when it refuses: only what a fault made it say, never its own rules: those mean a wrong plan."""
MAX_LIVES = 12


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
    for device in house.devices.values():
        device.host = house.kits
        if chance.random() < 0.3:
            device.faults.append(Fault(chance.choice(DISC_FAULTS)))


def _of_kit(house: House, device: Hardware) -> list[e.TapeEntry]:
    """What the field kit has put on its own tapes, where a night went by disc."""
    return house.kits.values(device.name) if house.by_disc else []


def check_out_of_disc(device: Hardware, state: TapeState) -> None:
    """Its own system runs, and no start goes to a disc of ours, unless it is told that it may."""
    if state.in_disc:
        assert state.ended is not None and "disc" in state.ended.facts, f"{device.name}: a disc is left in, untold"
        return
    boot = device.patched.get(SYSTEM, {}).get("Boot", {})
    assert not device.media and not device.runs_disc, f"{device.name}: a disc is left in"
    assert boot.get("BootSourceOverrideTarget", "None") != "Cd", f"{device.name}: its starts go to a disc"


UNATTENDED = 0.15
"""Nights whose reboots are left to whenever they come."""


def check_nobody_reset(house: House) -> None:
    """No run that leaves its reboots takes a system out of service."""
    for tape in house.journal.tapes.values():
        resets = [entry.value.kind for entry in tape if isinstance(entry.value, e.ResetIntent)]
        assert set(resets) <= {e.ResetKind.CONTROLLER_RESTART}, resets


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


def spoil(chance: random.Random, device: Hardware) -> None:
    """Perhaps set a fault or two: any that does not bar every further look for good."""
    slots = [part.slot for part in device.parts]
    for _ in range(chance.choice((0, 0, 1, 2))):
        kind = chance.choice(SPOILS)
        fault = Fault(
            kind,
            slot=chance.choice(slots) if kind in SLOTTED else None,
            on=chance.choice(("update", "reset")) if kind == "answer lost" else None,
            times=chance.randint(1, 3),
            seconds=float(chance.choice((30, 300, 1500))),
        )
        if kind == "boot hangs" and "no boot progress" in device.quirks:
            continue  # nobody could know: its controller tells the same of a server that runs
        device.faults.append(fault)


SLOTTED = ("version late", "image refused", "signature refused", "staging full", "write fails", "task lies")
SPOILS = (
    *SLOTTED, "answer lost", "answer lost", "busy", "session expired", "task stalls", "task vanishes", "link cut",
    "stays away", "boot hangs", "part gone", "clock wrong", "job pending", "array rebuilding", "feed lost",
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


async def check_server(house: House, number: str, device: Hardware) -> None:
    """The invariants of ``architecture.md`` for one server, by its tape and by the device's own log."""
    tape = house.journal.tapes[number, device.name]
    state = fold(tape)
    values = [entry.value for entry in tape]
    assert state.ended is not None and tell_reason(state.ended.reason, state.ended.facts), device.name
    what = [entry["what"] for entry in device.log]
    opens = house.windows[0][0].timestamp() if house.windows else 0.0
    assert not [e for e in device.log if e["what"] == "reset" and e["at"] < opens], "a reset before the window"
    assert "killed a write" not in what and "button pushed" not in what, device.name
    assert not any(part.dead for part in device.parts), f"{device.name}: a dead component"
    others = [entry for entry in device.log if entry["what"] == "other start" and entry["target"] != "Cd"]
    assert not others, f"{device.name}: a reboot started what somebody had chosen"
    check_out_of_disc(device, state)
    assert "set-up cut off" not in what, f"{device.name}: a reset while a partition was set up"
    set_up = [entry for entry in device.log if entry["what"] == "set-up begun"]
    assert all(entry["was"] != "ready" for entry in set_up), f"{device.name}: a whole partition was set up"
    kit = _of_kit(house, device)
    _check_writes(device, values, kit)
    _check_resets(device, [*values, *kit])
    for entry in device.log:
        assert entry["what"] != "refused" or any(told in entry["why"] for told in BY_FAULT), entry
    if state.ended.ending is e.Ending.LEVEL:
        await _check_level(house, device)
    still_heals = any(errand.kind is ErrandKind.HEALED for errand, _ in state.given_up)
    left_away = state.is_away or state.is_moved_off or still_heals
    assert (state.place is not None) == left_away and (state.place is None or state.place.kept), device.name


BEGUN, OVER = ("write begun", "set-up begun"), ("write done", "refused", "set up", "set-up failed")


def _check_writes(device: Hardware, values: Sequence[e.TapeEntry], kit: Sequence[e.TapeEntry]) -> None:
    begun = [entry["what"] for entry in device.log if entry["what"] in (*BEGUN, *OVER)]
    for one, two in itertools.pairwise(begun):
        assert one not in BEGUN or two not in BEGUN, f"{device.name}: two writes at once"
    writes = writes_of(device.log)
    # One more for each remedy, after the device has said that the one before was not written.
    tried = [v.slot for v in (*values, *kit) if isinstance(v, e.Troubled)]
    # A kit on a disc has no journal over a reset: what was said to be written and is not shown it writes once more.
    more = max(0, sum(isinstance(v, e.PlaceTaken) for v in kit) - 1)
    for slot, version in set(writes):
        assert writes.count((slot, version)) <= 1 + more + tried.count(slot), f"{device.name}: written twice {writes}"
    kinds = [v.remedy for v in values if isinstance(v, e.Remedied)]
    assert len(kinds) == len(set(kinds)), f"{device.name}: {kinds}"
    sent = [v.planned.write for v in (*values, *kit) if isinstance(v, e.WriteIntent)]
    intended = {(write.slot, write.to) for write in sent}
    ordered = {(p.write.slot, p.write.to) for v in values if isinstance(v, e.Plan) for s in v.rounds for p in s.writes}
    assert not kit or set(writes) <= ordered, f"{device.name}: written by the kit, never ordered"
    assert set(writes) <= intended, f"{device.name}: written, never intended"


def _check_resets(device: Hardware, values: Sequence[e.TapeEntry]) -> None:
    asked = [str(v.kind) for v in values if isinstance(v, e.ResetIntent)]
    unsent = sum(isinstance(v, e.ResetUnsent) for v in values)
    done = [entry["kind"] for entry in device.log if entry["what"] == "reset"]
    assert len(done) <= len(asked) - unsent, f"{device.name}: {done} done, {asked} asked, {unsent} of them not sent"
    back = sum(isinstance(v, e.Back) for v in values)
    assert back <= len(done), f"{device.name}: back {back} times after {len(done)} resets"


async def _check_level(house: House, device: Hardware) -> None:
    device.faults.clear()
    reading = await controller_of(device).read(house.clock.now)
    (standing,) = assess_fleet([reading], house.catalogs, FIXED_RULES, house.clock.now().date())
    left = {drift.verdict for drift in standing.drift}
    fine = {Verdict.LEVEL, Verdict.HELD, Verdict.AHEAD, Verdict.UNLISTED, Verdict.STRANDED}
    assert left <= fine, f"{device.name} is called level: {left - fine}"


def check_home(house: House, number: str, device: Hardware) -> None:
    """The work is back where it was, or the server is marked and keeps its place."""
    state = house.journal.states[number, device.name]
    if house.desk.where.get(device.name, "here") != "here":
        assert state.is_moved_off and state.place is not None and state.place.kept, f"{device.name}: work elsewhere"


def check_desk(house: House, device: Hardware, moves: Moves) -> None:
    """No outage while its work was there, by the desk's own log and the device's."""
    if not moves.off:
        return
    ordered = [entry for entry in house.desk.log if entry["server"] == device.name and entry["what"] != "refused"]
    for reset in (entry for entry in device.log if entry["what"] == "reset" and entry["kind"] in OUTAGES):
        before = [entry for entry in ordered if entry["at"] <= reset["at"]]
        last = next((x for x in reversed(before) if x["order"] != "group.healed"), None)
        assert last is not None and (last["what"], last["order"]) == ("done", "work.move-off"), (device.name, last)


def check_limits(devices: Sequence[Hardware], groups: dict[str, str], limits: AwayLimits) -> None:
    """Never more away than a group allows at any moment, by the devices' own logs."""
    moments: list[tuple[float, int, str, str]] = []
    for device in devices:
        device.advance()
        away = False
        for entry in device.log:
            if entry["what"] == "reset" and entry["kind"] in OUTAGES and not away:
                moments.append((entry["at"], 1, groups[device.name], device.name))
                away = True
            elif entry["what"] == "system up" and away:
                moments.append((entry["at"], 0, groups[device.name], device.name))
                away = False
    now: dict[str, set[str]] = {}
    for _, begins, group, name in sorted(moments):
        members = now.setdefault(group, set())
        (members.add if begins else members.discard)(name)
        allowed = limits.groups.get(group)
        assert allowed is None or len(members) <= allowed, f"{sorted(members)} of {group} are away together"
