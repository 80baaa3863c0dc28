"""The work desk: the house's scheduler of workloads, played. It moves work off a server and takes it back, and knows
whether a storage ring is whole again; asked over signed web hooks (Standard Webhooks 1.0), with faults of its own.

``WorkDesk`` is what it does, in any clock's seconds; ``Counter`` is how it is asked.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from aiohttp import web
from standardwebhooks.webhooks import Webhook, WebhookVerificationError

DESK_FAULTS = {
    "refuses": "says no to what it is asked, so many times",
    "silent": "takes it on and never says that it is done",
    "forgets": "knows nothing of what it took on before, once",
    "fails": "answers with an error of its own, so many times",
}
ASKED = {"work.move-off": "away", "work.take-back": "here", "group.healed": ""}


@dataclass
class DeskFault:
    """A fault; ``server`` None for every server."""

    kind: str
    server: str | None = None
    on: str | None = None
    times: int = 1


@dataclass(frozen=True)
class DeskAnswer:
    """What it answers: a status of HTTP and a reason."""

    status: int
    reason: str = ""


@dataclass
class _Order:
    what: str
    server: str
    ready_at: float
    is_silent: bool = False


@dataclass
class WorkDesk:
    """What the desk does. ``seconds`` is how long a move takes, ``heals`` how long a ring takes to be whole."""

    clock: Callable[[], float]
    seconds: float = 60.0
    heals: float = 300.0
    faults: list[DeskFault] = field(default_factory=list)
    where: dict[str, str] = field(default_factory=dict)
    """Server to where its work is, "here" or "away", and on its way while it moves."""
    back_at: dict[str, float] = field(default_factory=dict)
    orders: dict[str, _Order] = field(default_factory=dict)
    log: list[dict[str, Any]] = field(default_factory=list)

    def ask(self, key: str, what: str, server: str) -> DeskAnswer:
        """Take something on, or say how far it is with what it took on under this key."""
        if what not in ASKED:
            return DeskAnswer(400, f"it does not know {what}")
        if key in self.orders and self._fault("forgets", server, what):
            del self.orders[key]
        if key not in self.orders:
            if self._fault("fails", server, what):
                return DeskAnswer(503, "out of order")
            if self._fault("refuses", server, what):
                self._note("refused", what, server)
                return DeskAnswer(409, "not now")
            self._take_on(key, what, server)
        order = self.orders[key]
        if order.is_silent or self.clock() < order.ready_at:
            return DeskAnswer(202)
        self._finish(order)
        return DeskAnswer(200)

    def look(self, key: str) -> DeskAnswer:
        """How far it is with something; 404 when it knows nothing of it."""
        order = self.orders.get(key)
        return DeskAnswer(404, "nothing is known of it") if order is None else self.ask(key, order.what, order.server)

    def _take_on(self, key: str, what: str, server: str) -> None:
        now = self.clock()
        if what == "group.healed":
            ready = self.back_at.get(server, now) + self.heals
        else:
            is_there = self.where.get(server, "here") == ASKED[what]
            ready = now if is_there else now + self.seconds
            if not is_there:
                self.where[server] = f"going {ASKED[what]}"
        self.orders[key] = _Order(what, server, ready, is_silent=self._fault("silent", server, what))
        self._note("taken on", what, server)

    def _finish(self, order: _Order) -> None:
        goal = ASKED[order.what]
        if goal and self.where.get(order.server) != goal:
            self.where[order.server] = goal
            if goal == "here":
                self.back_at[order.server] = order.ready_at
            self.log.append({"at": order.ready_at, "what": "done", "order": order.what, "server": order.server})

    def _fault(self, kind: str, server: str, what: str) -> bool:
        for fault in self.faults:
            if fault.kind == kind and fault.server in (None, server) and fault.on in (None, what) and fault.times > 0:
                fault.times -= 1
                return True
        return False

    def _note(self, what: str, order: str, server: str) -> None:
        self.log.append({"at": self.clock(), "what": what, "order": order, "server": server})


class Counter:
    """The desk over HTTP. Nobody is believed whose signature is not made with ``secret``."""

    def __init__(self, desk: WorkDesk, secret: str) -> None:
        self.desk, self.secret = desk, secret
        self.calls: list[dict[str, Any]] = []
        """Calls for help that came in (P6)."""

    def application(self) -> web.Application:
        """The aiohttp application."""
        app = web.Application(client_max_size=65536)
        app.router.add_post("/work", self._ask)
        app.router.add_get("/work/{key}", self._look)
        app.router.add_post("/calls", self._call)
        return app

    async def _ask(self, request: web.Request) -> web.Response:
        body = await self._verified(request)
        if body.get("type") == "hook.test":
            return web.json_response({})
        key = request.headers["webhook-id"]
        answer = self.desk.ask(key, str(body["type"]), str(body["data"]["server"]))
        headers = {"Location": f"/work/{key}"} if answer.status == 202 else {}
        return web.json_response({"reason": answer.reason}, status=answer.status, headers=headers)

    async def _look(self, request: web.Request) -> web.Response:
        await self._verified(request)
        answer = self.desk.look(request.match_info["key"])
        return web.json_response({"reason": answer.reason}, status=answer.status)

    async def _call(self, request: web.Request) -> web.Response:
        self.calls.append(await self._verified(request))
        return web.json_response({})

    async def _verified(self, request: web.Request) -> dict[str, Any]:
        raw = await request.text()
        try:
            Webhook(self.secret).verify(raw, dict(request.headers), json_parse=False)
            body: dict[str, Any] = await request.json() if raw else {}
        except (WebhookVerificationError, ValueError):
            raise web.HTTPUnauthorized(text="the signature is not right\n") from None
        return body
