"""Leaving the reboots of a sheet to whenever they come: chosen with open eyes, planned so, and called until it is over."""

from __future__ import annotations

import dataclasses

import pytest
from asgiref.sync import async_to_sync
from django.db import connection
from django.test.utils import CaptureQueriesContext

from ordnung.controllers import Marker
from ordnung.core.away import AwayPlace
from ordnung.core.components import Component, Server
from ordnung.core.facts import Facts
from ordnung.core.sheet import has_outage
from ordnung.engine import entries as e
from ordnung.engine.entry_codec import VERSION, parse_rounds, write_entry
from ordnung.server.assessment.current import current_assessment
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server as HouseServer
from ordnung.server.fleet.readings import store_reading
from ordnung.server.runs.calls import call_rows
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import Run, RunServer, TapeEntry
from ordnung.server.runs.record import _differences
from tests.engine.test_tape import WRITTEN, tape
from tests.server.houses import Person, fill
from tests.server.test_sheets import patch

pytestmark = pytest.mark.django_db
NAMES = ("surge-05", "surge-07")


@pytest.fixture
def house(web, catalogs):
    fill(NAMES)
    return Person(web)


def test_it_is_chosen_with_open_eyes_and_planned_so(house):
    run = house.post("runs")
    status, problem = patch(house, run, unattended=True)
    assert status == 422 and problem["field"] == "sure" and "nobody may be there" in problem["detail"]
    assert patch(house, run, ahead="writing")["unattended"] is False
    left = patch(house, run, unattended=True, sure=True)
    assert left["unattended"] and left["sha256"] != run["sha256"] and left["planned_seconds"] < run["planned_seconds"]
    for place in RunServer.objects.filter(run=run["id"]):
        assert parse_rounds(place.rounds) and not has_outage(parse_rounds(place.rounds))
    assert left["stale"] == [], "what is planned so is not taken for changed"
    again = patch(house, run, unattended=False)
    assert again["planned_seconds"] == run["planned_seconds"]


def test_who_can_not_be_left_stays_on_the_sheet_and_it_says_so(web, catalogs):
    """A server that needs a power cycle once broke the laying out of all."""
    fill(("surge-05", "vault-01"))
    house = Person(web)
    left = patch(house, house.post("runs"), unattended=True, sure=True)
    told = {lane["server"]: (lane["rounds"], lane["detail"]) for lane in left["servers"]}
    assert told["vault-01"] == ([], "It can't be left for a reboot: nothing is sent.") and told["surge-05"][0]
    assert house.get(f"runs/{left['id']}/forecast")["steps"] == 1, "its write alone"
    only = house.post("runs", {"servers": ["vault-01"]})
    status, problem = patch(house, only, unattended=True, sure=True)
    assert status == 422 and "None of this can be left for a reboot" in problem["detail"]


def test_it_can_not_be_tried_beforehand_nor_is_a_copy_left_so(house):
    run = house.post("runs")
    status, problem = house.post(f"runs/{run['id']}/sheet/try", {"unattended": True, "sure": True})
    assert status == 422 and problem["field"] == "unattended"
    patch(house, run, unattended=True, sure=True)
    assert house.post(f"runs/{run['id']}/sheet/copy")["unattended"] is False


def test_who_waits_is_called_until_a_reading_shows_it(house):
    run = house.post("runs", {"servers": ["surge-05"]})
    patch(house, run, unattended=True, sure=True)
    Run.objects.filter(pk=run["id"]).update(state="ended", started_at=now(), ended_at=now())
    RunServer.objects.filter(run=run["id"]).update(ended="waits for a reboot", since=now())
    (call,) = house.get("calls")
    assert (call["kind"], call["server"]) == ("reboot", "surge-05")
    assert call["text"].startswith("It waits for a reboot, whenever that comes: bios 3.2.0.")
    server = current_assessment().standings["surge-05"].server
    parts = [dataclasses.replace(p, version="3.2.0") if p.slot == "bios" else p for p in server.components]
    store_reading(dataclasses.replace(server, components=tuple(parts), read_at=now()), None)
    assert house.get("calls") == []


def test_what_waits_for_a_reboot_is_not_taken_for_back_already(house):
    """It was said that nothing had been updated, while the next reboot would have made it active."""
    run = house.post("runs", {"servers": ["surge-05"]})
    left = patch(house, run, unattended=True, sure=True)
    place = RunServer.objects.get(run=run["id"])
    (planned,) = (p for step in parse_rounds(place.rounds) for p in step.writes if p.write.slot == "bios")
    before = current_assessment().standings["surge-05"].server
    acts = tape(
        e.PlaceTaken(place=AwayPlace(server="surge-05", outage=False)), e.Read(server=before, why=e.ReadWhy.BEFORE),
        e.Plan(rounds=parse_rounds(place.rounds)), e.WriteIntent(planned=planned, way="push"), e.WriteSent(),
        e.WriteDone(evidence=e.Evidence.VERSION), e.Ended(ending=e.Ending.WAITS, reason=e.Reason.WAITS),
    )  # fmt: skip
    for entry in acts:
        kind, body = write_entry(entry.value)
        fields = {"seq": entry.seq, "at": now(), "version": VERSION, "kind": kind, "body": body}
        TapeEntry.objects.create(run_id=left["id"], server="surge-05", **fields)
    Run.objects.filter(pk=run["id"]).update(state="ended", started_at=now(), ended_at=now())
    parts = [dataclasses.replace(p, waiting="3.2.0") if p.slot == "bios" else p for p in before.components]
    store_reading(dataclasses.replace(before, components=tuple(parts), read_at=now()), None)
    status, problem = house.post(f"runs/{run['id']}/take-back", {})
    assert status == 422 and "surge-05 bios: 3.2.0 waits for a reset" in problem["detail"]


def leave_waiting(house, marker=None):
    """A run that has written a BIOS and was stopped before its reboot; its id, and the server as it was."""
    run = house.post("runs", {"servers": ["surge-05"]})
    place = RunServer.objects.get(run=run["id"])
    (planned,) = (p for step in parse_rounds(place.rounds) for p in step.writes if p.write.slot == "bios")
    before, journal = current_assessment().standings["surge-05"].server, DatabaseJournal()
    for entry in tape(
        e.PlaceTaken(place=AwayPlace(server="surge-05", outage=False)), e.Read(server=before, why=e.ReadWhy.BEFORE),
        e.Plan(rounds=parse_rounds(place.rounds)), e.WriteIntent(planned=planned, way="push", marker=marker),
        e.WriteSent(), e.WriteDone(evidence=e.Evidence.TASK),
        e.Ended(ending=e.Ending.STOPPED, reason=e.Reason.STOPPED),
    ):  # fmt: skip
        async_to_sync(journal.append)(str(run["id"]), "surge-05", entry.seq, entry.value)
    return run["id"], before


def show(before, version, **facts):
    """A reading by which the server is as it was but for its BIOS; what of it stands on the floor."""
    parts = [dataclasses.replace(p, version=version) if p.slot == "bios" else p for p in before.components]
    facts = dataclasses.replace(before.facts or Facts(), **facts)
    store_reading(dataclasses.replace(before, components=tuple(parts), facts=facts, read_at=now()), None)
    bios = current_assessment().standings["surge-05"].server.component("bios")
    return bios.version, bios.waiting


def test_what_its_controller_does_not_show_waits_all_the_same_until_a_reading_shows_another(house):
    """Many inventories tell what runs and nothing else: the floor called it behind, and the next sheet wrote it again."""
    run, before = leave_waiting(house)
    assert show(before, "3.0.5") == ("3.0.5", "3.2.0")
    again = RunServer.objects.get(run=house.post("runs", {"servers": ["surge-05"]})["id"])
    assert [(len(step.writes), step.reset) for step in parse_rounds(again.rounds)] == [(0, "server reboot")]
    status, problem = house.post(f"runs/{run}/take-back", {})
    assert status == 422 and "surge-05 bios: 3.2.0 waits for a reset" in problem["detail"]
    show(before, "3.2.0")
    assert HouseServer.objects.get(name="surge-05").left == []


def test_what_is_told_to_run_from_the_first_waits_until_a_start_is_told(house):
    """Some inventories tell what was written at once: it was called level, and its reboot was forgotten."""
    first, second = "2026-11-29T01:00:00+00:00", "2026-11-29T05:00:00+00:00"
    _, before = leave_waiting(house, Marker(system=first))
    assert show(before, "3.2.0", started=first) == ("3.0.5", "3.2.0")
    again = RunServer.objects.get(run=house.post("runs", {"servers": ["surge-05"]})["id"])
    assert [(len(step.writes), step.reset) for step in parse_rounds(again.rounds)] == [(0, "server reboot")]
    assert show(before, "3.2.0", started=second) == ("3.2.0", None)
    assert HouseServer.objects.get(name="surge-05").left == []


@pytest.mark.parametrize(("ending", "told"), [(e.Ending.WAITS, 0), (e.Ending.FAILED, 1)])
def test_what_a_run_left_waiting_is_no_difference_of_somebody_else_s(ending, told):
    """It stood in red on the record, as though nobody had asked for it."""
    bios = Component(slot="bios", kind="bios", name="BIOS", version="1")
    ends = [Server(name="s", model="m", components=(dataclasses.replace(bios, waiting=w),)) for w in (None, "2")]
    acts = tape(*WRITTEN, e.Ended(ending=ending, reason=e.Reason.WAITS))
    assert len(_differences(acts, ends, frozenset())) == told


def test_many_that_wait_cost_no_more_questions_than_one(house, django_assert_num_queries):
    """Every open page asks for the calls whenever a run moves; what was seen of each was once asked one by one."""
    run = house.post("runs")
    patch(house, run, unattended=True, sure=True)
    Run.objects.filter(pk=run["id"]).update(state="ended", started_at=now(), ended_at=now())
    rows = RunServer.objects.filter(run=run["id"])
    rows.filter(server__name="surge-05").update(ended="waits for a reboot", since=now())
    current_assessment()
    with CaptureQueriesContext(connection) as one:
        assert len(call_rows()) == 1
    rows.update(ended="waits for a reboot", since=now())
    with django_assert_num_queries(len(one)):
        assert len(call_rows()) == 2
