"""A controller at an address of one link: the inner link of a server may have no other (DSP0270, RFC 4007)."""

from __future__ import annotations

import ipaddress
import ssl
from pathlib import Path

import pytest
from aiohttp import web

from ordnung.controllers import Client, Endpoint
from ordnung.controllers.client import _host_header
from ordnung.standins.certificates import open_authority


def own_address() -> str:
    """An address of one link that this machine has, with the link; empty where it has none."""
    try:
        lines = Path("/proc/net/if_inet6").read_text().split("\n")
    except OSError:
        return ""
    for line in filter(None, lines):
        digits, _, _, scope, _, link = line.split()
        if scope == "20":
            return f"{ipaddress.IPv6Address(int(digits, 16))}%{link}"
    return ""


@pytest.mark.parametrize(
    ("url", "header"),
    [
        ("https://[fe80::1%25usb0]", {"Host": "[fe80::1]:443"}),
        ("https://[fe80::1%25usb0]:8443", {"Host": "[fe80::1]:8443"}),
        ("https://[2001:db8::1]:8443", {}),
        ("https://10.0.0.1", {}),
    ],
)
def test_which_of_our_links_it_is_on_is_not_told(url, header):
    assert _host_header(url) == header


async def test_it_is_looked_at_and_asked_over_its_link(tmp_path):
    address = own_address()
    if not address:
        pytest.skip("this machine has no link with an address of its own")
    asked = []

    async def answer(request):
        asked.append(request.headers["Host"])
        return web.json_response({"RedfishVersion": "1.15.0"})

    app = web.Application()
    app.router.add_get("/redfish/v1/", answer)
    runner = web.AppRunner(app)
    await runner.setup()
    authority = open_authority(tmp_path / "ca")
    authority.issue(address.partition("%")[0], "inner")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(authority.folder / "inner.pem")
    site = web.TCPSite(runner, address, 0, ssl_context=context)
    await site.start()
    port = site._server.sockets[0].getsockname()[1]
    endpoint = Endpoint(name="own", url=f"https://[{address.replace('%', '%25')}]:{port}", user="u", password="p")
    try:
        async with Client(str(authority.path)) as client:
            pin = await client.see_pin(endpoint)
            assert await client.fetch_pin(endpoint) == pin, "its certificate is for the address"
            got = await client.line(endpoint, pin).ask("GET", "/redfish/v1/", {})
        assert got.status == 200 and asked == [f"[{address.partition('%')[0]}]:{port}"]
    finally:
        await runner.cleanup()
