"""One server's trouble is one server's: runs, surveys, searches and probes go on around any exception."""

from __future__ import annotations

import asyncio
from contextlib import asynccontextmanager

import pytest

from ordnung.controllers import Endpoint
from ordnung.core.away import AwayLimits
from ordnung.engine import discover
from ordnung.engine.discover import look
from ordnung.engine.entries import Ending, Reason
from ordnung.engine.ports import TapeConflictError
from ordnung.engine.reach import probe_all
from ordnung.engine.run import carry_out_run
from ordnung.engine.survey import read_one, survey
from ordnung.engine.world import Site, Ticket
from ordnung.standins.faults import Fault
from tests.simulation.clock import VirtualClock, run
from tests.simulation.world import demo_house

ENDPOINTS = [Endpoint(name=n, url=f"https://{n}", user="u", password="p") for n in ("good", "bad", "slow")]


class Controllers:
    """One that answers, one that breaks our own code, one that never answers."""

    def __init__(self) -> None:
        self.let_gone = []

    @asynccontextmanager
    async def open(self, endpoint):
        yield self if endpoint.name != "probe" else None
        self.name = endpoint.name

    pin = "ab"

    async def read(self, now):
        raise KeyError("ours")

    async def let_go(self, endpoint):
        self.let_gone.append(endpoint.name)

    def probe(self, address):
        raise ZeroDivisionError


async def test_an_error_of_ours_in_a_reading_is_that_servers_cause():
    controllers, told = Controllers(), []

    async def hear(result):
        told.append((result.name, result.error.cause))

    assert await survey(ENDPOINTS, controllers, VirtualClock(), hear) == 0
    assert sorted(told) == [("bad", "our error"), ("good", "our error"), ("slow", "our error")]
    assert sorted(controllers.let_gone) == ["bad", "good", "slow"]


async def test_a_reading_that_takes_too_long_is_named():
    class Slow(Controllers):
        async def read(self, now):
            await asyncio.sleep(5)

    result = await read_one(ENDPOINTS[2], Slow(), VirtualClock(), deadline_s=0.01)
    assert result.error.cause == "too slow"


async def test_an_error_of_ours_in_a_search_or_a_probe_is_that_addresss(monkeypatch):
    found, probed = {}, {}

    async def identify(client, endpoint):
        if endpoint.name == "bad":
            raise KeyError("ours")
        if endpoint.name == "slow":
            await asyncio.sleep(5)
        return ()

    async def hear(result):
        found[result.url] = result.cause

    async def told(name, probes, error):
        probed[name] = error.cause

    monkeypatch.setattr(discover, "identify", identify)
    monkeypatch.setattr(discover, "DEADLINE_S", 0.01)
    await look(ENDPOINTS, None, hear)
    assert found == {"https://good": None, "https://bad": "our error", "https://slow": "too slow"}

    class Door:
        def hang(self, protocol):
            return "http://x", asyncio.Event()

    await probe_all(ENDPOINTS[:2], Controllers(), Door(), told)
    assert probed == {"good": "our error", "bad": "our error"}


@pytest.fixture
def house(mirror_folder):
    return demo_house(mirror_folder)


def test_a_tape_that_someone_else_writes_on_is_left_to_them(house):
    append = house.journal.append

    async def taken(run_id, server, seq, value):
        if server == "surge-03" and seq > 2:
            raise TapeConflictError(server)
        return await append(run_id, server, seq, value)

    house.journal.append = taken
    ended = run(carry_out_run("1", [house.lane("surge-03"), house.lane("surge-04")], house.world()))
    assert ended == {"surge-03": "", "surge-04": "level"}


def test_a_server_whose_end_can_not_be_written_stays_open_and_disturbs_no_other(house):
    append = house.journal.append

    async def broken(run_id, server, seq, value):
        if server == "surge-03" and seq > 2:
            raise OSError("no room left on the disk")
        return await append(run_id, server, seq, value)

    house.journal.append = broken
    ended = run(carry_out_run("1", [house.lane("surge-03"), house.lane("surge-04")], house.world()))
    assert ended == {"surge-03": "", "surge-04": "level"}
    house.journal.append = append
    house.born()
    assert run(carry_out_run("1", [house.lane("surge-03")], house.world())) == {"surge-03": "level"}


def ended_of(house, name="surge-03"):
    return house.journal.states["1", name].ended


def carried(house, name="surge-03"):
    run(carry_out_run("1", [house.lane(name)], house.world()))
    return ended_of(house, name)


@pytest.mark.parametrize(
    ("spoil", "reason"),
    [
        (lambda h: setattr(h, "find", missing), Reason.NOT_AT_HAND),
        (lambda h: h.devices["surge-03"].faults.append(Fault("silent")), Reason.NO_CONTACT),
        (
            lambda h: setattr(h, "endpoint", lambda name: Endpoint(name=name, url="https://x", user="u", password="p")),
            Reason.CONTROLLER,
        ),
        (lambda h: h.devices["surge-03"].faults.append(Fault("task lies", slot="raid-1")), Reason.NOT_SHOWN),
        (lambda h: h.devices["surge-03"].faults.append(Fault("task stalls", slot="raid-1")), Reason.TASK_STALLED),
        (lambda h: h.devices["surge-03"].faults.append(Fault("link cut", times=9)), Reason.NOT_ARRIVED),
        (lambda h: h.devices["surge-03"].faults.append(Fault("write fails", slot="raid-1")), Reason.TASK_FAILED),
        (lambda h: h.devices["surge-03"].faults.append(Fault("boot hangs")), Reason.NOT_BACK),
        (lambda h: setattr(h.devices["surge-03"].part("raid-1"), "updateable", False), Reason.NO_WAY_FORWARD),
    ],
    ids=lambda value: str(value) if isinstance(value, Reason) else "",
)
def test_every_end_has_its_reason(house, spoil, reason):
    spoil(house)
    house.remedies = {}
    ended = carried(house)
    assert ended.reason is reason
    assert not house.site.writing, "another system behind that controller would wait for ever"
    assert ended.ending is (Ending.SKIPPED if reason is Reason.NO_WAY_FORWARD else Ending.FAILED)


async def missing(payload):
    from ordnung.store import RepositoryError

    raise RepositoryError("missing", payload.path, "it is not packed")


def test_a_payload_that_no_catalog_names_or_that_is_for_another_is_never_sent(house):
    import dataclasses

    issues = house.catalogs.issues

    def without_payload(product):
        return dataclasses.replace(
            product, releases=tuple(dataclasses.replace(r, payload=None) for r in product.releases)
        )

    def spoil(product):
        return without_payload(product) if product.id == "tessaly.r9" else product

    house.catalogs = type(house.catalogs)(
        tuple(dataclasses.replace(i, products=tuple(map(spoil, i.products))) for i in issues)
    )
    assert carried(house).reason is Reason.NOT_NAMED


def test_no_way_in_is_said_before_anything_is_sent(house):
    house.devices["sump-01"].faults.append(Fault("licence missing"))
    assert carried(house, "sump-01").reason is Reason.NO_WAY_IN


def test_a_component_that_moved_on_or_went_is_planned_anew(house):
    device = house.devices["surge-03"]
    seen = house.told.append

    def meddle(item):
        if item[1] == "staging":
            device.part("raid-1").version = "7.17.2"
        seen(item)

    house.told = type("Told", (list,), {"append": lambda self, item: meddle(item)})()
    assert carried(house).reason is Reason.MOVED_ON


def test_a_way_back_that_is_barred_and_one_partly_stranded(house):
    house_hand = house.hand("surge-03", back={"raid-1": "1.0"})
    from ordnung.engine.server_run import carry_out

    run(carry_out(house_hand))
    assert ended_of(house).reason is Reason.BARRED


def test_whoever_waits_for_a_group_lets_others_pass_but_nobody_passes_while_all_is_full():
    from ordnung.core.away import Refusal

    site = Site()
    first, second = Ticket(order=(0, 1)), Ticket(order=(0, 2))
    site.line += [first, second]
    assert site.may_try(first) and not site.may_try(second), "the first has not asked yet"
    first.refusal = Refusal(limit="group", name="pair", allowed=1, holders=("x",))
    assert site.may_try(second)
    first.refusal = Refusal(limit="at once", name="", allowed=1, holders=("x",))
    assert not site.may_try(second)


def test_a_stop_while_waiting_for_a_turn_ends_there(house):
    house.journal.limits = AwayLimits(at_once=0)
    house.orders["surge-03"] = "stop"
    assert carried(house).ending is Ending.STOPPED
