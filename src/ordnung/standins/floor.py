"""A whole floor of stand-ins in one process: listeners, the mirror, the control port, kept state."""

from __future__ import annotations

import asyncio
import contextlib
import json
import ssl
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from aiohttp import web

from ordnung.formats.siteclock import SiteClock
from ordnung.standins.certificates import Authority, make_context, open_authority, tell_certificate
from ordnung.standins.control import Control
from ordnung.standins.face import Face
from ordnung.standins.hardware import Hardware
from ordnung.standins.host_process import HostProcesses
from ordnung.standins.keeping import dump, load
from ordnung.standins.mirror import Mirror
from ordnung.standins.models import put_behind_one
from ordnung.standins.redfish import V1
from ordnung.standins.redfish.wire import spell
from ordnung.standins.ssdp import Announcer
from ordnung.standins.wire import Runner
from ordnung.standins.workdesk import Counter, WorkDesk

MIRROR_ADDRESS, DEPOT_ADDRESS, DESK_ADDRESS = "127.20.100.1", "127.20.100.3", "127.20.100.4"
DESK_SECRET = "whsec_b3JkbnVuZy1kZW1vLXdvcmstZGVzay1zZWNyZXQ="  # noqa: S105
"""For the demo's work desk only: nothing real is behind it."""
FACTORY = "factory"
"""What the certificate is called that several controllers share."""
SAVE_SECONDS = 1.0
"""How often changed hardware is written to the state file, in real seconds."""


@dataclass(frozen=True, slots=True, kw_only=True)
class FloorSettings:
    """How a floor is to be set up. Port 0 takes any free port per listener."""

    folder: Path
    port: int = 8443
    control_port: int = 0
    service_ms: float = 0.0
    keep: bool = False
    ssdp_port: int = 0
    """Where searches on the network are answered; 0: not at all."""
    host: str = ""
    """The module that plays what a server runs that was started from a disc; empty: nothing does."""


@dataclass
class Floor:
    """Starts and stops the stand-ins for a list of servers."""

    hardware: Sequence[Hardware]
    settings: FloorSettings
    clock: SiteClock
    by_name: dict[str, Hardware] = field(default_factory=dict)
    urls: dict[str, str] = field(default_factory=dict)
    mirror_url: str = ""
    depot_url: str = ""
    desk_url: str = ""
    """A second mirror of the same makers, with faults of its own."""
    control_url: str = ""

    def __post_init__(self) -> None:
        self.by_name = {device.name: device for device in self.hardware}
        self.authority: Authority = open_authority(self.settings.folder / "ca")
        self.trust = ssl.create_default_context(cafile=str(self.authority.path))
        self.face = Face(self.clock, self.trust, self.settings.service_ms)
        self.face.renew = self._put_certificate
        self.mirror = Mirror(self.settings.folder / "mirror")
        self.depot = Mirror(self.settings.folder / "mirror")
        self.desk = WorkDesk(self.clock.seconds)
        self.counter = Counter(self.desk, DESK_SECRET)
        self.contexts: dict[str, ssl.SSLContext] = {}
        folder = self.settings.folder / "hosts"
        self.hosts = HostProcesses(self.settings.host, folder, self.authority.path, self.urls)
        self.runners: list[web.AppRunner] = []
        self.saver: asyncio.Task[None] | None = None
        self.announcer: Announcer | None = None
        self.sites: dict[str, web.TCPSite] = {}
        self.ends: dict[str, tuple[str, int]] = {}
        self.state_path = self.settings.folder / "hardware.json"
        self.ports_path = self.settings.folder / "ports.json"
        self.kept_ports: dict[str, int] = {}

    async def start(self) -> None:
        """Bring every listener up.

        Raises:
            OSError: an address or port is taken or not to be had.
        """
        self._load()
        self.device_runner = await self._runner(self.face.application())
        for device in self.hardware:
            if not device.is_second:
                await self._raise(device)
        if self.settings.ssdp_port:
            self.announcer = Announcer(self.settings.ssdp_port, self._found)
            await self.announcer.start()
        mirror_runner = await self._runner(self.mirror.application())
        context = self.authority.context(MIRROR_ADDRESS, "mirror")
        port = await self._listen_again("mirror", mirror_runner, MIRROR_ADDRESS, context)
        self.mirror_url = f"https://{MIRROR_ADDRESS}:{port}/"
        depot_runner = await self._runner(self.depot.application())
        context = self.authority.context(DEPOT_ADDRESS, "depot")
        port = await self._listen_again("depot", depot_runner, DEPOT_ADDRESS, context)
        self.depot_url = f"https://{DEPOT_ADDRESS}:{port}/"
        desk_runner = await self._runner(self.counter.application())
        context = self.authority.context(DESK_ADDRESS, "desk")
        port = await self._listen_again("desk", desk_runner, DESK_ADDRESS, context)
        self.desk_url = f"https://{DESK_ADDRESS}:{port}/work"
        control = Control(self)
        control_runner = await self._runner(control.application())
        port = await self._listen(control_runner, "127.0.0.1", self.settings.control_port, None)
        self.control_url = f"http://127.0.0.1:{port}/{control.word}"
        if self.settings.host:
            self._play_hosts()
        if self.settings.keep:
            self._keep_ports()
            self.saver = asyncio.create_task(self._keep_saving())

    def _play_hosts(self) -> None:
        for device in self.hardware:
            device.host = self.hosts
            image = device.media.get("Image")
            if device.runs_disc and image is not None:
                self.hosts.start(device, str(image))

    async def _raise(self, device: Hardware) -> None:
        address = address_of(device)
        name = FACTORY if device.same_certificate else device.name
        own = device.self_signed or device.same_certificate
        path = self.authority.path_of(address, name, days=device.certificate_days, own=own)
        self.contexts[device.name], device.certificate = make_context(path), tell_certificate(path)
        device.show_certificate = self.renew_certificate
        port = await self._open_again(device, address)
        for system in (device, device.beside):
            if system is not None:
                self.urls[system.name] = f"https://{address}:{port}"
        await self.sync_line(device)

    async def _open_again(self, device: Hardware, address: str) -> int:
        """At the port it had before, where it still can be had: what a site has stored stays true."""
        kept = self.kept_ports.get(device.name, 0)
        if kept and not self.settings.port:
            with contextlib.suppress(OSError):
                return await self._open(device, address, kept)
        return await self._open(device, address, self.settings.port)

    async def _open(self, device: Hardware, address: str, port: int) -> int:
        known = len(self.device_runner.addresses)
        site = web.TCPSite(self.device_runner, address, port, ssl_context=self.contexts[device.name], backlog=128)
        await site.start()
        bound: int = self.device_runner.addresses[known][1]
        self.sites[device.name], self.ends[device.name] = site, (address, bound)
        self.face.devices[address, bound] = device
        return bound

    async def sync_line(self, device: Hardware) -> None:
        """Listen, or not, as the fault ``refused`` says."""
        site = self.sites.get(device.name)
        if device.has_fault("refused") and site is not None:
            await site.stop()
            del self.sites[device.name]
            self.face.drop_connections(device)
        elif not device.has_fault("refused") and site is None:
            await self._open(device, *self.ends[device.name])

    async def move(self, device: Hardware, address: str) -> None:
        """Give a server another address; it keeps its certificate."""
        await self.sites.pop(device.name).stop()
        self.face.drop_connections(device)
        port = await self._open(device, address, self.settings.port)
        self.urls[device.name] = f"https://{address}:{port}"

    def _found(self) -> list[tuple[str, str]]:
        found = [d for d in self.hardware if not d.is_second and not d.is_away]
        return [(d.uuid, f"{self.urls[d.name]}/redfish/v1/") for d in found]

    async def stop(self) -> None:
        """Take everything down; kept state is written a last time."""
        if self.announcer is not None:
            self.announcer.stop()
        if self.saver is not None:
            self.saver.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self.saver
            self._save(self._dump())
        self.hosts.stop_all(self.by_name)
        await self.face.close()
        for runner in self.runners:
            await runner.cleanup()

    async def _runner(self, app: web.Application) -> web.AppRunner:
        runner = Runner(app, access_log=None, shutdown_timeout=1.0)
        await runner.setup()
        self.runners.append(runner)
        return runner

    async def _listen(self, runner: web.AppRunner, address: str, port: int, context: ssl.SSLContext | None) -> int:
        known = len(runner.addresses)
        site = web.TCPSite(runner, address, port, ssl_context=context, backlog=128)
        await site.start()
        bound: int = runner.addresses[known][1]
        return bound

    async def _listen_again(self, name: str, runner: web.AppRunner, address: str, context: ssl.SSLContext) -> int:
        kept = self.kept_ports.get(name, 0)
        if kept and not self.settings.port:
            with contextlib.suppress(OSError):
                return await self._listen(runner, address, kept, context)
        return await self._listen(runner, address, self.settings.port, context)

    def _keep_ports(self) -> None:
        urls = {**self.urls, "mirror": self.mirror_url, "depot": self.depot_url, "desk": self.desk_url}
        self.ports_path.write_text(json.dumps({name: urlsplit(url).port for name, url in urls.items()}))

    def targets(self) -> list[dict[str, Any]]:
        """Name, address and credentials of every server, for announcing."""
        return [
            {
                "name": device.name,
                "url": self.urls[device.name],
                "user": device.user,
                "password": device.password,
                "rack": device.rack,
                "unit": device.unit,
                "generation": device.generation,
                "system": f"{V1}/Systems/2" if device.is_second else None,
            }
            for device in self.hardware
        ]

    def announcement(self) -> dict[str, Any]:
        """What ``--announce`` writes once everything answers."""
        return {
            "ca": str(self.authority.path),
            "control": self.control_url,
            "mirror": self.mirror_url,
            "depot": self.depot_url,
            "desk": {"url": self.desk_url, "secret": DESK_SECRET},
            "targets": self.targets(),
        }

    def renew_certificate(self, device: Hardware) -> None:
        """Give a controller another certificate, as after a factory reset."""
        path = self.authority.issue(address_of(device), device.name, own=device.self_signed)
        self.contexts[device.name].load_cert_chain(path)
        device.certificate = tell_certificate(path)
        self.face.drop_connections(device)

    def _put_certificate(self, device: Hardware, pem: str) -> None:
        """Show the certificate that a client has sent; one that is none changes nothing."""
        path = self.authority.folder / f"{device.name}.pem"
        before = path.read_bytes()
        path.write_text(pem)
        try:
            self.contexts[device.name].load_cert_chain(path)
        except ssl.SSLError:
            path.write_bytes(before)
            device.note("certificate refused")
            return
        device.certificate = tell_certificate(path)
        self.face.drop_connections(device)

    async def _keep_saving(self) -> None:
        before = b""
        while True:
            await asyncio.sleep(SAVE_SECONDS)
            now = self._dump()
            if now != before:
                self._save(now)
                before = now

    def _dump(self) -> bytes:
        for device in self.hardware:
            device.advance()
        return spell({device.name: dump(device) for device in self.hardware})

    def _save(self, state: bytes) -> None:
        temporary = self.state_path.with_suffix(".new")
        temporary.write_bytes(state)
        temporary.replace(self.state_path)

    def _load(self) -> None:
        if self.settings.keep and self.ports_path.exists():
            self.kept_ports = json.loads(self.ports_path.read_text())
        if self.settings.keep and self.state_path.exists():
            kept = json.loads(self.state_path.read_bytes())
            for device in self.hardware:
                if device.name in kept:
                    load(device, kept[device.name])
            for device in self.hardware:
                if device.beside is not None and not device.is_second:
                    put_behind_one(device, device.beside)


def address_of(device: Hardware) -> str:
    """The loopback address of a server: 127.20.rack.unit."""
    letters = {"K": 0, "S": 10, "H": 20, "X": 30}
    rack = letters[device.rack[0]] + int(device.rack[1:])
    return f"127.20.{rack}.{device.unit}"
