"""Serve payloads to controllers over HTTPS, with ranges, below an unguessable path per run.

Beside it there is a door bell, over HTTPS and plain HTTP: an address that only tells that someone came.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import secrets
import ssl
from collections.abc import Iterable
from pathlib import Path

from aiohttp import web

from ordnung.repository.store import ContentStore

MOST_BELLS = 1000
"""Addresses waiting for a knock at once; the oldest are forgotten."""


class PayloadServer:
    """An HTTPS server of the content store. Only what a run under way needs can be fetched."""

    def __init__(self, store: ContentStore, secret: bytes) -> None:
        self.store, self.secret = store, secret
        self.open_to: dict[str, frozenset[str]] = {}
        self.base = ""
        self.bells: dict[str, str] = {}
        """Where a bell can be rung, by protocol."""
        self._rung: dict[str, asyncio.Event] = {}
        self._runner: web.AppRunner | None = None
        self._plain: web.AppRunner | None = None

    def token(self, run: str) -> str:
        """The path of a run: unguessable, and the same again after a restart."""
        return hmac.new(self.secret, f"run {run}".encode(), hashlib.sha256).hexdigest()[:40]

    def allow(self, run: str, sums: Iterable[str]) -> None:
        """Let the controllers of a run fetch these payloads."""
        self.open_to[self.token(run)] = frozenset(sums)

    def close_run(self, run: str) -> None:
        """End the run's path."""
        self.open_to.pop(self.token(run), None)

    def uri(self, run: str, sha256: str) -> str:
        """Where a controller fetches a payload."""
        return f"{self.base}/{self.token(run)}/{sha256}.pldm"

    async def start(self, address: str, port: int, certificate: Path) -> None:
        """Listen. Raises OSError when the address or port is taken."""
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate)
        app = web.Application()
        app.router.add_get("/{token}/{sha256}.pldm", self._serve)
        app.router.add_post("/bell/{token}", self._ring)
        self._runner = web.AppRunner(app, access_log=None, shutdown_timeout=2.0)
        await self._runner.setup()
        await web.TCPSite(self._runner, address, port, ssl_context=context).start()
        self.base = f"https://{address}:{self._runner.addresses[0][1]}"
        bells = web.Application(client_max_size=64 * 1024)
        bells.router.add_post("/bell/{token}", self._ring)
        self._plain = web.AppRunner(bells, access_log=None, shutdown_timeout=2.0)
        await self._plain.setup()
        await web.TCPSite(self._plain, address, 0).start()
        self.bells = {"HTTPS": self.base, "HTTP": f"http://{address}:{self._plain.addresses[0][1]}"}

    async def stop(self) -> None:
        """Stop listening."""
        for runner in (self._runner, self._plain):
            if runner is not None:
                await runner.cleanup()

    def hang(self, protocol: str) -> tuple[str, asyncio.Event] | None:
        """A fresh address that notices a knock, and what is set then; None when not served over this protocol."""
        if protocol not in self.bells:
            return None
        token = secrets.token_urlsafe(24)
        self._rung[token] = asyncio.Event()
        if len(self._rung) > MOST_BELLS:
            self._rung.pop(next(iter(self._rung)))
        return f"{self.bells[protocol]}/bell/{token}", self._rung[token]

    async def _ring(self, request: web.Request) -> web.Response:
        rung = self._rung.pop(request.match_info["token"], None)
        if rung is None:
            raise web.HTTPNotFound(text="not here\n")
        rung.set()
        return web.Response(status=204)

    async def _serve(self, request: web.Request) -> web.StreamResponse:
        sha256 = request.match_info["sha256"]
        if sha256 not in self.open_to.get(request.match_info["token"], ()) or not self.store.has(sha256):
            raise web.HTTPNotFound(text="not here\n")
        headers = {"Content-Type": "application/octet-stream", "Cache-Control": "no-store"}
        return web.FileResponse(self.store.path(sha256), headers=headers)
