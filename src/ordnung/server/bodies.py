"""Bodies of requests, before anybody reads them: how long one may be at its address, from whom, how long it may take.

Django reads a body whole, to disk, before it asks who sends it: without this, anybody could fill the disk.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from http import HTTPStatus
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.http import parse_cookie
from django.urls import Resolver404, resolve

from ordnung.server.people.sessions import is_open
from ordnung.server.problems import problem_response
from ordnung.server.rights.commands import Command, find_command

Message = Any
"""An ASGI message or scope: a dict, as the ASGI specification 3.0 describes it."""
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Any, Any, Any], Awaitable[None]]

SMALL = 64 * 1024
"""Bytes that anybody may send, signed in or not: a sign-in has some hundred."""
BEGIN_S = 20.0
SLOWEST = 32 * 1024
"""A body has so many seconds, and one more for each so many bytes that it may have."""
GONE: Message = {"type": "http.disconnect"}


class Bodies:
    """An ASGI application that guards another one."""

    def __init__(self, app: App) -> None:
        self.app = app

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """Let it through, or answer with a problem (401, 408, 413) without reading the rest."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        length = _length(scope)
        if length is None or length > SMALL:
            limit, refusal = await _allowance(scope)
        else:
            limit, refusal = SMALL, 0
        if refusal or (length is not None and length > limit):
            await _answer(send, refusal or HTTPStatus.REQUEST_ENTITY_TOO_LARGE, limit)
            return
        guard = _Guard(receive, send, limit)
        await self.app(scope, guard.receive, guard.send)
        if guard.refusal and not guard.is_answered:
            await _answer(send, guard.refusal, limit)


class _Guard:
    """One request: counts what comes, and hangs up on what is too long or too slow."""

    def __init__(self, receive: Receive, send: Send, limit: int) -> None:
        self._receive, self._send, self.limit = receive, send, limit
        self._ends = asyncio.get_running_loop().time() + BEGIN_S + limit / SLOWEST
        self._came, self._is_whole = 0, False
        self.refusal, self.is_answered = 0, False

    async def receive(self) -> Message:
        """The next message; past the end of the body nothing is counted any more."""
        if self._is_whole:
            return await self._receive()
        try:
            async with asyncio.timeout_at(self._ends):
                message = await self._receive()
        except TimeoutError:
            self.refusal = HTTPStatus.REQUEST_TIMEOUT
            return GONE
        if message["type"] == "http.request":
            self._came += len(message.get("body", b""))
            self._is_whole = not message.get("more_body", False)
            if self._came > self.limit:
                self.refusal = HTTPStatus.REQUEST_ENTITY_TOO_LARGE
                return GONE
        return message

    async def send(self, message: Message) -> None:
        """What the application answers, unless it was hung up on."""
        if not self.refusal:
            self.is_answered = True
            await self._send(message)


def _header(scope: Message, name: bytes) -> str:
    return next((value.decode("latin-1") for key, value in scope["headers"] if key == name), "")


def _length(scope: Message) -> int | None:
    """The length that a request tells of itself; None when it tells none and may have a body all the same."""
    header = _header(scope, b"content-length")
    if header.isascii() and header.isdigit():
        return int(header)
    return None if _header(scope, b"transfer-encoding") or header else 0


async def _allowance(scope: Message) -> tuple[int, int]:
    """How many bytes a longer body may have at this address from whoever sends it, and the status to refuse with."""
    command = _command(scope)
    if command is None or command.open:
        return SMALL, 0
    cookies = parse_cookie(_header(scope, b"cookie"))
    session = cookies.get(settings.SESSION_COOKIE_NAME, "")
    if not session or not await sync_to_async(is_open)(session):
        return SMALL, HTTPStatus.UNAUTHORIZED
    return command.body, 0


def _command(scope: Message) -> Command | None:
    try:
        return find_command(resolve(scope["path"]).route, scope["method"])
    except Resolver404:
        return None


async def _answer(send: Send, status: int, limit: int) -> None:
    problems = {
        HTTPStatus.UNAUTHORIZED: ("not_authenticated", "Sign in first: so much is taken from nobody unknown."),
        HTTPStatus.REQUEST_TIMEOUT: ("too-slow", "The request took too long to arrive."),
        HTTPStatus.REQUEST_ENTITY_TOO_LARGE: ("too-large", f"This address takes {limit} bytes at most."),
    }
    code, detail = problems[HTTPStatus(status)]
    answer = problem_response(code, detail, int(status))
    told_too = {"connection": "close", "cache-control": "no-store", "content-length": str(len(answer.content))}
    headers = [(k.lower().encode(), v.encode()) for k, v in {**dict(answer.headers.items()), **told_too}.items()]
    await send({"type": "http.response.start", "status": int(status), "headers": headers})
    await send({"type": "http.response.body", "body": answer.content})
