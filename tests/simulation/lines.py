"""The real client over stand-in hardware in one process: requests go to the stand-in's service without a socket."""

from __future__ import annotations

import json
from collections.abc import Callable
from contextlib import asynccontextmanager
from urllib.parse import parse_qsl

import aiohttp

from ordnung.controllers import ControllerError, Endpoint, Limits, LostAnswerError, RedfishController
from ordnung.controllers.answers import Answer, parse_body
from ordnung.controllers.controller import ENDS_SESSION
from ordnung.controllers.session import Session
from ordnung.standins.hardware import Hardware
from ordnung.standins.redfish import Request, Service

SERVICE = Service()


class InProcessLine:
    """What ``HttpLine`` is over HTTPS. ``fetch`` gives a device the bytes behind a URI it was told to pull.

    ``is_cut``: whether the way to all controllers is down just now.
    """

    limits = Limits()

    def __init__(
        self, device: Hardware, endpoint: Endpoint, fetch: Callable[[str], bytes] | None = None,
        is_cut: Callable[[], bool] = lambda: False,
    ) -> None:  # fmt: skip
        self.device, self.endpoint, self.fetch, self.is_cut = device, endpoint, fetch, is_cut
        self.pin = endpoint.pin or pin_of(device)

    async def ask(self, method, path, headers, body=None, *, acted=False) -> Answer:
        if self.is_cut():
            raise ControllerError(self.endpoint.name, "unreachable", "no route to host")
        if self.device.is_away:
            raise ControllerError(self.endpoint.name, "refused", "the connection was refused")
        if pin_of(self.device) != self.pin:
            detail = f"it showed {pin_of(self.device)[-4:]}, known was {self.pin[-4:]}"
            raise ControllerError(self.endpoint.name, "certificate changed", detail, seen=pin_of(self.device))
        at, _, query = path.partition("?")
        raw, parts = _spell(body)
        told = {name.lower(): value for name, value in headers.items()}
        request = Request(method=method, path=at, query=dict(parse_qsl(query)), headers=told, body=raw, parts=parts)
        reply = SERVICE.answer(self.device, request)
        if reply.pull is not None:
            self._pull(reply.device or self.device, *reply.pull)
        if reply.lost:
            raise LostAnswerError(self.endpoint.name, "unreachable", "the answer was lost")
        return Answer(
            reply.status, {k.lower(): v for k, v in reply.headers.items()}, parse_body(reply.body, reply.status)
        )

    def _pull(self, device: Hardware, task, uri: str) -> None:
        where = ["image", ", ".join(task.slots)]
        if device.take_fault("link cut") or self.fetch is None:
            device.fail_task(task, "Update.1.0.TransferFailed", where, "the line broke while fetching")
            return
        device.receive_image(task, self.fetch(uri))


def pin_of(device: Hardware) -> str:
    """The fingerprint of the certificate that its controller shows."""
    return f"{((device.beside or device) if device.is_second else device).certificates:064x}"


def _spell(body) -> tuple[bytes, dict[str, bytes] | None]:
    if body is None or isinstance(body, bytes):
        return body or b"", None
    if not isinstance(body, aiohttp.MultipartWriter):
        return json.dumps(body).encode(), None
    parts = {}
    for part, _, _ in body:
        value = part._value
        parts[part.headers["Content-Disposition"].split('name="')[1].split('"')[0]] = (
            value if isinstance(value, bytes) else value.read()
        )
    return b"", parts


class InProcessControllers:
    """The engine's port over devices by name; a session is kept as over HTTPS."""

    def __init__(
        self, devices: dict[str, Hardware], fetch: Callable[[str], bytes] | None = None,
        is_cut: Callable[[], bool] = lambda: False,
    ) -> None:  # fmt: skip
        self.devices, self.fetch, self.is_cut = devices, fetch, is_cut
        self.sessions: dict[Endpoint, Session] = {}

    @asynccontextmanager
    async def open(self, endpoint: Endpoint):
        device = self.devices[endpoint.name]
        if device.is_second:
            device = device.beside
        session = self.sessions.get(endpoint)
        if session is None:
            session = Session(InProcessLine(device, endpoint, self.fetch, self.is_cut))
            await session.sign_in()
            self.sessions[endpoint] = session
        try:
            yield RedfishController(session)
        except ControllerError as error:
            if session.is_shut or error.cause in ENDS_SESSION:
                self.sessions.pop(endpoint, None)
            raise

    async def let_go(self, endpoint: Endpoint) -> None:
        self.sessions.pop(endpoint, None)

    def forget(self) -> None:
        """A new life of the engine: no session is left."""
        self.sessions.clear()


def controller_of(device: Hardware, fetch: Callable[[str], bytes] | None = None) -> RedfishController:
    """A device's controller without signing in first: its session does so when asked."""
    where = Endpoint(name=device.name, url="https://127.0.0.1", user=device.user, password=device.password)
    session = Session(InProcessLine(device, where, fetch))
    session.basic = _basic(device)
    return RedfishController(session)


def _basic(device: Hardware) -> str:
    import base64

    return "Basic " + base64.b64encode(f"{device.user}:{device.password}".encode()).decode()


async def target_of(controller: RedfishController, slot: str) -> str:
    """What an update of a slot names, by the way that a payload is brought."""
    reach = await controller.reach()
    return (await controller.aim(reach, reach.way(("HTTPS", "HTTP")) or "push", slot)).target
