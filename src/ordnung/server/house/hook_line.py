"""Asking the house's hooks: HTTPS, signed as Standard Webhooks 1.0 says, to addresses this house goes out to only."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

import aiohttp
import orjson
from django.conf import settings
from standardwebhooks.webhooks import Webhook

from ordnung.formats.text import shown
from ordnung.repository.egress import Egress, MirrorLine
from ordnung.store import RepositoryError

TIMEOUT_S = 20.0
MOST_BYTES = 64 * 1024
MOST_TOLD = 300


@dataclass(frozen=True, slots=True, kw_only=True)
class HookAnswer:
    """What a hook answered. ``status`` 0: it could not be reached, so it knows nothing of it; -1: the line broke while
    it was asked, so it may.
    """

    status: int
    told: str = ""
    look_at: str = ""
    """Where it says how far it is, after a 202."""


async def ask_hook(url: str, secret: str, key: str, message: Mapping[str, Any] | None) -> HookAnswer:
    """Post a message under a key; None looks at an address that an earlier answer named."""
    body = b"" if message is None else orjson.dumps(message)
    now = datetime.datetime.now(datetime.UTC)
    headers = {
        "webhook-id": key,
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(secret).sign(key, now, body.decode()),
        "content-type": "application/json",
    }
    line = MirrorLine(Egress(settings.MIRRORS_VOUCHED_BY, settings.EGRESS), aiohttp.ClientTimeout(total=TIMEOUT_S))
    try:
        async with (
            line,
            line.ask(url, headers, name="the hook", body=body if message is not None else None) as answer,
        ):
            raw = await answer.content.read(MOST_BYTES)
            return HookAnswer(status=answer.status, told=_told(answer, raw), look_at=_look_at(url, answer))
    except RepositoryError as error:
        # A connection that was never made carried nothing; of any other it can't be told.
        never = error.code == "foreign" or isinstance(error.__context__, aiohttp.ClientConnectorError)
        return HookAnswer(status=0 if never else -1, told=error.what.replace("the mirror", "the hook"))
    except (aiohttp.ClientError, OSError):
        return HookAnswer(status=-1, told="its answer broke off")


def _told(answer: aiohttp.ClientResponse, raw: bytes) -> str:
    """The reason it gives, as data; else the bare status."""
    try:
        body = orjson.loads(raw) if raw else {}
    except ValueError:
        body = {}
    told = body.get("reason") if isinstance(body, dict) else None
    if isinstance(told, str) and told.strip():
        return shown(told)[:MOST_TOLD]
    return "" if answer.status in (200, 202) else f"it answered {answer.status}"


def _look_at(url: str, answer: aiohttp.ClientResponse) -> str:
    """Where to look, on the very host that was asked and nowhere else."""
    where = urljoin(url, answer.headers.get("Location", "")) if answer.headers.get("Location") else ""
    return where if where and urlsplit(where).netloc == urlsplit(url).netloc else ""
