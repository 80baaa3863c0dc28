"""The client against live stand-ins: what is read equals the hardware; every refusal has its cause."""

from __future__ import annotations

import contextlib
import dataclasses
import datetime
import ssl

import aiohttp
import pytest

from ordnung.controllers import (
    CAUSES,
    Client,
    ControllerError,
    Endpoint,
    Limits,
    LostAnswerError,
    RedfishControllers,
)
from ordnung.controllers.client import map_errors, shorten
from ordnung.engine.survey import read_one, survey
from ordnung.formats.siteclock import SiteClock
from ordnung.standins.faults import Fault

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)


async def read(live, endpoint, ca="own", **limits):
    async with Client(live.ca if ca == "own" else ca, Limits(**limits)) as client:
        controllers = RedfishControllers(client)
        try:
            async with controllers.open(endpoint) as controller:
                return await controller.read(lambda: NOW), controller.pin
        finally:
            await controllers.close()


async def refusal(live, endpoint, **how) -> ControllerError:
    with pytest.raises(ControllerError) as caught:
        await read(live, endpoint, **how)
    assert caught.value.cause in CAUSES and caught.value.remedy and endpoint.password not in str(caught.value)
    return caught.value


@pytest.mark.parametrize("name", ["surge-07", "surge-08", "gauge-04", "vault-01"])
async def test_a_reading_equals_the_hardware(live, name):
    server, _ = await read(live, live.endpoint(name))
    device = live.device(name)
    assert (server.model, server.serial) == (device.model, device.serial)
    found = {c.slot: (c.kind, c.software_id, c.version, c.waiting, c.pci) for c in server.components}
    assert found == {p.slot: (p.kind, p.software_id, p.version, p.waiting, p.pci) for p in device.parts}
    banks = {c.slot: c.banks for c in server.components}
    assert banks["bios"] == (device.part("bios").version, device.part("bios").spare)


async def test_sessions_are_closed_behind_us(live):
    await read(live, live.endpoint("surge-01"))
    assert live.device("surge-01").sessions == {}


async def test_a_wrong_password(live):
    error = await refusal(live, live.endpoint("surge-01", password="wrong"))
    assert (error.cause, error.detail) == ("signed out", "it refused user ordnung")


async def test_a_controller_that_is_not_there(live):
    assert (await refusal(live, live.endpoint("surge-01", url="https://127.20.77.77:8443"))).cause == "refused"


async def test_a_controller_that_hangs_up(live):
    live.call(live.device("surge-01").faults.append, Fault("silent"))
    assert (await refusal(live, live.endpoint("surge-01"))).cause == "unreachable"


async def test_a_certificate_that_changed_is_refused_before_anything_is_sent(live):
    _, pin = await read(live, live.endpoint("surge-01"))
    live.call(live.floor.renew_certificate, live.device("surge-01"))
    before = len(live.device("surge-01").log)
    error = await refusal(live, live.endpoint("surge-01", pin=pin))
    assert error.cause == "certificate changed" and error.seen and error.seen != pin
    assert len(live.device("surge-01").log) == before
    assert (await read(live, live.endpoint("surge-01", pin=error.seen)))[1] == error.seen


async def test_a_certificate_from_elsewhere(live, tmp_path):
    from ordnung.standins.certificates import open_authority

    other = str(open_authority(tmp_path / "other").path)
    assert (await refusal(live, live.endpoint("surge-01"), ca=other)).cause == "certificate invalid"
    assert (await refusal(live, live.endpoint("surge-01"), ca=None)).cause == "certificate invalid"


async def test_something_that_is_not_tls(live):
    url = live.floor.control_url.replace("http:", "https:")
    assert (await refusal(live, live.endpoint("surge-01", url=url))).cause == "not Redfish"


async def test_something_that_is_not_redfish(live):
    assert (
        await refusal(live, live.endpoint("surge-01", url=live.floor.mirror_url.rstrip("/")))
    ).cause == "not Redfish"


async def test_an_answer_too_large_is_cut_off(live):
    assert (await refusal(live, live.endpoint("vault-01"), answer_bytes=500)).cause == "malformed answer"


async def test_partial_failure_is_named_and_disturbs_no_one(live):
    wrong = live.endpoint("surge-03", password="wrong")
    endpoints = [live.endpoint("surge-01"), live.endpoint("surge-02"), wrong]
    results = {}

    async def told(result):
        results[result.name] = result

    async with Client(live.ca) as client:
        assert await survey(endpoints, RedfishControllers(client), SiteClock(), told) == 2
    assert results["surge-03"].error.cause == "signed out" and results["surge-01"].server


async def test_a_reading_that_takes_too_long_has_its_cause(live):
    live.call(setattr, live.floor.face, "service_ms", 200.0)
    async with Client(live.ca) as client:
        result = await read_one(live.endpoint("surge-01"), RedfishControllers(client), SiteClock(), deadline_s=0.05)
    assert result.error.cause == "too slow"


def test_every_lower_error_is_mapped():
    """Every exception class of the libraries below: constructed or not, it comes out as one of the causes."""
    lower = [*_subclasses(aiohttp.ClientError), *_subclasses(ssl.SSLError), *_subclasses(ConnectionError), TimeoutError]
    assert len(lower) > 20
    for kind in lower:
        error = kind.__new__(kind)
        for acted in (False, True):
            with contextlib.suppress(AttributeError):  # half-made errors lack what only their maker sets
                found = map_errors("s", error, acted=acted)
                assert found.cause in CAUSES, kind
                assert acted or not isinstance(found, LostAnswerError), kind
    assert map_errors("s", ConnectionRefusedError(111, "refused"), acted=True).cause == "refused"
    assert isinstance(map_errors("s", ConnectionResetError(), acted=True), LostAnswerError)


def _subclasses(kind):
    return [kind, *(inner for one in kind.__subclasses__() for inner in _subclasses(one))]


def test_secrets_do_not_show():
    endpoint = Endpoint(name="s", url="https://x", user="u", password="hush")
    assert "hush" not in repr(endpoint) and dataclasses.replace(endpoint).password == "hush"
    assert shorten("0123456789abcdef" * 4) == "01234567…89abcdef"


async def test_connections_are_kept_for_the_whole_conversation(live):
    """Each request once opened a connection of its own, because its trust was a new object each time."""
    await read(live, live.endpoint("vault-01"))
    seen = live.floor.face.connections["vault-01"]
    assert 1 <= len(seen) <= Limits().per_host
