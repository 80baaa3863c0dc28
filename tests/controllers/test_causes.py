"""Every cause of the closed list, provoked on the stand-in over real HTTPS; and what a survey does about it."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import datetime
from contextlib import asynccontextmanager
from pathlib import Path

import pytest

from ordnung.controllers import CAUSES, AnotherServerError, Client, ControllerError, RedfishControllers
from ordnung.controllers.client import Limits
from ordnung.controllers.identity import Identity, identify
from ordnung.controllers.pace import Pace
from ordnung.engine.discover import Known, find_doubles, look_at, match_known
from ordnung.engine.reach import probe_one
from ordnung.engine.survey import survey
from ordnung.formats.addresses import parse_networks
from ordnung.formats.siteclock import SiteClock
from ordnung.standins.faults import FAULTS, Fault
from ordnung.standins.parts import Account
from tests.simulation.lines import target_of

PATIENT = Limits(request_s=20.0, connect_s=20.0, read_tries=2, answer_bytes=2**20)
"""No answer of ours is late by these, however slow the machine that runs the tests."""
QUICK = dataclasses.replace(PATIENT, request_s=1.0, connect_s=1.0)
"""For those that answer late or never."""
NAME = "surge-02"


async def read(live, name=NAME, networks=None, limits=PATIENT, **changes):
    async with Client(live.ca, limits, networks) as client:
        controllers = RedfishControllers(client)
        try:
            async with controllers.open(live.endpoint(name, **changes)) as controller:
                return await controller.read(lambda: datetime.datetime.now(datetime.UTC))
        finally:
            await controllers.close()


def set_fault(live, kind, name=NAME, **facts):
    live.call(live.device(name).faults.append, Fault(kind, **facts))
    live.do(live.floor.sync_line(live.device(name)))


CAUSED = {
    "refused": ("refused", {}),
    "reset": ("unreachable", {}),
    "silent": ("unreachable", {}),
    "slow": ("too slow", {"seconds": 3.0}),
    "not Redfish": ("not Redfish", {}),
    "password changed": ("signed out", {"seconds": 4}),
}


@pytest.mark.parametrize("kind", CAUSED)
async def test_faults_of_the_line_have_their_cause(live, kind):
    cause, facts = CAUSED[kind]
    set_fault(live, kind, **facts)
    with pytest.raises(ControllerError) as caught:
        await read(live, limits=QUICK)
    assert caught.value.cause == cause and caught.value.remedy == CAUSES[cause]


@pytest.mark.parametrize("on", ["text", "cut", "deep", "huge", "list"])
async def test_answers_that_are_none_are_malformed(live, on):
    set_fault(live, "malformed", on=on)
    with pytest.raises(ControllerError) as caught:
        await read(live)
    assert caught.value.cause in ("malformed answer", "not Redfish")


async def test_wrong_credentials_a_changed_and_a_foreign_certificate(live):
    with pytest.raises(ControllerError, match="signed out"):
        await read(live, password="wrong")
    before = live.floor.face.requests[NAME]
    with pytest.raises(ControllerError, match="no credentials: cleared"):
        await read(live, withheld="cleared")
    assert live.floor.face.requests[NAME] == before, "nothing was sent"
    with pytest.raises(ControllerError, match="certificate changed") as changed:
        await read(live, pin="ab" * 32)
    live.device(NAME).self_signed = True
    live.call(live.floor.renew_certificate, live.device(NAME))
    with pytest.raises(ControllerError, match="certificate invalid") as foreign:
        await read(live)
    assert len(changed.value.seen) == len(foreign.value.seen) == 64
    assert (await read(live, pin=foreign.value.seen)).serial == "CRV14-0002", "accepted by its fingerprint"


async def test_another_server_at_a_known_address_is_no_reading_of_the_one_that_is_known(live):
    """Controllers have swapped their addresses, and factories ship equal certificates and passwords."""
    device = live.device(NAME)
    assert (await read(live, uuid=device.uuid.upper(), serial=device.serial)).serial == device.serial
    other = live.device("surge-03")
    with pytest.raises(
        AnotherServerError, match="another server answers there: serial CRV14-0002, known is CRV14-0003"
    ) as caught:
        await read(live, uuid=other.uuid, serial=other.serial)
    assert (caught.value.uuid, caught.value.serial) == (device.uuid, device.serial)
    device.quirks |= {"zero uuid"}
    assert (await read(live, uuid=other.uuid)).serial == device.serial, "what tells nothing is not held against it"


@pytest.mark.parametrize("manners", [{"password enforced"}, {"password enforced", "basic only"}], ids=len)
async def test_an_account_that_may_do_nothing_before_its_password_is_changed_is_told_so(live, manners):
    """It was told to lack the right to update firmware."""
    device = live.device(NAME)
    device.accounts["1"].change_required = True
    assert (await read(live)).facts.factory_account, "one that lets it be used is used"
    device.quirks |= manners
    with pytest.raises(ControllerError, match="has to be changed before anything else") as caught:
        await read(live)
    assert caught.value.cause == "password to be changed" and "Change it there" in caught.value.remedy
    device.accounts["1"].password, device.accounts["1"].change_required = "a new one", False
    assert (await read(live, password="a new one")).serial


async def test_an_account_without_the_right_is_told_so(live):
    live.device(NAME).accounts["2"] = Account("looker", "look only", "ReadOnly")
    server = await read(live, user="looker", password="look only")
    assert server.facts.role == "ReadOnly"
    async with Client(live.ca, PATIENT) as client:
        endpoint = live.endpoint(NAME, user="looker", password="look only")
        async with RedfishControllers(client).open(endpoint) as controller:
            with pytest.raises(ControllerError, match="no permission"):
                await controller.reset(await controller.find_reset("server reboot"))


async def test_an_address_outside_the_allowed_networks_is_never_spoken_to(live):
    with pytest.raises(ControllerError, match="not allowed"):
        await read(live, networks=parse_networks("10.0.0.0/8"))
    assert live.floor.face.requests == {}


async def test_a_busy_controller_is_asked_again_after_the_time_it_names(live):
    set_fault(live, "busy", seconds=0, times=1)
    assert (await read(live)).serial
    set_fault(live, "busy", seconds=900, times=99)
    with pytest.raises(ControllerError) as caught:
        await read(live)
    assert caught.value.cause == "busy" and caught.value.retry_after_s == 900


async def test_only_reads_are_tried_again(live):
    async with (
        Client(live.ca, PATIENT) as client,
        RedfishControllers(client).open(live.endpoint(NAME)) as controller,
    ):
        set_fault(live, "busy", seconds=0, times=1)
        path = "/redfish/v1/Systems/1/Actions/ComputerSystem.Reset"
        with pytest.raises(ControllerError, match="busy"):
            await controller._session.act(path, {"ResetType": "ForceRestart"})
    assert [e for e in live.device(NAME).log if e["what"] == "reset"] == []


async def test_a_session_that_is_lost_half_way_is_opened_anew_and_counted(live):
    async with Client(live.ca, PATIENT) as client, RedfishControllers(client).open(live.endpoint(NAME)) as controller:
        set_fault(live, "session expired")
        assert (await controller.marker()).is_up() and controller.losses == 1


@pytest.mark.parametrize("quirks", [(), ("strict sign-in",)], ids=["503", "400"])
async def test_where_others_hold_all_sessions_credentials_come_with_each_request(live, quirks):
    """Refused by 400, it counted as a wrong password: a person was asked for the right one, in the night."""
    live.call(setattr, live.device(NAME), "quirks", frozenset(quirks))
    set_fault(live, "sessions taken")
    assert (await read(live)).components
    assert not live.device(NAME).sessions and not live.device(NAME).has_fault("sessions taken")


async def test_one_that_lets_nobody_in_without_a_session_is_busy_and_is_not_tried_so_again(live):
    set_fault(live, "sessions taken", on="alone", times=3)
    opened = []
    async with Client(live.ca, PATIENT) as client:
        controllers = RedfishControllers(client)

        async def look():
            async with controllers.open(live.endpoint(NAME)) as controller:
                opened.append(controller)
                return await controller.read(lambda: datetime.datetime.now(datetime.UTC))

        for _ in range(2):
            with pytest.raises(ControllerError, match="others hold all its sessions") as caught:
                await look()
            assert caught.value.cause == "busy" and caught.value.retry_after_s
        assert len(opened) == 1, "the second time no request was made without a session"
        live.call(live.device(NAME).faults.clear)
        assert (await look()).components
        await controllers.close()


async def test_a_session_that_dies_at_once_is_a_named_cause(live):
    async with Client(live.ca, PATIENT) as client, RedfishControllers(client).open(live.endpoint(NAME)) as controller:
        set_fault(live, "session expired", times=99)
        with pytest.raises(ControllerError, match="the session ended"):
            await controller.marker()


async def test_a_survey_goes_on_around_those_that_fail_and_streams(live):
    set_fault(live, "silent", "surge-03")
    set_fault(live, "malformed", "surge-04", on="cut")
    endpoints = [live.endpoint(name) for name in live.floor.by_name]
    told = []

    async def hear(result):
        told.append(result)

    async with Client(live.ca, PATIENT) as client:
        read_count = await survey(endpoints, RedfishControllers(client), SiteClock(), hear)
    failed = {r.name: r.error.cause for r in told if r.error}
    assert read_count == 14 and len(told) == 16
    assert failed == {"surge-03": "unreachable", "surge-04": "malformed answer"}


async def test_newer_controllers_are_read_with_few_requests_older_ones_two_at_a_time(live):
    await read(live, "surge-02", limits=Limits())
    await read(live, "gauge-01", limits=Limits())
    counts = live.floor.face.requests
    assert counts["surge-02"] <= 16 < counts["gauge-01"] <= 63


def test_every_listed_fault_is_provoked_somewhere():
    """A fault that no test sets is one that may not work."""
    text = "".join(path.read_text() for path in Path(__file__).parents[1].rglob("test_*.py"))
    scenario = (Path(__file__).parents[2] / "src/ordnung/standins/scenario.py").read_text()
    assert [kind for kind in FAULTS if f'"{kind}"' not in text + scenario] == []


async def test_a_line_that_breaks_during_a_pull_is_a_transfer_that_failed(live):
    set_fault(live, "link cut")
    async with (
        Client(live.ca, PATIENT) as client,
        RedfishControllers(client).open(live.endpoint(NAME)) as controller,
    ):
        taken = await controller.pull(
            await controller.reach(), await target_of(controller, "raid-1"), "https://127.0.0.1:9/image"
        )
        while (task := await controller.task(taken.task, taken.monitor)).is_running:
            await asyncio.sleep(0.02)
    assert task.transfer_failed and "the line broke" in task.message
    assert live.device(NAME).part("raid-1").waiting is None


# Pace


async def test_the_pace_rises_slowly_falls_quickly_and_loses_no_one():
    pace, at_once, most = Pace(4), 0, 0

    async def one():
        nonlocal at_once, most
        async with pace:
            at_once += 1
            most = max(most, at_once)
            await asyncio.sleep(0)
            at_once -= 1

    await asyncio.gather(*(one() for _ in range(10)))
    assert most == 2 and pace.width in (2, 3)
    await asyncio.gather(*(one() for _ in range(60)))
    assert most == pace.width == 4
    pace.slow_down()
    assert pace.width == 2
    pace.slow_down(), pace.slow_down()
    assert pace.width == 1
    blocked = [asyncio.create_task(one()) for _ in range(5)]
    await asyncio.sleep(0)
    blocked[2].cancel()
    await asyncio.gather(*blocked, return_exceptions=True)
    await one()
    assert at_once == 0 and pace._open == 0


# Who is there


async def test_credentials_go_to_vouched_certificates_only(live):
    async with Client(live.ca, PATIENT) as client:
        (found,) = await identify(client, live.endpoint(NAME))
        assert found.vouched and (found.serial, found.name) == ("CRV14-0002", NAME)
        live.device("surge-03").self_signed = True
        live.call(live.floor.renew_certificate, live.device("surge-03"))
        (stranger,) = await identify(client, live.endpoint("surge-03"))
        assert not stranger.vouched and stranger.serial is None and stranger.uuid == live.device("surge-03").uuid
        assert not live.device("surge-03").sessions and "sign-in" not in str(live.device("surge-03").log)


async def test_nobody_and_somebody_else_are_told_apart(live):
    set_fault(live, "refused", "surge-04")
    set_fault(live, "not Redfish", "surge-05")
    async with Client(live.ca, PATIENT) as client:
        causes = [(await look_at(live.endpoint(n), client)).cause for n in ("surge-04", "surge-05", NAME)]
    assert causes[0] == "refused" and causes[1] in ("not Redfish", "said no") and causes[2] is None


ZERO, ALL = "00000000-0000-0000-0000-000000000000", "ffffffff-ffff-ffff-ffff-ffffffffffff"


def test_servers_are_known_by_uuid_then_serial_never_by_address_or_certificate_alone():
    known = [
        Known(name="a", url="https://1", uuid="11111111-aaaa-4000-8000-000000000001", serial="S1"),
        Known(name="b", url="https://2", uuid=ZERO, serial="  "),
        Known(name="c", url="https://3"),
        Known(name="d", url="https://4", uuid="22222222-aaaa-4000-8000-000000000002", serial="SAME"),
        Known(name="e", url="https://5", uuid="33333333-aaaa-4000-8000-000000000003", serial="SAME"),
    ]
    first = known[0].uuid
    table = [
        ({"uuid": first.upper()}, "https://1", "a", "known"),
        ({"uuid": first}, "https://9", "a", "moved"),
        ({"serial": "s1"}, "https://9", "a", "moved"),
        ({}, "https://9", None, "new"),  # only its certificate is the same as someone's
        ({"uuid": ZERO}, "https://9", None, "new"),
        ({"uuid": ALL, "serial": "None"}, "https://9", None, "new"),
        ({"uuid": "44444444-aaaa-4000-8000-000000000004"}, "https://1", None, "new"),  # another took its address
        ({"uuid": "44444444-aaaa-4000-8000-000000000004"}, "https://3", "c", "known"),
        ({"uuid": ZERO}, "https://2", "b", "known"),
        ({"serial": "SAME"}, "https://4", "d", "known"),
        ({"serial": "SAME"}, "https://9", "d", "uncertain"),
    ]
    for told, url, name, standing in table:
        found, says = match_known(Identity(pin="p" * 64, vouched=True, **told), url, known)
        assert ((found.name if found else None), says) == (name, standing), (told, url)


def test_one_server_behind_two_addresses_is_a_double_but_placeholders_are_nobodys():
    one = Identity(pin="x", vouched=True, uuid="11111111-aaaa-4000-8000-000000000001")
    other = Identity(pin="x", vouched=True, uuid=ZERO)
    found = {("https://1", None): one, ("https://2", None): other, ("https://3", None): one, ("https://4", None): other}
    assert find_doubles(found) == {("https://3", None): ("https://1", None)}


# Reach


class Door:
    """A bell over plain HTTP and HTTPS addresses at which nobody is."""

    def __init__(self, arrives):
        self.arrives = arrives

    def hang(self, protocol):
        if protocol not in self.arrives:
            return None
        rang = asyncio.Event()
        if self.arrives[protocol]:
            rang.set()
        return f"{protocol.lower()}://127.0.0.1:9/bell", rang


class Probed:
    def __init__(self, error=None):
        self.error, self.asked = error, []

    @asynccontextmanager
    async def open(self, endpoint):
        yield self

    @asynccontextmanager
    async def probe(self, destination):
        self.asked.append(destination)
        if self.error:
            raise self.error
        yield


async def test_a_probe_tells_what_arrived_and_what_was_not_asked(live):
    endpoint = live.endpoint(NAME)
    assert await probe_one(endpoint, Probed(), Door({"HTTPS": True, "HTTP": False}), 0.01) == {"HTTPS": "arrived", "HTTP": "not arrived"}  # fmt: skip
    assert await probe_one(endpoint, Probed(), Door({}), 0.01) == {"HTTPS": "not asked", "HTTP": "not asked"}
    refuses = Probed(ControllerError(NAME, "said no", "no events here"))
    assert await probe_one(endpoint, refuses, Door({"HTTPS": True}), 0.01) == {"HTTPS": "not asked", "HTTP": "not asked"}  # fmt: skip


async def test_a_probe_leaves_no_subscription_behind(live):
    async with (
        Client(live.ca, PATIENT) as client,
        RedfishControllers(client).open(live.endpoint(NAME)) as controller,
    ):
        with contextlib.suppress(TimeoutError):
            async with controller.probe("http://127.0.0.1:9/bell"):
                assert len(live.device(NAME).subscriptions) == 1
                raise TimeoutError
    assert live.device(NAME).subscriptions == {}
