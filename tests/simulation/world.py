"""The engine's ports over stand-in hardware in one process, on virtual time: no sockets, no waiting."""

from __future__ import annotations

import copy
import dataclasses
import datetime
import functools
import hashlib
from collections.abc import Callable
from pathlib import Path

from ordnung.controllers import Endpoint
from ordnung.core.away import AwayLimits, AwayPlace, may_begin
from ordnung.core.baseline import locate
from ordnung.core.catalog import Issue
from ordnung.core.errands import ErrandKind, Moves
from ordnung.core.matching import Catalogs
from ordnung.core.rules import FIXED_RULES
from ordnung.core.turn import bars_reset, may_turn
from ordnung.engine.entries import Entry, PlaceTaken
from ordnung.engine.hand import Hand
from ordnung.engine.ports import Help, HelpState, KnownAccess, NoPlaceError, Ready, RecordsOutError, TapeConflictError
from ordnung.engine.run import RunServer
from ordnung.engine.tape import advance
from ordnung.engine.tape_state import TapeState
from ordnung.engine.world import USUAL, Patience, Site, World
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.folder_catalog import Heading, build_catalog
from ordnung.formats.order import mark_of
from ordnung.formats.pldm import parse_package
from ordnung.standins import makers
from ordnung.standins.hardware import Hardware
from ordnung.standins.scenario import PLACES, demo_hardware
from ordnung.standins.workdesk import WorkDesk
from ordnung.store import RepositoryError
from tests.simulation.clock import START, VirtualClock
from tests.simulation.lines import InProcessControllers, pin_of

__all__ = ["START", "VirtualClock"]
HOOKS = {
    ErrandKind.MOVE_OFF: "work.move-off", ErrandKind.TAKE_BACK: "work.take-back", ErrandKind.HEALED: "group.healed",
}  # fmt: skip


class Crashed(BaseException):
    """The engine dies here."""


class MemoryJournal:
    """Tapes in memory. ``crash_before`` and ``crash_after`` kill the engine just before or after the n-th entry.

    With ``out_before`` and ``out_after`` the disk fails there instead, for a few questions; after, it was written.
    """

    def __init__(self, clock: VirtualClock, limits: AwayLimits | None = None) -> None:
        self.clock, self.limits = clock, limits or AwayLimits()
        self.tapes: dict[tuple[str, str], list[Entry]] = {}
        self.states = {}
        self.turns = {}
        self.count, self.crash_before, self.crash_after = 0, None, None
        self.out_before, self.out_after, self.failures = None, None, 0

    def __deepcopy__(self, memo) -> MemoryJournal:
        twin = MemoryJournal(copy.deepcopy(self.clock, memo), self.limits)
        twin.tapes, twin.states = {key: list(tape) for key, tape in self.tapes.items()}, dict(self.states)
        twin.turns = self.turns
        return twin

    def demand(self) -> None:
        """Raise RecordsOutError while the disk fails."""
        if self.failures:
            self.failures -= 1
            raise RecordsOutError("database or disk is full")

    def fail(self) -> None:
        self.failures = 5
        self.demand()

    async def load(self, run, server):
        self.demand()
        return list(self.tapes.get((run, server), ()))

    @property
    def places(self) -> list[AwayPlace]:
        return [state.place for state in self.states.values() if state.place is not None]

    async def append(self, run, server, seq, value):
        self.demand()
        tape = self.tapes.setdefault((run, server), [])
        before = self.states.get((run, server), TapeState())
        if seq != len(tape) + 1:
            raise TapeConflictError(f"{server}: entry {seq} is taken")
        if isinstance(value, PlaceTaken):
            begins = server in self.turns and before.place is None and not value.place.ahead
            turn = self.turns[server](self) if begins else None
            refusal = may_turn(turn, self.clock.now()) if turn else None
            refusal = refusal or may_begin(self.places, self.limits, value.place)
            if refusal is not None:
                raise NoPlaceError(refusal)
        self.count += 1
        if self.count == self.crash_before:
            raise Crashed
        if self.count == self.out_before:
            self.fail()
        entry = Entry(seq=seq, at=self.clock.now(), value=value)
        self.states[run, server] = advance(before, entry)
        tape.append(entry)
        if self.count == self.crash_after:
            raise Crashed
        if self.count == self.out_after:
            self.fail()
        return entry


@functools.cache
def read_issues(mirror: Path) -> tuple[Issue, ...]:
    """All that the makers publish, and the folder of packages of the one that publishes no catalog."""
    signed = [parse_catalog(path.read_bytes()) for path in sorted((mirror / "catalogs").glob("*.json"))]
    heading = Heading(maker="Pellam", catalog="folder", issue="1", issued=datetime.date(2026, 11, 1))
    issues = [dataclasses.replace(issue, signed_by="its maker's key") for issue in signed]
    return (*issues, build_catalog(mirror / "pellam", heading))


class HouseAccess:
    """Somebody settles what keeps a run out, so many seconds after it was kept; None: nobody ever does."""

    def __init__(self, house: House, settles_s: float | None = None) -> None:
        self.house, self.settles_s, self.kept = house, settles_s, {}

    def __deepcopy__(self, memo) -> HouseAccess:
        twin = HouseAccess(copy.deepcopy(self.house, memo), self.settles_s)
        twin.kept = dict(self.kept)
        return twin

    async def known(self, server):
        since = self.kept.get(server)
        gone = (self.house.clock.now() - since[0]).total_seconds() if since is not None else 0.0
        if since is not None and self.settles_s is not None and gone >= self.settles_s:
            self.house.settle(server)
            del self.kept[server]
        return KnownAccess(endpoint=self.house.endpoint(server), mark=str(self.house.settled.get(server, 0)))

    async def keep_out(self, server, error):
        self.house.demand_records()
        self.kept[server] = (self.house.clock.now(), error)

    async def settled_by(self, server):
        return "the lead"


class DemoFloor(dict[str, Hardware]):
    """The demo's servers by name, each made when it is first asked for: most nights here have one of eighty-eight."""

    def __init__(self, now: Callable[[], float]) -> None:
        super().__init__()
        self.now = now

    def __missing__(self, name: str) -> Hardware:
        (self[name],) = demo_hardware(self.now, [place for place in PLACES if place.name == name])
        return self[name]


class House:
    """Devices by name, the catalogs of the demo, and everything told to the reporter."""

    def __init__(
        self, clock: VirtualClock, devices: list[Hardware] | DemoFloor, mirror: Path, limits: AwayLimits | None = None
    ) -> None:
        self.clock, self.devices = clock, devices if isinstance(devices, dict) else {d.name: d for d in devices}
        self.mirror = mirror
        self.catalogs = Catalogs(read_issues(mirror))
        self.journal = MemoryJournal(clock, limits)
        self.orders, self.told, self.overridden, self.replies, self.troubles, self.listeners = {}, [], {}, {}, [], []
        self.packages, self.windows, self.ahead, self.unattended, self.by_disc = {}, None, False, False, False
        self.rules = FIXED_RULES
        self.desk = WorkDesk(clock.seconds)
        self.moves, self.ticks, self.remedies, self.exceptions = {}, {}, dict(USUAL), ()
        self.patience, self.disc_at_hand = Patience(), True
        self.files, self.cuts, self.known, self.settled, self.access = {}, (), {}, {}, HouseAccess(self)
        self.born()

    def born(self) -> None:
        """A new life of the engine: what was only in memory is gone."""
        self.controllers = InProcessControllers(self.devices, self.fetch, self.is_cut)
        self.site = Site()

    def twin(self) -> House:
        """The house as it is now, on a clock of its own: what an engine that dies here leaves behind, and a new one."""
        shared = (self.catalogs, self.packages, self.files, self.listeners)
        memo = {id(it): it for it in shared} | {id(self.controllers): None, id(self.site): None}
        twin = copy.deepcopy(self, memo)
        twin.born()
        return twin

    def is_cut(self) -> bool:
        """Whether the way to all controllers is down: ``cuts`` are the spans, in seconds since the start."""
        return any(begin <= (self.clock.now() - START).total_seconds() < end for begin, end in self.cuts)

    def world(self) -> World:
        return World(
            controllers=self.controllers,
            journal=self.journal,
            clock=self.clock,
            payloads=self,
            baseline=self,
            reporter=self,
            orders=self,
            helpers=self,
            access=self.access,
            remedies=self.remedies,
            exceptions=self.exceptions,
            patience=self.patience,
            site=self.site,
        )

    protocols = ("HTTPS", "HTTP")

    async def locate(self, server):
        return locate(server, self.catalogs, self.rules, self.clock.now().date())

    async def find(self, payload):
        path = self.mirror / ("pellam" if payload.maker == "Pellam" else "") / payload.path
        if not path.exists():
            raise RepositoryError("missing", payload.path, "it is not in the store")
        if path not in self.packages:
            raw = path.read_bytes()
            assert hashlib.sha256(raw).hexdigest() == payload.sha256
            self.packages[path] = parse_package(raw)
            self.files[payload.sha256] = path
        return Ready(path=path, sha256=payload.sha256, package=self.packages[path])

    def uri(self, run, server, sha256, protocol):
        return f"{protocol.lower()}://127.0.0.1/{run}/{server}/{sha256}"

    async def find_disc(self):
        if not self.disc_at_hand:
            raise RepositoryError("altered", "the disc image", "it is not what was written out")

    def disc_uri(self, run, server, protocol):
        return f"{protocol.lower()}://127.0.0.1/{run}/{server}/ordnung-run-{run}.iso"

    def fetch(self, uri: str) -> bytes:
        return self.files[uri.rsplit("/", 1)[-1]].read_bytes()

    def demand_records(self) -> None:
        """What people are told and what they order is kept where the tapes are."""
        if isinstance(self.journal, MemoryJournal):
            self.journal.demand()

    async def step(self, run, server, state, detail, percent):
        self.demand_records()
        self.told.append((server, state, detail))
        for hear in self.listeners:
            hear(server, state, detail)

    async def reading(self, run, server, pin):
        pass

    async def trouble(self, run, server, error):
        self.troubles.append((server, error))
        return f"trouble-{len(self.troubles)}"

    async def order(self, run, server):
        self.demand_records()
        return self.orders.get(server, "go")

    async def bars_reset(self, run, server):
        return bars_reset(self.windows, self.clock.now())

    async def overrides(self, run, server):
        return self.overridden.get(server, {})

    async def reply(self, run, server):
        return self.replies.get(server)

    async def helper(self, run, server, errand):
        return "" if errand.kind.is_by_hand else "the work desk"

    async def ask(self, run, server, errand, key):
        """Hands tick at once unless ``ticks`` says otherwise of a server; all else is asked of the desk, in process."""
        if errand.kind.is_by_hand:
            return self.ticks.get(server, Help(state=HelpState.DONE, by="night shift"))
        answer = self.desk.ask(key, HOOKS[errand.kind], server)
        states = {200: HelpState.DONE, 202: HelpState.PENDING, 409: HelpState.REFUSED}
        return Help(state=states.get(answer.status, HelpState.SILENT), by="the work desk", note=answer.reason)

    def endpoint(self, name: str) -> Endpoint:
        """How the house reaches it, as it was when it was first asked for, or as a person has settled it since."""
        if name not in self.known:
            self.settle(name)
        return self.known[name]

    def settle(self, name: str) -> None:
        """A person accepts what a controller shows by now, has its password changed where it wants that, and enters it."""
        device = self.devices[name]
        self.settled[name] = self.settled.get(name, 0) + 1
        if name in self.known:
            device.accounts["1"].change_required = False
        url = f"https://{(device.beside or device).name if device.is_second else name}.example"
        system = None if device.beside is None else f"/redfish/v1/Systems/{2 if device.is_second else 1}"
        self.known[name] = Endpoint(
            name=name, url=url, user=device.user, password=device.password, system=system,
            uuid=device.uuid, serial=device.serial, pin=pin_of(device),
        )  # fmt: skip

    def hand(self, name: str, run: str = "1", back=None, group: str | None = None) -> Hand:
        place = AwayPlace(server=name, groups=(group,) if group else ())
        moves = self.moves.get(name, Moves())
        return Hand(
            run=run, endpoint=self.endpoint(name), world=self.world(), place=place, back=back, moves=moves,
            by_disc=self.by_disc, order_mark=mark_of("the house", name), left_before=self.left_in(name),
        )  # fmt: skip

    def lane(self, name: str, group: str | None = None, back=None) -> RunServer:
        place = AwayPlace(server=name, groups=(group,) if group else ())
        moves = self.moves.get(name, Moves())
        return RunServer(
            endpoint=self.endpoint(name),
            place=place,
            moves=moves,
            ahead=self.ahead,
            back=back,
            unattended=self.unattended,
            by_disc=self.by_disc,
            order_mark=mark_of("the house", name),
            left_before=self.left_in(name),
        )

    def left_in(self, name: str):
        """What its earlier runs have left waiting in it, as a site keeps it."""
        runs = {
            run: state for (run, n), state in getattr(self.journal, "states", {}).items() if n == name and state.before
        }
        return runs[max(runs)].waiting if runs else ()


def demo_house(mirror: Path) -> House:
    """The whole floor of the demo."""
    clock = VirtualClock()
    return House(clock, DemoFloor(clock.seconds), mirror)


def small_mirror(folder: Path, base: str = "https://mirror.example/", share: int = 1000) -> Path:
    """The makers' mirror with payloads of that share of their size, but no less than 4 KiB."""
    makes = [dataclasses.replace(make, kilobytes=max(4, make.kilobytes // share)) for make in makers.MAKES]
    makers.write_mirror(folder, base, makes)
    return folder
