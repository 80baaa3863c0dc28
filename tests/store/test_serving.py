"""The payload server in its own process: what the engine sees of it."""

from __future__ import annotations

import asyncio
import os
import ssl

import aiohttp
import pytest

from ordnung.store import ContentStore, PayloadProcess, RunDisc
from tests.repository.test_payloads import put

ADDRESS = "127.20.100.4"


@pytest.fixture
def store(tmp_path):
    return ContentStore(tmp_path / "store")


@pytest.fixture
def certificate(live):
    return live.floor.authority.issue(ADDRESS, "serving")


@pytest.fixture
async def serving(store, certificate):
    told = asyncio.Queue()
    server = PayloadProcess(store, b"secret", told.put_nowait)
    await server.start(ADDRESS, 0, certificate)
    yield server, told
    await server.stop()


@pytest.fixture
async def http(live):
    context = ssl.create_default_context(cafile=live.ca)
    async with aiohttp.ClientSession() as session:

        async def ask(method, url):
            async with session.request(method, url, ssl=context) as answer:
                return answer.status, await answer.read()

        yield ask


async def test_what_is_open_is_served_and_told_until_it_is_closed(serving, store, http):
    server, told = serving
    sha256 = put(store, b"a payload")
    uris = [server.uri("7", "surge-01", sha256, protocol) for protocol in ("HTTPS", "HTTP")]
    assert [(await http("GET", uri))[0] for uri in uris] == [404, 404]
    await server.allow("7", ["surge-01"], [sha256])
    assert [await http("GET", uri) for uri in uris] == [(200, b"a payload")] * 2
    fetches = [await told.get() for _ in uris]
    assert {(f.run, f.server, f.sha256, f.protocol, f.bytes, f.whole) for f in fetches} == {
        ("7", "surge-01", sha256, "HTTPS", 9, True), ("7", "surge-01", sha256, "HTTP", 9, True),
    }  # fmt: skip
    server.close_run("7")
    await server.allow("8", ["surge-02"], [sha256])
    assert (await http("GET", uris[0]))[0] == 404


async def test_a_bell_is_heard_and_a_foreign_one_is_not(serving, http):
    server, _ = serving
    address, rung = server.hang("HTTPS")
    foreign = address[:-4] + "0000"
    assert (await http("POST", foreign))[0] == 404 and not rung.is_set()
    assert (await http("POST", address))[0] == 204
    async with asyncio.timeout(10):
        await rung.wait()
    assert server.hang("FTP") is None


async def test_one_that_was_killed_comes_back_at_its_addresses_with_what_was_open(serving, store, http):
    server, _ = serving
    sha256 = put(store, b"a payload")
    await server.allow("7", ["surge-01"], [sha256])
    before, first = dict(server.bases), server._process.pid
    os.kill(first, 9)
    async with asyncio.timeout(20):
        while server._process.pid == first or server._process.returncode is not None:
            await asyncio.sleep(0.05)
    for attempt in range(100):
        try:
            assert await http("GET", server.uri("7", "surge-01", sha256)) == (200, b"a payload")
            break
        except aiohttp.ClientConnectionError:
            assert attempt < 99
            await asyncio.sleep(0.1)
    assert server.bases == before
    await server.allow("8", ["surge-02"], [sha256])
    assert (await http("GET", server.uri("8", "surge-02", sha256, "HTTP")))[0] == 200


async def test_an_address_that_is_not_ours_or_taken_is_told(store, certificate, serving, monkeypatch):
    server, _ = serving
    other = PayloadProcess(store, b"secret")
    with pytest.raises(OSError, match="address"):
        await other.start("192.0.2.1", 0, certificate)
    port = int(server.bases["HTTPS"].rpartition(":")[2])
    with pytest.raises(OSError, match="in use"):
        await other.start(ADDRESS, port, certificate)


async def test_it_ends_with_the_engine(store, certificate):
    server = PayloadProcess(store, b"secret")
    await server.start(ADDRESS, 0, certificate)
    process = server._process
    await server.stop()
    assert process.returncode == 0


@pytest.fixture
async def part(live):
    context = ssl.create_default_context(cafile=live.ca)
    async with aiohttp.ClientSession() as session:

        async def ask(url, span=None, method="GET"):
            headers = {"Range": span} if span else {}
            async with session.request(method, url, ssl=context, headers=headers) as answer:
                return answer.status, await answer.read(), dict(answer.headers)

        yield ask


async def test_a_disc_is_served_with_what_is_behind_it_to_the_server_that_it_is_for(serving, store, part, tmp_path):
    server, _ = serving
    image = tmp_path / "edition-1.iso"
    image.write_bytes(bytes(range(256)) * 16)
    whole = image.read_bytes() + b"for surge-01"
    await server.allow("7", ["surge-01", "surge-02"], [], RunDisc(path=image, tails={"surge-01": b"for surge-01"}))
    uris = [server.disc_uri("7", "surge-01", protocol) for protocol in ("HTTPS", "HTTP")]
    assert [(await part(uri))[1] for uri in uris] == [whole] * 2 and uris[0].endswith("/ordnung-run-7.iso")
    for span, expected in (
        ("bytes=0-15", whole[:16]), ("bytes=4090-4099", whole[4090:4100]), ("bytes=4096-", whole[4096:]),
        ("bytes=-6", whole[-6:]), ("bytes=4100-99999", whole[4100:]),
    ):  # fmt: skip
        status, body, headers = await part(uris[0], span)
        assert (status, body) == (206, expected), span
        assert headers["Content-Range"].endswith(f"/{len(whole)}") and int(headers["Content-Length"]) == len(expected)
    status, _, headers = await part(uris[0], "bytes=5000-5001")
    assert status == 416 and headers["Content-Range"] == f"bytes */{len(whole)}"
    assert (await part(uris[0], "bytes=what"))[0] == 416
    status, body, headers = await part(uris[0], method="HEAD")
    assert (status, body, int(headers["Content-Length"])) == (200, b"", len(whole))
    assert (await part(server.disc_uri("7", "surge-02")))[0] == 404, "it has none"
    assert (await part(uris[0].replace("run-7", "run-8")))[0] == 404
    image.unlink()
    assert (await part(uris[0]))[0] == 404
    server.close_run("7")
    assert (await part(uris[1]))[0] == 404
