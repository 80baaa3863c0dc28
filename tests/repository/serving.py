"""An application answering over HTTPS on a free port of loopback, taken down afterwards."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from aiohttp import web

from ordnung.standins.certificates import Authority

ADDRESS = "127.20.100.9"


@asynccontextmanager
async def serving(application: web.Application, authority: Authority) -> AsyncIterator[str]:
    runner = web.AppRunner(application, access_log=None, shutdown_timeout=1.0)
    await runner.setup()
    await web.TCPSite(runner, ADDRESS, 0, ssl_context=authority.context(ADDRESS)).start()
    try:
        yield f"https://{ADDRESS}:{runner.addresses[0][1]}/"
    finally:
        await runner.cleanup()
