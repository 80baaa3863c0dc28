"""Bodies of requests: what is too long, too slow or from nobody is refused before anything of it is kept."""

from __future__ import annotations

import asyncio
import json

import pytest
from asgiref.sync import sync_to_async
from django.conf import settings
from django.test import Client

from ordnung.server import bodies
from ordnung.server.bodies import SMALL, Bodies
from ordnung.server.rights.commands import MIB
from tests.server.conftest import make_person

pytestmark = pytest.mark.django_db(transaction=True)
PIECE = bytes(SMALL)


class Line:
    """A client that sends pieces and takes the answer; ``asked`` is how many pieces were taken off the line."""

    def __init__(self, method: str, path: str, pieces, *, length: int | None = None, cookie: str = "") -> None:
        self.pieces, self.asked, self.told = iter(pieces), 0, []
        headers = [(b"host", b"localhost"), (b"cookie", cookie.encode())]
        headers += [(b"transfer-encoding", b"chunked")] if length is None else [(b"content-length", b"%d" % length)]
        self.scope = {"type": "http", "method": method, "path": path, "headers": headers}

    async def receive(self):
        piece = next(self.pieces, None)
        if piece is None:
            await asyncio.sleep(3600)
        self.asked += 1
        return {"type": "http.request", "body": piece, "more_body": True}

    async def send(self, message):
        self.told.append(message)

    async def ask(self, app=None) -> tuple[int, dict]:
        await Bodies(app or read_all)(self.scope, self.receive, self.send)
        start, body = self.told
        assert dict(start["headers"])[b"content-type"] == b"application/problem+json"
        return start["status"], json.loads(body["body"])


async def read_all(scope, receive, send):
    """As Django does it: everything, before anybody is asked who that is."""
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            return
        if not message.get("more_body"):
            await send({"type": "http.response.start", "status": 204, "headers": []})
            return


def session_of(name: str) -> str:
    client = Client()
    client.force_login(make_person(name))
    return f"{settings.SESSION_COOKIE_NAME}={client.cookies[settings.SESSION_COOKIE_NAME].value}"


@pytest.fixture
async def signed_in():
    return await sync_to_async(session_of)("keeper")


@pytest.mark.parametrize("path", ["/api/v1/catalogs", "/api/v1/uploads/3d6f4b1e-6c0c-4a52-8f4e-0f1df3e3a111"])
@pytest.mark.parametrize("cookie", ["", "ordnung-session=made-up"])
@pytest.mark.parametrize("length", [None, 300 * MIB])
async def test_nobody_unknown_sends_more_than_a_form_has(path, cookie, length):
    line = Line("PUT" if "uploads" in path else "POST", path, [PIECE] * 5, length=length, cookie=cookie)
    status, problem = await line.ask()
    assert (status, problem["type"], line.asked) == (401, "ordnung:not_authenticated", 0)


@pytest.mark.parametrize("path", ["/api/v1/sign-in", "/nowhere", "/api/v1/nowhere"])
async def test_where_nobody_need_sign_in_little_is_enough_for_everybody(path, signed_in):
    line = Line("POST", path, [PIECE] * 5, cookie=signed_in)
    status, problem = await line.ask()
    assert (status, problem["type"], line.asked) == (413, "ordnung:too-large", 2)


@pytest.mark.parametrize(
    ("method", "path", "most"),
    [
        ("POST", "/api/v1/surveys", 4 * MIB),
        ("PUT", "/api/v1/uploads/3d6f4b1e-6c0c-4a52-8f4e-0f1df3e3a111", 32 * MIB),
    ],
)
async def test_each_address_has_a_limit_whether_its_length_is_told_or_not(method, path, most, signed_in):
    told = Line(method, path, [PIECE] * 5, length=most + 1, cookie=signed_in)
    assert (await told.ask())[0] == 413 and told.asked == 0
    untold = Line(method, path, [PIECE] * 600, cookie=signed_in)
    assert (await untold.ask())[0] == 413 and untold.asked == most // SMALL + 1


async def test_what_comes_too_slowly_is_hung_up_on(monkeypatch, signed_in):
    monkeypatch.setattr(bodies, "BEGIN_S", 0.05)
    monkeypatch.setattr(bodies, "SLOWEST", 10**12)
    status, problem = await Line("POST", "/api/v1/surveys", [b"{"], length=10, cookie=signed_in).ask()
    assert (status, problem["type"]) == (408, "ordnung:too-slow")


async def test_past_its_body_a_request_may_stay_as_long_as_it_likes(monkeypatch):
    """Event streams listen for the end of the line for hours."""
    monkeypatch.setattr(bodies, "BEGIN_S", 0.0)
    came: list[str] = []

    async def receive():
        came.append("asked")
        return {"type": "http.request", "body": b"", "more_body": False} if len(came) == 1 else dict(bodies.GONE)

    async def stream(scope, receive, send):
        await receive()
        await asyncio.sleep(0.02)
        assert (await receive())["type"] == "http.disconnect"
        await send({"type": "http.response.start", "status": 200, "headers": []})

    told = []

    async def send(message):
        told.append(message)

    await Bodies(stream)({"type": "http", "method": "GET", "path": "/", "headers": []}, receive, send)
    assert told[0]["status"] == 200
