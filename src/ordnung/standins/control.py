"""The control port of the stand-ins: faults, logs and small mishaps, on loopback, for tests and for trying out."""

from __future__ import annotations

import secrets
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, Any

from aiohttp import web

from ordnung.standins import mirror, resets
from ordnung.standins.faults import FAULTS, QUIRKS, Fault, random_faults
from ordnung.standins.hardware import Hardware
from ordnung.standins.workdesk import DESK_FAULTS, DeskFault

if TYPE_CHECKING:
    from ordnung.standins.floor import Floor

Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


@web.middleware
async def _only_by_address(request: web.Request, handler: Handler) -> web.StreamResponse:
    """A page of somewhere else, sent here by a name that leads to loopback, is no caller of ours."""
    host = request.host.rpartition(":")[0] or request.host
    if host not in ("127.0.0.1", "localhost", "[::1]"):
        raise web.HTTPForbidden(text="this port is asked by its address\n")
    return await handler(request)


class Control:
    """Plain JSON over HTTP; not part of what a device shows.

    Its address carries a word that only those know to whom it was announced: everything else is not there.
    """

    def __init__(self, floor: Floor) -> None:
        self.floor, self.word = floor, secrets.token_urlsafe(18)

    def application(self) -> web.Application:
        """The aiohttp application."""
        whole = web.Application(middlewares=[_only_by_address])
        whole.add_subapp(f"/{self.word}/", self._routes())
        return whole

    def _routes(self) -> web.Application:
        app = web.Application()
        app.router.add_get("/servers", self._list)
        app.router.add_get("/servers/{name}/log", self._log)
        app.router.add_post("/servers/{name}/faults", self._add_fault)
        app.router.add_delete("/servers/{name}/faults", self._clear_faults)
        app.router.add_post("/servers/{name}/power-cut", self._cut_power)
        app.router.add_post("/servers/{name}/quirks", self._set_quirks)
        app.router.add_post("/servers/{name}/move", self._move)
        app.router.add_get("/faults", self._kinds)
        app.router.add_post("/faults/random", self._random)
        app.router.add_post("/servers/{name}/password", self._password)
        app.router.add_post("/servers/{name}/certificate", self._certificate)
        app.router.add_post("/mirror/faults", self._mirror_fault)
        app.router.add_get("/desk", self._desk)
        app.router.add_post("/desk/faults", self._desk_fault)
        app.router.add_delete("/desk/faults", self._desk_well)
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

    async def _kinds(self, _: web.Request) -> web.Response:
        return web.json_response({"faults": FAULTS, "quirks": QUIRKS})

    async def _add_fault(self, request: web.Request) -> web.Response:
        device, body = self._device(request), await request.json()
        try:
            device.faults.append(Fault(**body))
        except (TypeError, ValueError) as error:
            raise web.HTTPBadRequest(text=f"{error}\n") from None
        return await self._changed(device)

    async def _clear_faults(self, request: web.Request) -> web.Response:
        device, kind = self._device(request), request.query.get("kind")
        device.faults = [fault for fault in device.faults if kind and fault.kind != kind]
        return await self._changed(device)

    async def _changed(self, device: Hardware) -> web.Response:
        await self.floor.sync_line(device)
        return web.json_response({"faults": [fault.kind for fault in device.faults]})

    async def _random(self, request: web.Request) -> web.Response:
        body = await request.json()
        given: dict[str, list[str]] = {}
        for number, device in enumerate(self.floor.hardware):
            faults = random_faults(int(body["seed"]) * 10_000 + number, int(body.get("count", 1)))
            device.faults += faults
            given[device.name] = [fault.kind for fault in faults]
        return web.json_response({"faults": given})

    async def _cut_power(self, request: web.Request) -> web.Response:
        device = self._device(request)
        resets.cut_power(device)
        self.floor.face.drop_connections(device)
        return web.json_response({})

    async def _set_quirks(self, request: web.Request) -> web.Response:
        device, body = self._device(request), await request.json()
        unknown = sorted(set(body["quirks"]) - set(QUIRKS))
        if unknown:
            raise web.HTTPBadRequest(text=f"no such quirk: {unknown[0]}\n")
        device.quirks = frozenset(body["quirks"])
        return web.json_response({"quirks": sorted(device.quirks)})

    async def _move(self, request: web.Request) -> web.Response:
        device, body = self._device(request), await request.json()
        if not str(body["address"]).startswith("127."):
            raise web.HTTPBadRequest(text="stand-ins stay on loopback\n")
        await self.floor.move(device, str(body["address"]))
        return web.json_response({"url": self.floor.urls[device.name]})

    async def _password(self, request: web.Request) -> web.Response:
        device, body = self._device(request), await request.json()
        device.password = body["password"]
        device.sessions.clear()
        return web.json_response({})

    async def _certificate(self, request: web.Request) -> web.Response:
        self.floor.renew_certificate(self._device(request))
        return web.json_response({})

    async def _desk(self, _: web.Request) -> web.Response:
        counter = self.floor.counter
        return web.json_response({"log": counter.desk.log, "where": counter.desk.where, "calls": counter.calls})

    async def _desk_fault(self, request: web.Request) -> web.Response:
        body = await request.json()
        if body.get("kind") not in DESK_FAULTS:
            raise web.HTTPBadRequest(text=f"kind is one of {', '.join(DESK_FAULTS)}\n")
        self.floor.desk.faults.append(DeskFault(**body))
        return web.json_response({"faults": [fault.kind for fault in self.floor.desk.faults]})

    async def _desk_well(self, _: web.Request) -> web.Response:
        self.floor.desk.faults.clear()
        return web.json_response({"faults": []})

    async def _mirror_fault(self, request: web.Request) -> web.Response:
        body: dict[str, Any] = await request.json()
        kind = body.get("kind")
        faults = (self.floor.depot if body.get("mirror") == "depot" else self.floor.mirror).faults
        if kind is None:
            faults.pop(body["path"], None)
        elif kind in mirror.FAULT_KINDS:
            faults[body["path"]] = kind
        else:
            raise web.HTTPBadRequest(text=f"kind is one of {', '.join(mirror.FAULT_KINDS)}\n")
        return web.json_response({"faults": faults})
