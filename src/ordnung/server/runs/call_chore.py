"""Calling the house for help: what needs a person and nobody has seen is told to its hook, again and again (P6)."""

from __future__ import annotations

import hashlib

from asgiref.sync import sync_to_async

from ordnung.server.house.hooks import ask, make_message
from ordnung.server.house.models import Hook
from ordnung.server.runs.calls import CallRow, note_told, unheard

AGAIN_S = 600.0
"""The site's seconds after which a call that nobody has seen is told again."""


async def call_for_help() -> None:
    """Tell the hooks that are called of everything that waits for somebody; a slow one keeps nothing else waiting."""
    hooks = [hook async for hook in Hook.objects.filter(calls=True)]
    if not hooks:
        return
    for row in await sync_to_async(unheard)(AGAIN_S):
        for hook in hooks:
            await ask(hook, _key(row), make_message("call.needs-person", _body(row)))
        await sync_to_async(note_told)(row)


def _key(row: CallRow) -> str:
    """One name for a call, however often it is told."""
    return f"ordnung-call-{hashlib.sha256(row.id.encode()).hexdigest()[:24]}"


def _body(row: CallRow) -> dict[str, object]:
    return {
        "kind": row.kind, "run": row.run, "server": row.server, "room": row.room, "rack": row.rack, "unit": row.unit,
        "text": row.text, "since": row.since.isoformat() if row.since else None,
    }  # fmt: skip
