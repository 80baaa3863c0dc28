"""Requests as the site takes them: one kept thread for each, and never one that still does something for another."""

from __future__ import annotations

import asyncio
import threading

import pytest
from asgiref.sync import sync_to_async
from django.http import HttpRequest, HttpResponse
from django.test import override_settings
from django.urls import path

from ordnung.server import handler as module
from ordnung.server.handler import Handler

release = threading.Event()
seen: list[int] = []


def plain(request: HttpRequest) -> HttpResponse:
    seen.append(threading.get_ident())
    return HttpResponse(b"yes")


def slow(request: HttpRequest) -> HttpResponse:
    seen.append(threading.get_ident())
    release.wait(20)
    return HttpResponse(b"late")


async def on_the_loop(request: HttpRequest) -> HttpResponse:
    """Stays there, and goes to the request's own thread where it has to."""
    seen.append(await sync_to_async(threading.get_ident)())
    return HttpResponse(b"loop")


urlpatterns = [path("plain", plain), path("slow", slow), path("loop", on_the_loop)]
pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.urls(__name__)]


@pytest.fixture
def handler():
    """The site's own, without the middleware that would refuse strangers."""
    seen.clear()
    release.clear()
    with override_settings(MIDDLEWARE=[]):
        yield Handler()
    release.set()


async def ask(handler, at: str, gone: asyncio.Event | None = None) -> bytes:
    """One request; ``gone``: when whoever asks hangs up."""
    told, is_asked = [], False

    async def receive():
        nonlocal is_asked
        if not is_asked:
            is_asked = True
            return {"type": "http.request", "body": b"", "more_body": False}
        await (gone or asyncio.Event()).wait()
        return {"type": "http.disconnect"}

    async def send(message):
        told.append(message)

    scope = {
        "type": "http", "method": "GET", "path": at, "headers": [(b"host", b"localhost")], "query_string": b"",
        "server": ("localhost", 80), "client": ("127.0.0.1", 1), "scheme": "http", "http_version": "1.1",
    }  # fmt: skip
    await handler(scope, receive, send)
    return b"".join(message.get("body", b"") for message in told)


async def test_one_thread_answers_one_request_after_the_other(handler):
    for at, expected in (("/plain", b"yes"), ("/loop", b"loop"), ("/plain", b"yes")):
        assert await ask(handler, at) == expected
        while not handler.threads._free:
            await asyncio.sleep(0.01)
    assert len(set(seen)) == 1 and seen[0] != threading.get_ident()


async def test_who_is_slow_keeps_nobody_else_waiting(handler):
    waiting = asyncio.create_task(ask(handler, "/slow"))
    while not seen:
        await asyncio.sleep(0.01)
    assert await asyncio.wait_for(ask(handler, "/plain"), 10) == b"yes"
    release.set()
    assert await waiting == b"late" and len(set(seen)) == 2


async def test_a_thread_that_still_works_for_who_hung_up_is_given_to_nobody(handler):
    gone = asyncio.Event()
    left = asyncio.create_task(ask(handler, "/slow", gone))
    while not seen:
        await asyncio.sleep(0.01)
    gone.set()
    assert await asyncio.wait_for(ask(handler, "/plain"), 10) == b"yes"
    assert seen[0] != seen[1]
    release.set()
    await left


async def test_not_more_threads_are_kept_than_may_wait(handler, monkeypatch):
    monkeypatch.setattr(module, "MOST_KEPT", 1)
    waiting = [asyncio.create_task(ask(handler, "/slow")) for _ in range(3)]
    while len(seen) < 3:
        await asyncio.sleep(0.01)
    release.set()
    assert await asyncio.gather(*waiting) == [b"late"] * 3
    threads = {thread.ident: thread for thread in threading.enumerate() if thread.ident in seen}
    for _ in range(200):
        if sum(thread.is_alive() for thread in threads.values()) == 1:
            break
        await asyncio.sleep(0.02)
    assert sum(thread.is_alive() for thread in threads.values()) == 1
