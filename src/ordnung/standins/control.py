"""The control port of the stand-ins: faults, logs and small mishaps, on loopback, for tests and for trying out."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from aiohttp import web

from ordnung.standins import mirror
from ordnung.standins.hardware import FAULT_KINDS, Fault, Hardware

if TYPE_CHECKING:
    from ordnung.standins.floor import Floor


class Control:
    """Plain JSON over HTTP; not part of what a device shows."""

    def __init__(self, floor: Floor) -> None:
        self.floor = floor

    def application(self) -> web.Application:
        """The aiohttp application."""
        app = web.Application()
        app.router.add_get("/servers", self._list)
        app.router.add_get("/servers/{name}/log", self._log)
        app.router.add_post("/servers/{name}/faults", self._add_fault)
        app.router.add_delete("/servers/{name}/faults", self._clear_faults)
        app.router.add_post("/servers/{name}/password", self._password)
        app.router.add_post("/servers/{name}/certificate", self._certificate)
        app.router.add_post("/mirror/faults", self._mirror_fault)
        return app

    def _device(self, request: web.Request) -> Hardware:
        device = self.floor.by_name.get(request.match_info["name"])
        if device is None:
            raise web.HTTPNotFound(text="no such server\n")
        device.advance()
        return device

    async def _list(self, _: web.Request) -> web.Response:
        return web.json_response({"servers": self.floor.targets()})

    async def _log(self, request: web.Request) -> web.Response:
        device = self._device(request)
        versions = {part.slot: part.version for part in device.parts}
        waiting = {part.slot: part.waiting for part in device.parts if part.waiting}
        dead = [part.slot for part in device.parts if part.dead]
        return web.json_response({"log": device.log, "versions": versions, "waiting": waiting, "dead": dead})

    async def _add_fault(self, request: web.Request) -> web.Response:
        device, body = self._device(request), await request.json()
        if body.get("kind") not in FAULT_KINDS:
            raise web.HTTPBadRequest(text=f"kind is one of {', '.join(FAULT_KINDS)}\n")
        device.faults.append(Fault(**body))
        return web.json_response({"faults": [fault.kind for fault in device.faults]})

    async def _clear_faults(self, request: web.Request) -> web.Response:
        self._device(request).faults.clear()
        return web.json_response({"faults": []})

    async def _password(self, request: web.Request) -> web.Response:
        device, body = self._device(request), await request.json()
        device.password = body["password"]
        device.sessions.clear()
        return web.json_response({})

    async def _certificate(self, request: web.Request) -> web.Response:
        self.floor.renew_certificate(self._device(request))
        return web.json_response({})

    async def _mirror_fault(self, request: web.Request) -> web.Response:
        body: dict[str, Any] = await request.json()
        kind = body.get("kind")
        if kind is None:
            self.floor.mirror.faults.pop(body["path"], None)
        elif kind in mirror.FAULT_KINDS:
            self.floor.mirror.faults[body["path"]] = kind
        else:
            raise web.HTTPBadRequest(text=f"kind is one of {', '.join(mirror.FAULT_KINDS)}\n")
        return web.json_response({"faults": self.floor.mirror.faults})
