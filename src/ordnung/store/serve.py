"""Serve payloads to controllers over HTTPS and HTTP, with ranges, below an unguessable path per run and server.

A path lives as long as its run; since each server has its own, who fetched what is certain and told.
Beside it there is a door bell: an address that only tells that someone came.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import secrets
import ssl
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from aiohttp import web
from aiohttp.abc import AbstractStreamWriter
from aiohttp.typedefs import Handler

from ordnung.formats.text import whole_number
from ordnung.store.content import ContentStore
from ordnung.store.serve_disc import ServedDisc, send_disc

DISC = "ordnung-run-"
"""What the disc of a run is called, so that whoever finds it inserted knows whose it is."""
SILENT_S = 30.0
"""Who has asked for nothing so long after connecting is hung up on."""
AT_ONCE_AN_ADDRESS = 64
"""Requests of one address at once: a controller fetches one payload, or parts of one side by side; several controllers
may stand behind one address.
"""
BEGIN_S, SLOWEST = 60.0, 8 * 1024
"""An answer may take so many seconds, and one more for each so many bytes of it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Fetched:
    """One request of a controller: what it fetched from which byte on, and whether all that it asked for was sent."""

    run: str
    server: str
    sha256: str
    protocol: str
    address: str
    start: int
    bytes: int
    whole: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class _Door:
    run: str
    server: str
    sums: frozenset[str]
    disc: ServedDisc | None = None


class _Told(web.FileResponse):
    """A file that counts among what its address is sent meanwhile, and says how its sending ended."""

    def __init__(
        self, path: Path, *, headers: dict[str, str], busy: Counter[str], tell: Callable[[web.FileResponse, bool], None]
    ) -> None:
        super().__init__(path, headers=headers)
        self._tell_end, self._busy = tell, busy

    async def prepare(self, request: web.BaseRequest) -> AbstractStreamWriter | None:
        """Send it."""
        whole, address = False, request.remote or ""
        self._busy[address] += 1
        try:
            async with asyncio.timeout(BEGIN_S + self._path.stat().st_size / SLOWEST):
                writer = await super().prepare(request)
            whole = True
        except TimeoutError:
            if request.transport is not None:
                request.transport.abort()
            raise
        finally:
            self._busy[address] -= 1
            if not self._busy[address]:
                del self._busy[address]
            self._tell_end(self, whole)
        return writer


class Addresses:
    """Where payloads and bells are: unguessable, and the same again after a restart."""

    def __init__(self, secret: bytes) -> None:
        self.secret = secret
        self.bases: dict[str, str] = {}
        """Where we are reached, by protocol."""

    def _sign(self, text: str) -> str:
        return hmac.new(self.secret, text.encode(), hashlib.sha256).hexdigest()[:40]

    def token(self, run: str, server: str) -> str:
        """The path of a server in a run."""
        return self._sign(f"run {run} {server}")

    def uri(self, run: str, server: str, sha256: str, protocol: str = "HTTPS") -> str:
        """Where a controller fetches a payload. Raises KeyError for a protocol that is not served."""
        return f"{self.bases[protocol]}/{self.token(run, server)}/{sha256}.pldm"

    def disc_uri(self, run: str, server: str, protocol: str = "HTTPS") -> str:
        """Where a controller gets the disc of a run. Raises KeyError for a protocol that is not served."""
        return f"{self.bases[protocol]}/{self.token(run, server)}/{DISC}{run}.iso"

    def new_bell(self) -> str:
        """A fresh token for a bell. Who serves knows it by itself, without having been told."""
        nonce = secrets.token_urlsafe(16)
        return f"{nonce}.{self._sign(f'bell {nonce}')}"

    def is_bell(self, token: str) -> bool:
        """Whether a token was made here."""
        nonce, _, signed = token.partition(".")
        return hmac.compare_digest(signed.encode(), self._sign(f"bell {nonce}").encode())


class PayloadServer(Addresses):
    """Serves the content store. Only what a run under way needs can be fetched."""

    def __init__(
        self,
        store: ContentStore,
        secret: bytes,
        on_fetched: Callable[[Fetched], None] | None = None,
        on_rung: Callable[[str], None] | None = None,
    ) -> None:
        """``on_fetched`` is told of every request that was answered, ``on_rung`` of every bell; they must not block."""
        super().__init__(secret)
        self.store, self.on_fetched, self.on_rung = store, on_fetched, on_rung
        self.open_to: dict[str, _Door] = {}
        self._silent: set[web.RequestHandler] = set()
        self._busy: Counter[str] = Counter()
        self._listening: list[asyncio.Server] = []
        self._runners: list[web.AppRunner] = []

    def allow(
        self, run: str, servers: Iterable[str], sums: Iterable[str], discs: Mapping[str, ServedDisc] | None = None
    ) -> None:
        """Let the controllers of a run fetch these payloads, and those of the servers named in ``discs`` their disc."""
        allowed = frozenset(sums)
        for server in servers:
            disc = (discs or {}).get(server)
            self.open_to[self.token(run, server)] = _Door(run=run, server=server, sums=allowed, disc=disc)

    def close_run(self, run: str) -> None:
        """End the run's paths."""
        self.open_to = {token: door for token, door in self.open_to.items() if door.run != run}

    async def start(self, address: str, port: int, certificate: Path, plain_port: int = 0) -> None:
        """Listen. Raises OSError when the address or a port is taken."""
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate)
        secure, plain = await self._listen(address, port, context), await self._listen(address, plain_port, None)
        self.bases = {"HTTPS": f"https://{address}:{secure}", "HTTP": f"http://{address}:{plain}"}

    async def _listen(self, address: str, port: int, context: ssl.SSLContext | None) -> int:
        app = web.Application(client_max_size=64 * 1024, middlewares=[self._hear])
        app.router.add_get("/{token}/{sha256}.pldm", self._serve)
        app.router.add_get("/{token}/{name}.iso", self._serve_disc)
        app.router.add_post("/bell/{token}", self._ring)
        runner = web.AppRunner(app, access_log=None, shutdown_timeout=2.0)
        await runner.setup()
        made, loop = runner.server, asyncio.get_running_loop()
        assert made is not None

        def connect() -> web.RequestHandler:
            handler = made()
            self._silent.add(handler)
            loop.call_later(SILENT_S, self._hang_up, handler)
            return handler

        listening = await loop.create_server(connect, address, port, ssl=context, reuse_address=True)
        self._listening.append(listening)
        self._runners.append(runner)
        return int(listening.sockets[0].getsockname()[1])

    @web.middleware
    async def _hear(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        self._silent.discard(request.protocol)
        return await handler(request)

    def _hang_up(self, handler: web.RequestHandler) -> None:
        if handler in self._silent:
            self._silent.discard(handler)
            handler.force_close()

    async def stop(self) -> None:
        """Stop listening."""
        for listening in self._listening:
            listening.close()
        for runner in self._runners:
            await runner.cleanup()
        self._listening, self._runners = [], []

    async def _ring(self, request: web.Request) -> web.Response:
        token = request.match_info["token"]
        if not self.is_bell(token):
            raise web.HTTPNotFound(text="not here\n")
        if self.on_rung is not None:
            self.on_rung(token)
        return web.Response(status=204)

    async def _serve(self, request: web.Request) -> web.StreamResponse:
        sha256 = request.match_info["sha256"]
        door = self.open_to.get(request.match_info["token"])
        if door is None or sha256 not in door.sums or not self.store.has(sha256):
            raise web.HTTPNotFound(text="not here\n")
        if self._busy[request.remote or ""] >= AT_ONCE_AN_ADDRESS:
            raise web.HTTPServiceUnavailable(text="one after the other\n", headers={"Retry-After": "5"})
        headers = {"Content-Type": "application/octet-stream", "Cache-Control": "no-store"}
        return _Told(
            self.store.path(sha256),
            headers=headers,
            busy=self._busy,
            tell=lambda answer, whole: self._tell(request, answer, door, sha256, whole),
        )

    async def _serve_disc(self, request: web.Request) -> web.StreamResponse:
        door = self.open_to.get(request.match_info["token"])
        if door is None or door.disc is None or request.match_info["name"] != f"{DISC}{door.run}":
            raise web.HTTPNotFound(text="not here\n")
        address = request.remote or ""
        if self._busy[address] >= AT_ONCE_AN_ADDRESS:
            raise web.HTTPServiceUnavailable(text="one after the other\n", headers={"Retry-After": "5"})
        self._busy[address] += 1
        try:
            return await send_disc(request, door.disc)
        finally:
            self._busy[address] -= 1
            if not self._busy[address]:
                del self._busy[address]

    def _tell(self, request: web.Request, answer: web.FileResponse, door: _Door, sha256: str, whole: bool) -> None:
        if self.on_fetched is None or request.method != "GET" or answer.status not in (200, 206):
            return
        span = answer.headers.get("Content-Range", "bytes 0-").removeprefix("bytes ").partition("-")[0]
        fetched = Fetched(
            run=door.run,
            server=door.server,
            sha256=sha256,
            protocol="HTTPS" if request.secure else "HTTP",
            address=request.remote or "",
            start=whole_number(span) or 0,
            bytes=answer.content_length or 0,
            whole=whole,
        )
        self.on_fetched(fetched)
