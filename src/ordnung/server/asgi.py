"""The ASGI application: Django, with the event hub living as long as the server."""

from __future__ import annotations

import asyncio
import os

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")
django.setup()

from django.core.asgi import get_asgi_application  # noqa: E402

from ordnung.server.work.hub import HUB  # noqa: E402

_django = get_asgi_application()
_hub: asyncio.Task | None = None


async def application(scope, receive, send) -> None:
    """Handle lifespan ourselves (Django has none), hand everything else to Django."""
    global _hub
    if scope["type"] != "lifespan":
        await _django(scope, receive, send)
        return
    while True:
        message = await receive()
        if message["type"] == "lifespan.startup":
            _hub = asyncio.create_task(HUB.run())
            await send({"type": "lifespan.startup.complete"})
        else:
            HUB.stop()
            if _hub is not None:
                await _hub
            await send({"type": "lifespan.shutdown.complete"})
            return
