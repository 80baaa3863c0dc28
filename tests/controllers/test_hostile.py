"""Hostile and broken answers of any kind: each ends as a reading that is valid, or as a named cause for that server."""

from __future__ import annotations

import asyncio
import dataclasses
import datetime
import json
import random
import resource
from pathlib import Path

import pytest
from aiohttp import web

from ordnung.controllers import CAUSES, Client, ControllerError, Endpoint, Limits, RedfishControllers, answers
from ordnung.controllers.answers import (
    Answer,
    MalformedError,
    as_number,
    as_path,
    as_text,
    leaves_open,
    parse_body,
    retry_after,
    wants_it_later,
)
from ordnung.controllers.session import Session
from ordnung.controllers.ssdp import read_answer
from ordnung.controllers.survey import read_server
from ordnung.engine.survey import survey
from ordnung.formats.addresses import parse_networks
from ordnung.formats.readings import parse_readings, write_readings
from ordnung.formats.resolving import CheckedResolver, NotAllowedError
from ordnung.formats.siteclock import SiteClock
from ordnung.formats.text import clean
from ordnung.standins.certificates import make_context, open_authority
from ordnung.standins.faults import QUIRKS
from ordnung.standins.models import MODELS
from ordnung.standins.scenario import demo_hardware, random_places
from tests.simulation.lines import InProcessLine

NOW = datetime.datetime(2026, 11, 23, 1, tzinfo=datetime.UTC)
QUICK = Limits(request_s=1.0, connect_s=1.0, read_tries=2, answer_bytes=2**18, longest_wait_s=0.2)
JUNK = (
    None, True, False, 0, -1, 2**70, 1e308, "", " ", "²", "\ud800", "\x1b[2J", "a" * 5000, [], {}, [[]], [{}], {"a": 1},
    [None], {"@odata.id": "/redfish/v1"}, {"@odata.id": "//evil.example/x"}, {"@odata.id": "http://evil.example/x"},
    {"@odata.id": 7}, {"@odata.id": "no path"}, [{"@odata.id": "/redfish/v1/"}] * 3, "[bold]name[/]", "\u202eevil",
)  # fmt: skip


class Junk(InProcessLine):
    """A stand-in some of whose values are replaced by junk, keys and all."""

    def __init__(self, device, endpoint, chance) -> None:
        super().__init__(device, endpoint)
        self.chance = chance

    async def ask(self, method, path, headers, body=None, *, acted=False):
        answer = await super().ask(method, path, headers, body, acted=acted)
        spoiled = self._spoil(answer.body, 0)
        try:
            return Answer(answer.status, answer.headers, parse_body(json.dumps(spoiled).encode("utf-8"), answer.status))
        except MalformedError as error:
            raise ControllerError(self.endpoint.name, "malformed answer", str(error)) from None

    def _spoil(self, value, depth):
        if depth and self.chance.random() < 0.04:
            return self.chance.choice(JUNK)
        if isinstance(value, dict):
            return {key: self._spoil(inner, depth + 1) for key, inner in value.items()}
        return [self._spoil(inner, depth + 1) for inner in value] if isinstance(value, list) else value


def test_no_byte_that_is_passed_over_begins_anything_suspect():
    for byte in answers._HARMLESS:
        for rest in (b"", b"\x80", b"\xa8", b"\x85", b"\xbb\xbf", b"\xa0", b"n", b"u"):
            assert answers._SUSPECT.match(bytes([byte]) + rest) is None


@pytest.mark.exhaustive
@pytest.mark.parametrize("seed", range(60))
def test_a_reading_of_junk_is_valid_or_a_named_cause(seed):
    chance = random.Random(seed)
    (place,) = random_places(1, seed, MODELS)
    (device,) = demo_hardware(NOW.timestamp, [place])
    where = Endpoint(name="x", url="https://x.example", user=device.user, password=device.password)

    async def read():
        session = Session(Junk(device, where, chance))
        await session.sign_in()
        return await read_server(session, where, lambda: NOW)

    try:
        server = asyncio.run(read())
    except ControllerError as error:
        found = error
        server = None
    if server is None:
        assert found.cause in CAUSES and found.remedy
        return
    assert parse_readings(write_readings([server])) == (server,)
    told = json.dumps([server.model, server.serial, *(c.name for c in server.components)], ensure_ascii=False)
    assert clean(told) == told, "nothing in it steers a terminal"


# Over real HTTPS: one listener for each way of being hostile


async def _hang(request):
    await asyncio.sleep(5)
    return web.Response()


def _json(text, status=200, **headers):
    async def answer(request):
        return web.Response(body=text, status=status, headers=headers, content_type="application/json")

    return answer


async def _redirect_elsewhere(request):
    return web.Response(status=307, headers={"Location": "http://169.254.169.254/latest"})


async def _redirect_in_circles(request):
    return web.Response(status=308, headers={"Location": request.path})


async def _members_without_end(request):
    at = int(request.query.get("at", 0))
    if request.path.endswith("/v1/"):
        return web.json_response({"RedfishVersion": "1.0", "Systems": {"@odata.id": "/redfish/v1/Systems"}})
    members = [{"@odata.id": f"/redfish/v1/Systems/{at}-{n}"} for n in range(500)]
    return web.json_response({"Members": members, "Members@odata.nextLink": f"/redfish/v1/Systems?at={at + 1}"})


ROOT = b'{"RedfishVersion": "1.0", "Systems": {"@odata.id": "/redfish/v1/Systems"}, "Links": {"Sessions": {"@odata.id": "/s"}}}'
HOSTILE = {
    "hangs": _hang,
    "text": _json(b"<html>"),
    "a list": _json(b"[1]"),
    "NaN": _json(b'{"RedfishVersion": NaN}'),
    "deep": _json(b'{"a":' * 5000 + b"1" + b"}" * 5000),
    "huge": _json(b'{"a": "' + b"x" * 2**19 + b'"}'),
    "not UTF-8": _json(b'{"RedfishVersion": "\xff\xfe"}'),
    "redirect elsewhere": _redirect_elsewhere,
    "redirect in circles": _redirect_in_circles,
    "busy for ever": _json(b"{}", 503, **{"Retry-After": "99999999999999999999"}),
    "busy, no number": _json(b"{}", 503, **{"Retry-After": "\u00b2"}),
    "says 500": _json(b'{"error": {"message": "\\u001b[31mboom"}}', 500),
    "no one signs in": _json(ROOT, 401),
    "members without end": _members_without_end,
}


@pytest.fixture
async def hostile(tmp_path):
    """A listener for each, by name; and the authority that vouches for them."""
    authority = open_authority(tmp_path / "ca")
    runners, urls = [], {}
    for number, (name, handler) in enumerate(HOSTILE.items(), start=1):
        address = f"127.20.200.{number}"
        app = web.Application()
        app.router.add_route("*", "/{path:.*}", handler)
        runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.1)
        await runner.setup()
        site = web.TCPSite(runner, address, 0, ssl_context=make_context(authority.issue(address, f"h{number}")))
        await site.start()
        urls[name] = f"https://{address}:{runner.addresses[0][1]}"
        runners.append(runner)
    yield urls, authority.path
    for runner in runners:
        await runner.cleanup()


@pytest.mark.exhaustive
async def test_many_hostile_ones_and_many_legal_shapes_in_one_survey(hostile, live, tmp_path):
    """All legal ones are read completely, all others named, and memory stays flat."""
    urls, ca = hostile
    bundle = tmp_path / "both.pem"
    bundle.write_bytes(ca.read_bytes() + Path(live.ca).read_bytes())
    names = list(live.floor.by_name)
    for name, quirk in zip(names, [*QUIRKS, *QUIRKS], strict=False):
        live.call(setattr, live.device(name), "quirks", frozenset({quirk}))
    endpoints = [live.endpoint(name) for name in names]
    endpoints += [Endpoint(name=name, url=url, user="u", password="p") for name, url in urls.items()] * 3
    told = {}

    async def hear(result):
        told[result.name] = result

    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    patient = dataclasses.replace(QUICK, request_s=8.0, connect_s=8.0)  # all at once, on a machine that has other work
    async with Client(str(bundle), patient) as client:
        read = await survey(endpoints, RedfishControllers(client), SiteClock(), hear)
    assert read == len(names), [(n, told[n].error) for n in names if told[n].error]
    for name in names:
        assert len(told[name].server.components) >= len([p for p in live.device(name).seen if p.kind != "store"]) - 4
    for name in urls:
        assert told[name].error is not None and told[name].error.cause in CAUSES, name
        assert clean(str(told[name].error)) == str(told[name].error)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 200_000, "KiB"


# The pieces


@pytest.mark.parametrize(
    ("told", "seconds"),
    [("5", 5), ("0", 1), ("²", 30), ("-4", 30), ("9" * 18, 86400), ("9" * 40, 30), ("soon", 30), (None, 30),
     ("Wed, 21 Oct 2015 07:28:00 GMT", 1)],
)  # fmt: skip
def test_how_long_to_wait_is_a_number_or_a_date_and_bounded(told, seconds):
    assert retry_after(Answer(503, {} if told is None else {"retry-after": told}, {})) == seconds


@pytest.mark.parametrize(
    ("error", "later"),
    [({"code": "Base.1.18.ResourceInUse"}, True),
     ({"code": "Base.1.0.GeneralError", "@Message.ExtendedInfo": [{"MessageId": "Update.1.1.UpdateInProgress"}]}, True),
     ({"code": "Base.1.18.ResourceExhaustion"}, False), ({"code": 7, "@Message.ExtendedInfo": ["ResourceInUse"]}, False),
     (None, False)],
)  # fmt: skip
def test_what_is_refused_for_the_moment_alone_is_told_by_its_message(error, later):
    assert wants_it_later({} if error is None else {"error": error}) is later


def test_which_answers_leave_open_whether_something_was_done():
    told = {status for status in (*range(200, 209), *range(300, 309), *range(400, 452), *range(500, 512))
            if leaves_open(Answer(status, {}, {}))}  # fmt: skip
    assert told == {*range(300, 307), 500, 502, 504, 506, 508, 509, 510, 511}


def test_numbers_texts_and_paths_of_devices():
    assert [as_number(v) for v in ("7", " 7 ", 7, 7.9, "²", "1e3", -1, True, "9" * 30, float("inf"))] == [
        7, 7, 7, 7, None, None, None, None, None, None,
    ]  # fmt: skip
    assert as_text(3.5) == "3.5" and as_text(" \t ") is None and as_text("x" * 600) == "x" * 499 + "…"
    assert as_text("a\x00b\x1b[31m\u202ec") == "a\ufffdb\ufffd[31m\ufffdc"
    assert [as_path(v) for v in ("/a?b=1", "https://h/a", "http://[", None, "")] == ["/a?b=1", "/a", None, None, None]


def test_control_characters_are_cleaned_wherever_they_stand():
    body = parse_body(b'{"Na\\u0007me": "R9\\tRAID\\u001b[2J \\ud800 \xe2\x80\xae"}', 200)
    assert body == {"Na\ufffdme": "R9 RAID\ufffd[2J \ufffd \ufffd"}
    assert parse_body(b"oops", 500) == {} and parse_body(b"", 200) == {}


@pytest.mark.parametrize(
    "raw",
    [b"", b"\xff\xfe\x00", b"HTTP/1.1 200 OK", b"HTTP/1.1 200 OK\r\nAL: https://x/redfish/v1/",
     b"HTTP/1.1 200 OK\r\nUSN: uuid:%s::urn:dmtf-org:service:redfish-rest:1\r\nAL: https://x y/redfish/v1/" % (b"1" * 36),
     b"HTTP/1.1 200 OK\r\nUSN: uuid:1\r\nAL: javascript:alert(1)"],
)  # fmt: skip
def test_nonsense_on_the_network_is_no_announcement(raw):
    assert read_answer(raw) is None


# Names as addresses


async def test_a_name_is_resolved_and_every_address_of_it_checked():
    loop = CheckedResolver(parse_networks("127.0.0.0/8,::1/128"))
    assert "127.0.0.1" in await loop.addresses("localhost", 443)
    strict = CheckedResolver(parse_networks("10.0.0.0/8"))
    with pytest.raises(NotAllowedError, match=r"localhost is .*, which is not in 10\.0\.0\.0/8"):
        await strict.addresses("localhost", 443)
    with pytest.raises(NotAllowedError):
        await strict.resolve("127.0.0.1", 443)


async def test_a_controller_is_reached_by_its_name_and_its_certificate_must_name_it(live):
    """The name resolves to an address of another certificate: what it shows does not name it."""
    port = live.floor.urls["surge-01"].rsplit(":", 1)[1]
    endpoint = live.endpoint("surge-01", url=f"https://localhost:{port}")
    async with Client(live.ca, Limits(), parse_networks("10.0.0.0/8")) as client:
        with pytest.raises(ControllerError) as caught:
            await client.fetch_pin(endpoint)
        assert caught.value.cause == "not allowed"
        pinned = live.endpoint("surge-01", url=f"https://localhost:{port}", pin="ab" * 32)
        with pytest.raises(ControllerError) as caught:
            async with RedfishControllers(client).open(pinned):
                pass
        assert caught.value.cause == "not allowed"


# Several systems behind one controller


class Table:
    """A line that answers from a table of resources."""

    pin, limits = "00" * 32, QUICK

    def __init__(self, endpoint, table) -> None:
        self.endpoint, self.table, self.posted = endpoint, table, []

    async def ask(self, method, path, headers, body=None, *, acted=False):
        if method == "POST":
            self.posted.append((path, body))
            return Answer(204, {}, {})
        found = self.table.get(path.rstrip("/"))
        return Answer(404, {}, {}) if found is None else Answer(200, {}, json.loads(json.dumps(found)))


def two_systems():
    v1 = "/redfish/v1"
    link = lambda path: {"@odata.id": f"{v1}/{path}"}  # noqa: E731
    table = {
        v1: {"RedfishVersion": "1.6.0", "Systems": link("Systems"), "Chassis": link("Chassis"),
             "Managers": link("Managers"), "UpdateService": link("UpdateService")},
        f"{v1}/Systems": {"Members": [link("Systems/left"), link("Systems/right")]},
        f"{v1}/Managers": {"Members": [link("Managers/bmc")]},
        f"{v1}/Managers/bmc": {**link("Managers/bmc"), "Name": "Shared", "FirmwareVersion": "9"},
        f"{v1}/Chassis": {"Members": [link("Chassis/left"), link("Chassis/right")]},
        f"{v1}/UpdateService": {"FirmwareInventory": link("UpdateService/FirmwareInventory")},
        f"{v1}/UpdateService/FirmwareInventory": {"Members": [
            {**link(f"UpdateService/FirmwareInventory/{side}-bios"), "Id": f"{side}-bios", "Name": "BIOS", "Version": v,
             "RelatedItem": [link(f"Systems/{side}/Bios")]} for side, v in (("left", "1"), ("right", "2"))
        ] + [{**link("UpdateService/FirmwareInventory/bmc"), "Id": "bmc", "Name": "BMC", "Version": "9",
              "RelatedItem": [link("Managers/bmc")]}]},
    }  # fmt: skip
    for side in ("left", "right"):
        table[f"{v1}/Systems/{side}"] = {
            **link(f"Systems/{side}"), "Id": side, "Model": "Sled", "SerialNumber": f"S-{side}", "PowerState": "On",
            "Bios": link(f"Systems/{side}/Bios"), "LastResetTime": f"t-{side}",
            "Links": {"Chassis": [link(f"Chassis/{side}")], "ManagedBy": [link("Managers/bmc")]},
            "Actions": {"#ComputerSystem.Reset": {"target": f"{v1}/Systems/{side}/reset"}},
        }  # fmt: skip
        table[f"{v1}/Systems/{side}/Bios"] = link(f"Systems/{side}/Bios")
        table[f"{v1}/Chassis/{side}"] = link(f"Chassis/{side}")
    for member in table[f"{v1}/UpdateService/FirmwareInventory"]["Members"]:
        table[member["@odata.id"]] = member
    return table


@pytest.mark.parametrize(("side", "version"), [("left", "1"), ("right", "2")])
async def test_each_system_behind_one_controller_is_a_server_of_its_own(side, version):
    from ordnung.controllers import RedfishController

    where = Endpoint(name=side, url="https://x", user="", password="", system=f"/redfish/v1/Systems/{side}")
    line = Table(where, two_systems())
    controller = RedfishController(Session(line))
    server = await controller.read(lambda: NOW)
    assert server.serial == f"S-{side}"
    assert {c.slot: c.version for c in server.components} == {f"{side}-bios": version, "bmc": "9"}
    assert (await controller.marker()).system == f"t-{side}"
    await controller.reset(await controller.find_reset("server reboot"))
    assert line.posted == [(f"/redfish/v1/Systems/{side}/reset", {"ResetType": "GracefulRestart"})]


async def test_a_system_that_is_gone_is_named():
    where = Endpoint(name="x", url="https://x", user="", password="", system="/redfish/v1/Systems/middle")
    with pytest.raises(ControllerError, match="has no system /redfish/v1/Systems/middle any more"):
        await read_server(Session(Table(where, two_systems())), where, lambda: NOW)
