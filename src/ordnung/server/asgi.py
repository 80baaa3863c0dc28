"""The ASGI application: Django, with the event hub living as long as the server."""

from __future__ import annotations

import asyncio
import os

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")
django.setup()

import structlog  # noqa: E402
from django.db import DatabaseError, connection  # noqa: E402

from ordnung.formats.logs import configure_logs  # noqa: E402
from ordnung.server.api.given import Giver  # noqa: E402
from ordnung.server.assessment.current import current_assessment  # noqa: E402
from ordnung.server.assessment.effects import effect_of  # noqa: E402
from ordnung.server.bodies import Bodies, Message, Receive, Send  # noqa: E402
from ordnung.server.handler import Handler  # noqa: E402
from ordnung.server.reckoning import reckon_apart  # noqa: E402
from ordnung.server.work.hub import HUB  # noqa: E402

configure_logs()
HUB.giver = Giver()
reckon_apart()
_django = Bodies(Handler())


def warm() -> None:
    """Judge the house once before anyone asks: at ten thousand servers that takes seconds."""
    try:
        assessment = current_assessment()
        effect_of(assessment, assessment.baseline.rules, assessment.baseline.follows)
    except DatabaseError as error:
        structlog.get_logger().warning("the house could not be judged yet", why=str(error))
    finally:
        connection.close()


_hub: asyncio.Task[None] | None = None


async def application(scope: Message, receive: Receive, send: Send) -> None:
    """Handle lifespan ourselves (Django has none), hand everything else to Django."""
    global _hub
    if scope["type"] != "lifespan":
        await _django(scope, receive, send)
        return
    while True:
        message = await receive()
        if message["type"] == "lifespan.startup":
            _hub = asyncio.create_task(HUB.run())
            asyncio.get_running_loop().run_in_executor(None, warm)
            await send({"type": "lifespan.startup.complete"})
        else:
            HUB.stop()
            if _hub is not None:
                await _hub
            await send({"type": "lifespan.shutdown.complete"})
            return
