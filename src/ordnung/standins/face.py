"""The HTTPS face of the stand-ins: Redfish as DSP0266 says, for any number of servers in one process.

One application serves all listeners; which server is meant follows from the local address.
"""

from __future__ import annotations

import asyncio
import base64
import binascii
import hashlib
import json
import ssl
from collections.abc import Awaitable, Callable
from typing import Any

import aiohttp
from aiohttp import web

from ordnung.formats.siteclock import SiteClock
from ordnung.standins.hardware import Hardware, Task
from ordnung.standins.resources import (
    CHASSIS_RESET,
    MANAGER_RESET,
    PULL_PROTOCOLS,
    PUSH_URI,
    SYSTEM_RESET,
    UPDATE_ACTION,
    V1,
    find_nested,
    find_resource,
    task_resource,
)

MAX_IMAGE = 64 * 1024 * 1024
FETCH_TIMEOUT_S = 120.0
DYING_S = 0.05
"""Real seconds between the answer to a restart and the end of all connections."""
_METADATA = (
    '<?xml version="1.0" encoding="UTF-8"?><edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" '
    'Version="4.0"><edmx:DataServices/></edmx:Edmx>'
)
Handler = Callable[[web.Request, Hardware], Awaitable[web.StreamResponse]]


class Face:
    """Answers Redfish requests for the hardware behind each local address."""

    def __init__(self, clock: SiteClock, trust: ssl.SSLContext, service_ms: float = 0.0) -> None:
        self.clock, self.trust, self.service_ms = clock, trust, service_ms
        self.devices: dict[tuple[str, int], Hardware] = {}
        self.connections: dict[str, set[asyncio.Transport]] = {}
        self.pulls: set[asyncio.Task[None]] = set()
        self.posts: dict[str, Handler] = {
            f"{V1}/SessionService/Sessions": self._sign_in,
            f"{V1}/SessionService/Sessions/Members": self._sign_in,
            UPDATE_ACTION: self._pull,
            PUSH_URI: self._push,
            SYSTEM_RESET: self._reset_system,
            CHASSIS_RESET: self._reset_chassis,
            MANAGER_RESET: self._reset_manager,
        }

    def application(self) -> web.Application:
        """The aiohttp application that all listeners share."""
        app = web.Application(client_max_size=MAX_IMAGE + 1024 * 1024)
        app.router.add_route("*", "/{path:.*}", self._serve)
        return app

    async def close(self) -> None:
        """End pulls under way."""
        for pull in self.pulls:
            pull.cancel()
        await asyncio.gather(*self.pulls, return_exceptions=True)

    def drop_connections(self, device: Hardware) -> None:
        """Cut every open connection to a server, as a restart does."""
        for transport in self.connections.pop(device.name, set()):
            transport.abort()

    async def _serve(self, request: web.Request) -> web.StreamResponse:
        transport = request.transport
        if transport is None:
            raise web.HTTPBadRequest
        device = self.devices[transport.get_extra_info("sockname")[:2]]
        self.connections.setdefault(device.name, set()).add(transport)
        if device.is_away:
            self.drop_connections(device)
            return web.Response(status=503)
        if self.service_ms:
            await asyncio.sleep(self.service_ms / 1000)
        return await self._answer(request, device)

    async def _answer(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        path = request.path.rstrip("/") or "/"
        if path == "/redfish":
            return _json({"v1": f"{V1}/"})
        if path == f"{V1}/odata":
            names = ("Systems", "Chassis", "Managers", "UpdateService", "TaskService", "SessionService")
            value = [{"name": n, "kind": "Singleton", "url": f"{V1}/{n}"} for n in names]
            return _json({"@odata.context": f"{V1}/$metadata", "value": value})
        if path == f"{V1}/$metadata":
            return web.Response(text=_METADATA, content_type="application/xml", headers=_HEADERS)
        if request.headers.get("OData-Version", "4.0") != "4.0":
            return _error(412, "PreconditionFailed", "Only OData-Version 4.0 is spoken here.")
        signs_in = request.method == "POST" and path.startswith(f"{V1}/SessionService/Sessions")
        if path != V1 and not signs_in and not self._is_signed_in(request, device):
            response = _error(401, "NoValidSession", "No valid session or credentials were given.")
            response.headers["WWW-Authenticate"] = f'Basic realm="{device.serial}"'
            return response
        return await self._route(request, device, path)

    async def _route(self, request: web.Request, device: Hardware, path: str) -> web.StreamResponse:
        if request.method in ("GET", "HEAD"):
            return self._get(request, device, path)
        if request.method == "POST" and path in self.posts:
            return await self.posts[path](request, device)
        if request.method == "DELETE" and path.startswith(f"{V1}/SessionService/Sessions/"):
            return self._sign_out(device, path.rsplit("/", 1)[-1])
        if self._find(device, path) is None and path not in self.posts:
            return _error(404, "ResourceMissingAtURI", f"There is nothing at {path}.")
        response = _error(405, "OperationNotAllowed", f"{request.method} is not allowed here.")
        response.headers["Allow"] = "POST" if path in self.posts else "GET, HEAD"
        return response

    def _find(self, device: Hardware, path: str) -> dict[str, Any] | None:
        return find_resource(device, path) or find_nested(device, path)

    def _get(self, request: web.Request, device: Hardware, path: str) -> web.StreamResponse:
        if path.startswith(f"{V1}/TaskMonitors/"):
            return self._monitor(device, path.rsplit("/", 1)[-1])
        if any(name.startswith("$") for name in request.query):
            return _error(501, "QueryNotSupported", "Query parameters that begin with $ are not supported.")
        resource = self._find(device, path)
        if resource is None:
            return _error(404, "ResourceMissingAtURI", f"There is nothing at {path}.")
        response = _json(resource)
        kind = resource["@odata.type"].lstrip("#").rsplit(".", 1)[0]
        response.headers["Link"] = f"<https://redfish.dmtf.org/schemas/v1/{kind}.json>; rel=describedby"
        response.headers["Allow"] = "GET, HEAD"
        assert response.body is not None
        body = response.body if isinstance(response.body, bytes) else b""
        response.headers["ETag"] = f'"{hashlib.sha256(body).hexdigest()[:16]}"'
        if request.headers.get("If-None-Match") == response.headers["ETag"]:
            return web.Response(status=304, headers=_HEADERS)
        return response

    def _is_signed_in(self, request: web.Request, device: Hardware) -> bool:
        token = request.headers.get("X-Auth-Token")
        if token is not None:
            return token in device.sessions
        scheme, _, value = request.headers.get("Authorization", "").partition(" ")
        if scheme.lower() != "basic":
            return False
        try:
            user, _, password = base64.b64decode(value, validate=True).decode().partition(":")
        except (binascii.Error, UnicodeDecodeError):
            return False
        return device.check_password(user, password)

    async def _sign_in(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        body = await _body(request)
        signed = device.sign_in(str(body.get("UserName", "")), str(body.get("Password", "")))
        if signed is None:
            response = _error(401, "ResourceAtUriUnauthorized", "The user name or the password is wrong.")
            response.headers["WWW-Authenticate"] = f'Basic realm="{device.serial}"'
            return response
        number, token = signed
        path = f"{V1}/SessionService/Sessions/{number}"
        response = _json(find_resource(device, path) or {}, status=201)
        response.headers.update({"X-Auth-Token": token, "Location": path})
        return response

    def _sign_out(self, device: Hardware, number: str) -> web.StreamResponse:
        for token, name in list(device.sessions.items()):
            if name == number:
                del device.sessions[token]
                return web.Response(status=204, headers=_HEADERS)
        return _error(404, "ResourceMissingAtURI", f"There is no session {number}.")

    def _monitor(self, device: Hardware, number: str) -> web.StreamResponse:
        device.advance()
        task = next((task for task in device.tasks if task.id == number), None)
        if task is None:
            return _error(404, "ResourceMissingAtURI", f"There is no task {number}.")
        return _json(task_resource(task), status=202 if task.state == "Running" else 200)

    # Updates

    def _targets(self, device: Hardware, body: dict[str, Any]) -> list[str] | None:
        targets = body.get("Targets") or []
        slots = [str(target).rsplit("/", 1)[-1] for target in targets]
        return slots if slots and all(device.part(slot) for slot in slots) else None

    def _open(self, request: web.Request, device: Hardware, body: dict[str, Any]) -> Task | web.Response:
        slots = self._targets(device, body)
        if slots is None:
            return _error(400, "ActionParameterValueNotInList", "Targets names no component of this server.")
        if device.running_task() is not None:
            response = _error(503, "ServiceTemporarilyUnavailable", "A write is under way.")
            response.headers["Retry-After"] = "30"
            return response
        shown = {"HttpOperation": "POST", "TargetUri": request.path, "JsonBody": json.dumps(body)}
        return device.open_task(slots, shown)

    async def _pull(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        body = await _body(request)
        uri = str(body.get("ImageURI", ""))
        allowed = PULL_PROTOCOLS.get(device.generation, [])
        if uri.partition(":")[0].upper() not in allowed:
            told = ", ".join(allowed) or "nothing"
            return _error(400, "ActionParameterValueNotInList", f"This controller pulls over {told}.")
        task = self._open(request, device, body)
        if isinstance(task, web.Response):
            return task
        pull = asyncio.create_task(self._fetch(device, task, uri))
        self.pulls.add(pull)
        pull.add_done_callback(self.pulls.discard)
        return self._accepted(request, device, task)

    async def _fetch(self, device: Hardware, task: Task, uri: str) -> None:
        timeout = aiohttp.ClientTimeout(total=FETCH_TIMEOUT_S)
        try:
            async with (
                aiohttp.ClientSession(timeout=timeout) as session,
                session.get(uri, ssl=self.trust) as answer,
            ):
                answer.raise_for_status()
                raw = await answer.content.read(MAX_IMAGE)
                raw += await answer.content.read()
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            why = f"{type(error).__name__} while fetching"
            device.fail_task(task, "Update.1.0.TransferFailed", ["image", ", ".join(task.slots)], why)
            return
        device.receive_image(task, raw)

    async def _push(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        if not request.content_type.startswith("multipart/"):
            return _error(415, "MalformedRequest", "A multipart/form-data body is wanted.")
        body: dict[str, Any] | None = None
        image: bytes | None = None
        reader = await request.multipart()
        async for part in reader:
            if not isinstance(part, aiohttp.BodyPartReader):
                return _error(400, "MalformedRequest", "Parts may not nest.")
            if part.name == "UpdateParameters":
                body = json.loads(await part.read())
            elif part.name == "UpdateFile":
                image = bytes(await part.read())
        if body is None or image is None:
            return _error(400, "ActionParameterMissing", "UpdateParameters and UpdateFile are both needed.")
        task = self._open(request, device, body)
        if isinstance(task, web.Response):
            return task
        device.receive_image(task, image)
        return self._accepted(request, device, task)

    def _accepted(self, request: web.Request, device: Hardware, task: Task) -> web.StreamResponse:
        self._maybe_lose(request, device, "update")
        response = _json(task_resource(task), status=202)
        response.headers["Location"] = f"{V1}/TaskMonitors/{task.id}"
        return response

    # Resets

    async def _reset_system(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        return await self._reset(request, device, ("GracefulRestart", "ForceRestart"), device.reboot)

    async def _reset_chassis(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        return await self._reset(request, device, ("PowerCycle",), device.power_cycle)

    async def _reset_manager(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        return await self._reset(request, device, ("GracefulRestart", "ForceRestart"), device.restart_controller)

    async def _reset(
        self, request: web.Request, device: Hardware, allowed: tuple[str, ...], act: Callable[[], None]
    ) -> web.StreamResponse:
        body = await _body(request)
        if body.get("ResetType") not in allowed:
            return _error(400, "ActionParameterValueNotInList", f"ResetType is one of {', '.join(allowed)}.")
        act()
        if device.is_away:  # the answer still goes out, then the controller dies
            asyncio.get_running_loop().call_later(DYING_S, self.drop_connections, device)
        self._maybe_lose(request, device, "reset")
        return web.Response(status=204, headers=_HEADERS)

    def _maybe_lose(self, request: web.Request, device: Hardware, on: str) -> None:
        if device.take_fault("answer lost", on=on) and request.transport is not None:
            device.note("answer lost", on=on)
            request.transport.abort()


_HEADERS = {"OData-Version": "4.0", "Cache-Control": "no-cache"}


def _json(value: dict[str, Any], status: int = 200) -> web.Response:
    return web.Response(
        body=json.dumps(value).encode(),
        status=status,
        content_type="application/json",
        charset="utf-8",
        headers=_HEADERS,
    )


def _error(status: int, key: str, message: str) -> web.Response:
    info = {
        "@odata.type": "#Message.v1_1_2.Message",
        "MessageId": f"Base.1.18.{key}",
        "Message": message,
        "MessageSeverity": "Critical",
        "Resolution": "Correct the request.",
    }
    error = {"code": f"Base.1.18.{key}", "message": message, "@Message.ExtendedInfo": [info]}
    return _json({"error": error}, status)


async def _body(request: web.Request) -> dict[str, Any]:
    try:
        body = await request.json()
    except (ValueError, UnicodeDecodeError):
        return {}
    return body if isinstance(body, dict) else {}
