"""A server's next start, sent to a partition of its own through the API and the engine's job (N4.8)."""

from __future__ import annotations

import pytest
from asgiref.sync import async_to_sync

from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.jobs import jobs
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.work.models import Work
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.server.houses import Person, fill
from tests.simulation.lines import InProcessControllers

pytestmark = pytest.mark.django_db(transaction=True)
NAME = "watch-03"
PATH = f"servers/{NAME}/next-start"


class Ports:
    """What the job needs of the engine: its controllers."""

    def __init__(self, device) -> None:
        self.controllers = InProcessControllers({NAME: device})


@pytest.fixture
def house(web, catalogs):
    fill([NAME])
    person = Person(web)
    (person.device,) = demo_hardware(now().timestamp, [next(place for place in PLACES if place.name == NAME)])
    Server.objects.filter(name=NAME).update(
        user=person.device.user, uuid=person.device.uuid, serial=person.device.serial, pin=None
    )
    row = Server.objects.get(name=NAME)
    row.set_password(person.device.password)
    row.save()
    carry_out(person, Work(kind="survey", subject={"servers": [NAME]}, asked_at=now()))
    return person


def carry_out(house, work: Work) -> Work:
    if work.pk is None:
        work.save()
    async_to_sync(jobs[work.kind])(work, Ports(house.device))
    return Work.objects.get(pk=work.pk)


def ask(house, method, *body) -> Work:
    told = getattr(house, method)(PATH, *body)
    return carry_out(house, Work.objects.get(pk=told["id"]))


def start_of(house, slot="store-diag"):
    return next(part["start"] for part in house.get(f"servers/{NAME}")["parts"] if part["slot"] == slot)


def test_it_is_sent_there_and_shown_and_taken_back(house):
    assert start_of(house) == "possible" and start_of(house, "bios") is None
    work = ask(house, "post", {"slot": "store-diag"})
    assert (work.state, work.note) == ("done", "nothing was reset: it waits for whoever restarts it")
    assert start_of(house) == "next"
    (told,) = [h for h in house.get(f"servers/{NAME}")["hindrances"] if h["what"] == "next start"]
    assert told["stops"] and "Service partition: diagnostics" in told["seen"]
    work = ask(house, "delete")
    assert (work.state, work.note, start_of(house)) == ("done", "it starts as it usually does", "possible")
    trail = [entry["command"] for entry in house.get("audit")["entries"]]
    assert trail[:2] == ["take a server's next start back", "send a server's next start to a partition"]


@pytest.mark.parametrize("slot", ["store-drivers", "bios", "nothing"])
def test_what_it_can_t_be_started_from_is_refused_at_once(house, slot):
    status, problem = house.post(PATH, {"slot": slot})
    assert (status, problem["field"]) == (404, "slot") and slot in problem["detail"]


def test_beside_a_run_of_it_none_is_sent_nor_where_one_began_since(house):
    asked = house.post(PATH, {"slot": "store-diag"})
    run = Run.objects.create(name="Night 1", drafted_at=now(), drafted_by="lead", state="running")
    RunServer.objects.create(run=run, server=Server.objects.get(name=NAME), place=0, active=True)
    work = carry_out(house, Work.objects.get(pk=asked["id"]))
    assert work.state == "failed" and "a run of it has begun since" in work.note
    assert not [entry for entry in house.device.log if entry["what"] == "changed"]
    for method, body in (("post", [{"slot": "store-diag"}]), ("delete", [])):
        status, problem = getattr(house, method)(PATH, *body)
        assert status == 409 and "Night 1" in problem["detail"]


@pytest.mark.parametrize(
    ("known", "why"),
    [
        ({"uuid": "11111111-2222-3333-4444-555555555555"}, "another server answers there: UUID"),
        ({"uuid": None, "serial": "ANOTHER1"}, "another server answers there: serial"),
        ({"uuid": None, "serial": None}, "nothing that it tells tells it from another server"),
        ({"uuid": "00000000-0000-0000-0000-000000000000", "serial": ""}, "nothing that it tells"),
    ],
    ids=["by its UUID", "by its serial", "nothing is known of it", "placeholders alone"],
)
def test_a_server_that_is_not_surely_the_one_meant_is_left_as_it_is(house, known, why):
    Server.objects.filter(name=NAME).update(**known)
    work = ask(house, "post", {"slot": "store-diag"})
    assert work.state == "failed" and why in work.note
    assert work.failures[0]["server"] == NAME and not [e for e in house.device.log if e["what"] == "changed"]


def test_one_that_begins_to_tell_more_is_still_the_same(house):
    Server.objects.filter(name=NAME).update(uuid=None, serial=house.device.serial.lower())
    assert ask(house, "post", {"slot": "store-diag"}).state == "done" and start_of(house) == "next"
