"""The house's hooks: kept with a secret each, tried, and told how they last answered."""

from __future__ import annotations

import base64
import datetime
import secrets
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from asgiref.sync import async_to_sync
from django.conf import settings
from django.db.models import ProtectedError

from ordnung.formats.addresses import is_address
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.house.hook_line import HookAnswer, ask_hook
from ordnung.server.house.models import Hook
from ordnung.server.problems import Problem
from ordnung.server.shapes import limited, row_from
from ordnung.server.work.events import tell

SECRET_BYTES = 32


@dataclass(frozen=True, slots=True, kw_only=True)
class HookRow:
    """``told``: what its last answer was, empty when all went well. ``groups``: whose work it moves."""

    id: int
    name: str
    url: str
    calls: bool
    asked_at: datetime.datetime | None
    answered_at: datetime.datetime | None
    told: str
    groups: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class NewHookRow(HookRow):
    """``secret`` is shown this once: what is sent is signed with it (Standard Webhooks 1.0)."""

    secret: str


@dataclass(frozen=True, slots=True, kw_only=True)
class HookChange:
    name: str = limited(max_length=100)
    url: str = limited(max_length=500)
    calls: bool = False


def hook_row(hook: Hook) -> HookRow:
    """One hook."""
    return row_from(HookRow, hook, groups=list(hook.groups.order_by("name").values_list("name", flat=True)))


def hook_rows() -> list[HookRow]:
    """All hooks."""
    return [hook_row(hook) for hook in Hook.objects.all()]


def add_hook(wanted: HookChange) -> NewHookRow:
    """Keep a hook, with a new secret. Raises Problem: the name is taken, or the address can't be asked."""
    if Hook.objects.filter(name=wanted.name).exists():
        raise Problem("name-taken", f"There is a hook {wanted.name} already.", field="name")
    _demand_address(wanted.url)
    secret = "whsec_" + base64.b64encode(secrets.token_bytes(SECRET_BYTES)).decode()
    hook = Hook(name=wanted.name, url=wanted.url, calls=wanted.calls)
    hook.set_secret(secret)
    hook.save()
    record(on={"hook": hook.name}, after={"url": hook.url, "calls": hook.calls})
    tell("house")
    return row_from(NewHookRow, hook_row(hook), secret=secret)


def change_hook(hook: Hook, wanted: HookChange) -> HookRow:
    """Change where a hook is, or whether it is called. Its name and its secret stay; make a new one for those.

    Raises:
        Problem: another name is given, or the address can't be asked.
    """
    if wanted.name != hook.name:
        raise Problem("format", "A hook keeps its name, to which its secret is bound. Add a new one.", field="name")
    _demand_address(wanted.url)
    record(on={"hook": hook.name}, before={"url": hook.url, "calls": hook.calls}, after={"url": wanted.url})
    hook.url, hook.calls = wanted.url, wanted.calls
    hook.save(update_fields=["url", "calls"])
    tell("house")
    return hook_row(hook)


def drop_hook(hook: Hook) -> None:
    """Forget a hook. Raises Problem while it moves work of a group."""
    record(on={"hook": hook.name}, before={"url": hook.url})
    try:
        hook.delete()
    except ProtectedError:
        names = ", ".join(hook.groups.order_by("name").values_list("name", flat=True)[:5])
        raise Problem("hook-in-use", f"{hook.name} moves work of {names}. Say first who does.", status=409) from None
    tell("house")


def try_hook(hook: Hook) -> HookRow:
    """Ask a hook whether it is there, with a message that asks for nothing."""
    message = make_message("hook.test", {"site": settings.SITE})
    async_to_sync(ask)(hook, f"ordnung-test-{secrets.token_hex(6)}", message)
    hook.refresh_from_db()
    with recorded():
        record(on={"hook": hook.name}, after={"told": hook.told or "it answered"})
    return hook_row(hook)


async def ask(hook: Hook, key: str, message: dict[str, Any] | None, look_at: str = "") -> HookAnswer:
    """Ask a hook, and keep how it answered. ``look_at``: where it said that it tells how far it is."""
    try:
        secret = hook.secret()
    except ValueError as error:
        found = HookAnswer(status=0, told=f"its secret can't be read: {error}")
    else:
        found = await ask_hook(look_at or hook.url, secret, key, None if look_at else message)
    at, is_fine = now(), found.status in (200, 202, 204)
    values: dict[str, Any] = {"asked_at": at, "told": "" if is_fine else found.told}
    if found.status > 0:
        values["answered_at"] = at
    await Hook.objects.filter(pk=hook.pk).aupdate(**values)
    return found


def make_message(kind: str, data: dict[str, Any]) -> dict[str, Any]:
    """What is posted: what it is, when, and what about (Standard Webhooks 1.0)."""
    return {"type": kind, "timestamp": now().isoformat(), "data": data}


def _demand_address(url: str) -> None:
    parts = urlsplit(url)
    if parts.scheme != "https" or not parts.hostname or parts.username or parts.fragment:
        raise Problem("format", "A hook is at an https address, without a name or password in it.", field="url")
    if is_address(parts.hostname) and not settings.EGRESS.allows(parts.hostname):
        message = f"{parts.hostname} is not in the networks that this house goes out to (ORDNUNG_EGRESS)."
        raise Problem("not-allowed-address", message, field="url")
