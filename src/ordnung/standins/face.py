"""The HTTPS face of the stand-ins: any number of servers in one process.

One application serves all listeners; which server is meant follows from the local address. What is
answered is ``redfish.Service``'s business; here are the wire, its faults, and what needs a network.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import ssl
from collections.abc import Callable
from typing import Any

import aiohttp
from aiohttp import web

from ordnung.formats.siteclock import SiteClock
from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Task
from ordnung.standins.redfish import Reply, Request, Service

MAX_IMAGE = 64 * 1024 * 1024
FETCH_TIMEOUT_S = 120.0
DYING_S = 0.05
"""Real seconds between the answer to a restart and the end of all connections."""
_BROKEN: dict[str, tuple[bytes, str]] = {
    "text": (b"<html>starting</html>", "text/html"),
    "cut": (b'{"@odata.id": "/redfish/v1/", "Name": "Ro', "application/json"),
    "deep": (b'{"a":' + b"[" * 100_000 + b"]" * 100_000 + b"}", "application/json"),
    "list": (b"[1, 2, 3]", "application/json"),
    "huge": (b'{"a": "' + b"x" * (8 * 1024 * 1024) + b'"}', "application/json"),
}
"""What a broken or hostile controller answers, by the fault's ``on``."""


class Face:
    """Answers Redfish requests for the hardware behind each local address."""

    def __init__(self, clock: SiteClock, trust: ssl.SSLContext, service_ms: float = 0.0) -> None:
        self.clock, self.trust, self.service_ms = clock, trust, service_ms
        self.service = Service()
        self.devices: dict[tuple[str, int], Hardware] = {}
        self.connections: dict[str, set[asyncio.Transport]] = {}
        self.errands: set[asyncio.Task[None]] = set()
        self.renew: Callable[[Hardware, str], None] | None = None
        """Puts another certificate on a server's listener."""
        self.requests: dict[str, int] = {}
        """How often each server was asked: for measuring."""

    def application(self) -> web.Application:
        """The aiohttp application that all listeners share."""
        app = web.Application(client_max_size=MAX_IMAGE + 1024 * 1024)
        app.router.add_route("*", "/{path:.*}", self._serve)
        return app

    async def close(self) -> None:
        """End pulls and deliveries under way."""
        for errand in self.errands:
            errand.cancel()
        await asyncio.gather(*self.errands, return_exceptions=True)

    def drop_connections(self, device: Hardware) -> None:
        """Cut every open connection to a server, as a restart does."""
        for transport in self.connections.pop(device.name, set()):
            if not transport.is_closing():  # in Debian's Python, TLS that is closed already can not be cut off
                transport.abort()

    async def _serve(self, request: web.Request) -> web.StreamResponse:
        transport = request.transport
        if transport is None:
            raise web.HTTPBadRequest
        device = self.devices[transport.get_extra_info("sockname")[:2]]
        open_now = self.connections.setdefault(device.name, set())
        open_now.add(transport)
        self.connections[device.name] = {t for t in open_now if not t.is_closing()} if len(open_now) > 16 else open_now
        self.requests[device.name] = self.requests.get(device.name, 0) + 1
        if device.is_away or device.has_fault("reset"):
            self.drop_connections(device)
            return web.Response(status=503)
        if device.faults and (broken := await self._suffer(device)) is not None:
            return broken
        if self.service_ms:
            await asyncio.sleep(self.service_ms / 1000)
        reply = self.service.answer(device, await _read(request))
        return await self._answer(request, device, reply)

    async def _suffer(self, device: Hardware) -> web.Response | None:
        """The faults of the line."""
        for fault in list(device.faults):
            if fault.kind == "slow":
                await asyncio.sleep(fault.seconds)
            elif fault.kind == "malformed":
                raw, kind = _BROKEN[fault.on or "text"]
                return web.Response(body=raw, content_type=kind)
            elif fault.kind == "not Redfish":
                return web.Response(text="<h1>It works</h1>", content_type="text/html", status=404)
            elif fault.kind == "password changed":
                fault.seconds -= 1
                if fault.seconds <= 0:
                    device.faults.remove(fault)
                    device.password = "changed-half-way"  # noqa: S105  # a stand-in's
                    device.sessions.clear()
        return None

    async def _answer(self, request: web.Request, device: Hardware, reply: Reply) -> web.StreamResponse:
        if reply.pull is not None:
            self._run(self._fetch(reply.device or device, *reply.pull))
        for destination, event in reply.send:
            self._run(self._deliver(device, destination, event))
        if reply.restarts:  # the answer still goes out, then the controller dies
            asyncio.get_running_loop().call_later(DYING_S, self.drop_connections, device)
        if reply.renews is not None and self.renew is not None:
            asyncio.get_running_loop().call_later(DYING_S, self.renew, device, reply.renews)
        if reply.lost and request.transport is not None:
            request.transport.abort()
        if reply.stream:
            return await self._stream(request, device)
        return web.Response(status=reply.status, headers=reply.headers, body=reply.body)

    async def _stream(self, request: web.Request, device: Hardware) -> web.StreamResponse:
        """Server-sent events: those that come from now on; the subscription vanishes with the connection."""
        response = web.StreamResponse(headers={"Content-Type": "text/event-stream", "Cache-Control": "no-cache"})
        await response.prepare(request)
        number, sent = f"sse-{id(request)}", len(device.events)
        device.subscriptions[number] = {
            "Name": "Stream",
            "SubscriptionType": "SSE",
            "Protocol": "Redfish",
            "Context": "",
            "EventFormatType": "Event",
        }
        try:
            while number in device.subscriptions and not _is_gone(request):
                for event in device.events[sent:]:
                    await response.write(f"id: {event['Id']}\ndata: {json.dumps(event)}\n\n".encode())
                sent = len(device.events)
                await asyncio.sleep(0.1)
        except (ConnectionError, asyncio.CancelledError):
            pass
        finally:
            device.subscriptions.pop(number, None)
        return response

    def _run(self, errand: Any) -> None:
        task: asyncio.Task[None] = asyncio.create_task(errand)
        self.errands.add(task)
        task.add_done_callback(self.errands.discard)

    async def _fetch(self, device: Hardware, task: Task, uri: str) -> None:
        try:
            raw = await self._download(device, uri)
        except (aiohttp.ClientError, TimeoutError, OSError, ValueError) as error:
            why = f"{error if isinstance(error, ValueError) else type(error).__name__} while fetching"
            device.fail_task(task, "Update.1.0.TransferFailed", ["image", ", ".join(task.slots)], why)
            return
        device.receive_image(task, raw)

    async def _download(self, device: Hardware, uri: str) -> bytes:
        if uri.startswith("https:") and abs(device.skew) > 86400 * 365:
            raise ValueError("by this clock the certificate is not valid")
        if device.take_fault("link cut"):
            raise ValueError("the line broke")
        timeout = aiohttp.ClientTimeout(total=FETCH_TIMEOUT_S)
        async with aiohttp.ClientSession(timeout=timeout) as session, session.get(uri, ssl=self.trust) as answer:
            answer.raise_for_status()
            raw = await answer.content.read(MAX_IMAGE)
            return raw + await answer.content.read()

    async def _deliver(self, device: Hardware, destination: str, event: dict[str, Any]) -> None:
        """Send an event to a subscriber, verified as a pull is."""
        if destination.startswith("https:") and (abs(device.skew) > 86400 * 365 or device.generation != "newest"):
            device.note("event lost", destination=destination)
            return
        try:
            timeout = aiohttp.ClientTimeout(total=10)
            async with (
                aiohttp.ClientSession(timeout=timeout) as session,
                session.post(destination, json=event, ssl=self.trust) as answer,
            ):
                device.note("event sent", status=answer.status)
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            device.note("event lost", destination=destination, why=type(error).__name__)


def _is_gone(request: web.Request) -> bool:
    """Whether the one who asked has hung up."""
    return request.transport is None or request.transport.is_closing()


async def _read(request: web.Request) -> Request:
    parts: dict[str, bytes] | None = None
    body = b""
    if request.content_type.startswith("multipart/"):
        parts = {}
        with contextlib.suppress(ValueError):  # a body that is none: no parts
            async for part in await request.multipart():
                if isinstance(part, aiohttp.BodyPartReader) and part.name:
                    parts[part.name] = bytes(await part.read())
    elif request.can_read_body:
        body = await request.read()
    headers = {name.lower(): value for name, value in request.headers.items()}
    query = dict(request.query)
    return Request(method=request.method, path=request.path, query=query, headers=headers, body=body, parts=parts)
