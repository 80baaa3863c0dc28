"""The engine's ports over stand-in hardware in one process, on virtual time: no sockets, no waiting."""

from __future__ import annotations

import asyncio
import datetime
import hashlib
from contextlib import asynccontextmanager
from pathlib import Path
from urllib.parse import parse_qsl, urlsplit

from ordnung.controllers import ControllerError, Endpoint, LostAnswerError, Marker, Reach
from ordnung.controllers.survey import read_server
from ordnung.controllers.update import _view
from ordnung.core.baseline import locate
from ordnung.core.matching import Catalogs
from ordnung.core.rules import FIXED_RULES
from ordnung.engine.ports import Entry, Ready, TapeConflictError
from ordnung.engine.server_run import World
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.pldm import parse_package
from ordnung.repository import RepositoryError
from ordnung.standins import makers
from ordnung.standins.hardware import Hardware
from ordnung.standins.redfish import find_resource
from ordnung.standins.redfish.query import QueryError, apply_query

START = datetime.datetime(2026, 11, 23, 1, 0, tzinfo=datetime.UTC)


class Crashed(BaseException):
    """The engine dies here."""


class VirtualClock:
    """Time that passes only when someone sleeps; all sleepers wake in order."""

    def __init__(self) -> None:
        self.t = START.timestamp()

    def seconds(self) -> float:
        return self.t

    def now(self) -> datetime.datetime:
        return datetime.datetime.fromtimestamp(self.t, datetime.UTC)

    async def sleep(self, seconds: float) -> None:
        self.t += seconds
        await asyncio.sleep(0)


class MemoryJournal:
    """Tapes in memory. ``crash_at`` kills the engine just before or after the n-th append."""

    def __init__(self, clock: VirtualClock) -> None:
        self.clock, self.tapes = clock, {}
        self.count, self.crash_before, self.crash_after = 0, None, None

    async def load(self, run, server):
        return list(self.tapes.get((run, server), ()))

    async def append(self, run, server, seq, kind, body):
        self.count += 1
        if self.count == self.crash_before:
            raise Crashed
        tape = self.tapes.setdefault((run, server), [])
        if seq != len(tape) + 1:
            raise TapeConflictError(f"{server}: entry {seq} is taken")
        entry = Entry(seq=seq, at=self.clock.now(), kind=kind, body=body)
        tape.append(entry)
        if self.count == self.crash_after:
            raise Crashed
        return entry


class Line:
    """What ``read_server`` needs of a session, answered by the resources of the stand-in directly."""

    def __init__(self, device: Hardware) -> None:
        self.device = device

    def _check(self) -> None:
        if self.device.is_away:
            raise ControllerError(self.device.name, "unreachable", "the connection died")

    def bears_more(self):
        pass

    async def get(self, path):
        self._check()
        at, _, query = path.partition("?")
        found = find_resource(self.device, at.rstrip("/"))
        try:
            return apply_query(self.device, found, dict(parse_qsl(query))) if found and query else found
        except QueryError as error:
            cause = "said no" if error.status < 500 or error.status == 501 else "malformed answer"
            raise ControllerError(self.device.name, cause, error.key) from None

    async def find(self, path):
        return None if path is None else await self.get(path)

    async def members(self, path):
        collection = await self.find(path)
        return [m["@odata.id"] for m in collection["Members"]] if collection else []


class InProcess:
    """A controller port over one stand-in."""

    pin = "00" * 32

    def __init__(self, device: Hardware) -> None:
        self.device, self.line = device, Line(device)

    async def read(self, now):
        return await read_server(self.line, self.device.name, now)

    async def reach(self):
        self.line._check()
        return Reach(push_uri="/push", pull_target=None, pulls=())

    async def pull(self, reach, slot, uri):
        raise AssertionError("this port only pushes")

    async def push(self, reach, slot, image: Path):
        self.line._check()
        body = '{"Targets": ["/redfish/v1/UpdateService/FirmwareInventory/' + slot + '"]}'
        task = self.device.open_task([slot], {"JsonBody": body})
        self.device.receive_image(task, image.read_bytes())
        self._maybe_lose("update")
        return f"/redfish/v1/TaskService/Tasks/{task.id}"

    async def task(self, path):
        self.line._check()
        self.device.advance()
        found = find_resource(self.device, path)
        return None if found is None else _view(path, found)

    async def tasks(self):
        self.line._check()
        self.device.advance()
        paths = [f"/redfish/v1/TaskService/Tasks/{task.id}" for task in self.device.tasks]
        return [_view(path, await self.line.get(path)) for path in paths]

    async def reset(self, kind):
        self.line._check()
        {
            "controller restart": self.device.restart_controller,
            "server reboot": self.device.reboot,
            "power cycle": self.device.power_cycle,
        }[kind]()
        self._maybe_lose("reset")

    def _maybe_lose(self, on):
        if self.device.take_fault("answer lost", on=on):
            raise LostAnswerError(self.device.name, "unreachable", "the answer was lost")

    async def marker(self):
        system = await self.line.get("/redfish/v1/Systems/1")
        manager = await self.line.get("/redfish/v1/Managers/1")
        return Marker(
            system=system["LastResetTime"],
            controller=manager["LastResetTime"],
            boot=system["BootProgress"]["LastState"],
        )


class House:
    """Devices by name, the catalogs of the demo, and everything told to the reporter."""

    def __init__(self, clock: VirtualClock, devices: list[Hardware], mirror: Path) -> None:
        self.clock, self.devices = clock, {d.name: d for d in devices}
        self.mirror = mirror
        self.catalogs = Catalogs(
            tuple(parse_catalog(p.read_bytes()) for p in sorted((mirror / "catalogs").glob("*.json")))
        )
        self.products = {p.id: p for p in self.catalogs.products()}
        self.journal = MemoryJournal(clock)
        self.orders, self.told = {}, []
        self.packages = {}

    def world(self) -> World:
        return World(
            controllers=self,
            journal=self.journal,
            clock=self.clock,
            payloads=self,
            baseline=self,
            reporter=self,
            orders=self,
        )

    @asynccontextmanager
    async def open(self, endpoint: Endpoint):
        device = self.devices[endpoint.name]
        if device.is_away:
            raise ControllerError(endpoint.name, "refused", "the connection was refused")
        yield InProcess(device)

    protocols = ("HTTPS",)

    async def locate(self, server):
        return locate(server, self.catalogs, FIXED_RULES, self.clock.now().date())

    async def find(self, product, version):
        payload = self.products[product].find(version).payload
        path = self.mirror / payload.path
        if not path.exists():
            raise RepositoryError("missing", payload.path, "it is not in the store")
        if path not in self.packages:
            raw = path.read_bytes()
            assert hashlib.sha256(raw).hexdigest() == payload.sha256
            self.packages[path] = parse_package(raw)
        return Ready(path=path, sha256=payload.sha256, package=self.packages[path])

    def uri(self, run, server, sha256, protocol):
        return urlsplit(f"https://127.0.0.1/{run}/{sha256}").geturl()

    async def step(self, run, server, state, detail, percent):
        self.told.append((server, state, detail))

    async def reading(self, run, server, pin):
        pass

    async def ended(self, run, server, state, reason):
        self.told.append((server, state, reason))

    async def order(self, run, server):
        return self.orders.get(server, "go")


def endpoint(name: str) -> Endpoint:
    return Endpoint(name=name, url="https://127.0.0.1", user="u", password="p")


def small_mirror(folder: Path) -> Path:
    """The makers' mirror with payloads a hundredth of their size."""
    import dataclasses

    makes = tuple(dataclasses.replace(make, kilobytes=4) for make in makers.MAKES)
    old = makers.ISSUES
    small = {make.id: make for make in makes}
    makers.ISSUES = tuple((*issue[:5], tuple(small[m.id] for m in issue[5])) for issue in old)
    try:
        makers.write_mirror(folder, "https://mirror.example/", makes)
    finally:
        makers.ISSUES = old
    return folder
