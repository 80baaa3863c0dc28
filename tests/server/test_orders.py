"""Orders to a run under way: to all of it, a wave, a group, one server; what they will mean is said before."""

from __future__ import annotations

import datetime

import pytest
from asgiref.sync import async_to_sync

from ordnung.core.away import AwayPlace
from ordnung.core.route import Write
from ordnung.core.sheet import PlannedRound, PlannedWrite
from ordnung.engine import entries as e
from ordnung.server.audit.models import TrailEntry
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import value_of
from ordnung.server.runs.adapters import DatabaseOrders
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import Run, RunServer, TapeEntry
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db
NAMES = ("surge-01", "surge-02", "surge-03", "gauge-04")
HOUR = datetime.timedelta(hours=1)


@pytest.fixture
def run(web):
    fill(NAMES)
    made = Run.objects.create(
        name="a night", state=Run.State.RUNNING, drafted_at=now(), drafted_by="lead", started_at=now(),
        waves=[{"name": "canary", "wait_seconds": 0, "gate": "none"}, {"name": "rest", "wait_seconds": 0, "gate": "none"}],
    )  # fmt: skip
    for place, name in enumerate(NAMES):
        RunServer.objects.create(
            run=made, server=Server.objects.get(name=name), place=place, active=True, since=now(), needs_seconds=1800,
            wave="canary" if place == 0 else "rest", group="gauge pair 2" if name == "gauge-04" else "",
        )  # fmt: skip
    return made


@pytest.fixture
def person(web, run):
    return Person(web)


def orders(run) -> dict[str, str]:
    async def ask():
        port = DatabaseOrders()
        return {name: await port.order(str(run.pk), name) for name in NAMES}

    return async_to_sync(ask)()


def order(person, run, order, **scope):
    return person.post(f"runs/{run.pk}/orders", {"order": order, **scope})


def mean(person, run, order, **scope):
    asked = "&".join(f"{name}={value}" for name, value in {"order": order, **scope}.items())
    return person.get(f"runs/{run.pk}/orders?{asked}")


def write(run, name: str) -> None:
    """Its place is taken and a write is under way, as the engine would have it."""
    planned = PlannedWrite(write=Write(slot="bios", product="x", source="1", to="3.2.0", seconds=300.0), payload=None)
    step = PlannedRound(writes=(planned,), reset="server reboot", reset_seconds=300.0, activates=(("bios", "3.2.0"),))
    reading = value_of(Server.objects.get(name=name).readings.get(), name)
    tape = (
        e.PlaceTaken(place=AwayPlace(server=name)),
        e.Read(server=reading, why=e.ReadWhy.BEFORE),
        e.Plan(rounds=(step,)),
        e.WriteIntent(planned=planned, way="HTTPS", known_tasks=()),
    )
    for seq, entry in enumerate(tape, start=1):
        DatabaseJournal().append_now(str(run.pk), name, seq, entry)


def test_one_server_is_held_while_the_others_go(person, run):
    held = order(person, run, "hold", server="surge-01")
    assert next(s for s in held["servers"] if s["server"] == "surge-01")["hold"]
    assert orders(run) == {"surge-01": "hold", "surge-02": "go", "surge-03": "go", "gauge-04": "go"}
    order(person, run, "go", server="surge-01")
    assert set(orders(run).values()) == {"go"}
    assert order(person, run, "go", server="surge-01")[0] == 409, "it is not held"


def test_a_wave_and_a_group_are_ordered_whole(person, run):
    order(person, run, "hold", wave="rest")
    assert orders(run) == {"surge-01": "go", "surge-02": "hold", "surge-03": "hold", "gauge-04": "hold"}
    order(person, run, "go", group="gauge pair 2")
    assert orders(run)["gauge-04"] == "go"
    order(person, run, "leave out", wave="rest")
    assert orders(run) == {"surge-01": "go", **dict.fromkeys(NAMES[1:], "leave out")}
    assert order(person, run, "hold", wave="no such")[0] == 422


def test_who_is_held_by_name_stays_held_when_the_run_goes_on(person, run):
    order(person, run, "hold", server="surge-02")
    order(person, run, "hold")
    assert set(orders(run).values()) == {"hold"}
    assert "whole run is held" in order(person, run, "go", server="surge-02")[1]["detail"]
    assert "surge-02" not in mean(person, run, "go")["servers"]
    order(person, run, "go")
    assert orders(run) == {"surge-01": "go", "surge-02": "hold", "surge-03": "go", "gauge-04": "go"}


def test_a_server_is_stopped_also_while_the_run_is_held(person, run):
    order(person, run, "hold")
    order(person, run, "stop", server="surge-02")
    assert orders(run)["surge-02"] == "stop" and orders(run)["surge-01"] == "hold"


def test_what_is_under_way_is_told_with_the_time_it_takes_and_is_not_left_out(person, run):
    write(run, "surge-01")
    meaning = mean(person, run, "hold")
    assert meaning["lines"][0] == "surge-01 is writing bios 3.2.0: that ends in about 5 min, then it waits."
    assert meaning["lines"][1].startswith("3 servers have not begun; each begins only when it is let go on: surge-02,")
    RunServer.objects.filter(server__name="surge-01").update(percent=75)
    TapeEntry.objects.filter(server="surge-01").update(at=now() - datetime.timedelta(seconds=270))
    assert "ends in about 2 min" in mean(person, run, "stop", server="surge-01")["lines"][0]
    refused = order(person, run, "leave out", server="surge-01")
    assert refused[0] == 409 and "has begun: hold it or stop it instead" in refused[1]["detail"]
    assert set(orders(run).values()) == {"go"}


def test_who_has_not_begun_is_put_later_and_told_where_no_window_is_left(person, run):
    at = now() + HOUR
    run.windows = [{"start": now().isoformat(), "end": (at + HOUR / 6).isoformat(), "name": "night"}]
    run.save()
    query = at.isoformat().replace("+", "%2B")
    meaning = mean(person, run, "later", wave="canary", not_before=query)
    assert "surge-01 has not begun and begins no earlier than" in meaning["lines"][0]
    assert meaning["lines"][1] == "surge-01 would be left over: it needs 30 min, 10 would be left."
    assert RunServer.objects.get(server__name="surge-01").not_before is None, "asking changes nothing"
    order(person, run, "later", wave="canary", not_before=at.isoformat())
    assert RunServer.objects.get(server__name="surge-01").not_before == at
    for bad in (None, (now() - HOUR).isoformat(), "9999-01-01T00:00:00Z"):
        assert order(person, run, "later", server="surge-02", not_before=bad)[0] == 422


def test_who_ordered_what_stands_on_the_trail(person, run):
    order(person, run, "stop", server="surge-02")
    entry = TrailEntry.objects.filter(command="give an order to a run").last()
    assert entry.on["servers"] == ["surge-02"] and entry.after == {"server": "surge-02", "order": "stop"}


def test_what_has_ended_takes_no_orders(person, run):
    RunServer.objects.filter(server__name="surge-01").update(ended="level", active=False)
    assert order(person, run, "stop", server="surge-01")[0] == 409
    assert mean(person, run, "hold", server="surge-01") == {"servers": [], "lines": [], "refused": []}
    Run.objects.update(state="ended")
    assert order(person, run, "hold")[0] == 409 and mean(person, run, "hold")[0] == 409
