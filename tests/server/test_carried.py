"""What a field kit did without the site, carried in: runs on record like any other, readings, and nothing twice."""

from __future__ import annotations

import dataclasses
import datetime
import json

import pytest

from ordnung.engine import entries as e
from ordnung.server.assessment.current import current_assessment
from ordnung.server.audit.models import TrailEntry
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import store_reading, value_of
from ordnung.server.runs.derived import find_differences
from ordnung.server.runs.models import AwayLease, KeptDuration, Run, RunServer
from ordnung.standins.hardware import writes_of
from tests.fieldkit.test_journal import ONE, house_of, level
from tests.kit_journal import KIT, journal, whole
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db
NAME = "surge-07"


@pytest.fixture
def house(web, catalogs):
    fill((NAME, "surge-03"))
    return Person(web)


def reading(name=NAME, **parts):
    """A reading of the server an hour from now, as the kit makes it: under the name the kit has for it."""
    found = value_of(Server.objects.get(name=name).latest, name)
    components = tuple(dataclasses.replace(c, version=parts.get(c.slot, c.version)) for c in found.components)
    at = now() + datetime.timedelta(hours=1)
    return dataclasses.replace(found, name=KIT, components=components, read_at=at)


def version_now() -> str:
    found = value_of(Server.objects.get(name=NAME).latest, NAME)
    return next(c.version for c in found.components if c.slot == "bios")


def carry(house, raw, name="journal.jsonl"):
    return house.send("runs/carried", file=(name, raw))


def test_a_run_of_the_kit_is_on_record_like_any_other(house, tmp_path):
    raw = journal(tmp_path, whole(reading(), reading(bios="9.9")))
    (row,) = carry(house, raw)["runs"]
    assert row["server"] == NAME and row["told"].startswith("13 entries, 2 readings newer")
    run = Run.objects.get(pk=row["run"])
    assert run.name == f"{NAME} brought level by a field kit" and run.state == "ended"
    assert run.source == "winter, edition 3, on a field kit" and find_differences([run]) == []
    record = house.get(f"runs/{run.pk}/record")
    (server,) = record["servers"]
    assert (server["ended"], server["resets"]) == ("level", 1)
    assert [(done["slot"], done["after"]) for done in server["done"]] == [("bios", "9.9")]
    assert server["differences"] == []
    assert house.get(f"runs/{run.pk}")["servers"][0]["happened"][0]["label"] == "bios 9.9"
    assert house.get(f"runs/{run.pk}/tape")[0]["server"] == NAME
    assert version_now() == "9.9", "its reading counts from now on"
    assert KeptDuration.objects.filter(run=run, server=NAME).count() == 2
    assert TrailEntry.objects.last().after["carried_in"] == "journal.jsonl"


def test_what_the_kit_left_waiting_for_a_reset_is_known_here(house, tmp_path):
    tape = whole(reading(), reading(), version="9.9")
    stopped = e.Ended(ending=e.Ending.STOPPED, reason=e.Reason.STOPPED)
    carry(house, journal(tmp_path, (*tape[:6], stopped)))
    bios = current_assessment().standings[NAME].server.component("bios")
    assert bios is not None and bios.waiting == "9.9"


def test_that_nothing_can_be_named_to_a_controller_is_known_here_for_as_long_as_its_release_runs(house, tmp_path):
    tape = whole(reading(), reading(), version="9.9")
    own = reading().component("bmc").version
    refused = e.WriteUnsent(reason=e.Reason.NO_TARGETS, facts={"controller": own})
    stopped = e.Ended(ending=e.Ending.STOPPED, reason=e.Reason.STOPPED)
    carry(house, journal(tmp_path, (*tape[:4], refused, stopped)))
    parts = current_assessment().standings[NAME].server.components
    assert {part.by_image for part in parts if part.kind != "controller"} == {True}
    newer = [dataclasses.replace(p, version="99.1") if p.slot == "bmc" else p for p in reading().components]
    store_reading(dataclasses.replace(reading(), name=NAME, components=tuple(newer)), None)
    assert not any(part.by_image for part in current_assessment().standings[NAME].server.components)


def test_a_journal_that_has_grown_is_carried_in_again_and_nothing_is_twice(house, tmp_path):
    tape = whole(reading(), reading(bios="9.9"))
    carry(house, journal(tmp_path, tape))
    raw = journal(tmp_path, whole(reading(bios="9.9"), reading(bios="9.9"), version="10.0"))
    first, second = carry(house, raw)["runs"]
    assert second["told"].startswith("13 entries, 2 readings")
    assert first["run"] is None and "is on record already" in first["told"] and second["run"] is not None
    assert Run.objects.count() == 2


def test_what_can_not_be_taken_is_said_and_the_rest_is(house, tmp_path):
    stranger = dataclasses.replace(reading(), uuid="00000000-0000-0000-0000-00000000abcd", serial="NOBODY")
    nothing = whole(reading(), reading())[:1]
    raw = journal(tmp_path, whole(stranger, stranger))
    told = [row["told"] for row in carry(house, raw)["runs"]]
    whom = "serial NOBODY and UUID 00000000-0000-0000-0000-00000000abcd"
    assert told == [f"no one server of the house has {whom}: add it, then bring the journal in again"]
    (tmp_path / "journal.jsonl").unlink()
    raw = journal(tmp_path, nothing)
    assert "has read no server" in carry(house, raw)["runs"][0]["told"]


def test_of_a_run_that_has_not_ended_what_was_read_counts_and_the_rest_when_it_has(house, tmp_path):
    tape = whole(reading(bios="9.8"), reading(bios="9.9"))
    raw = journal(tmp_path, tape[:5])
    (row,) = carry(house, raw)["runs"]
    assert row["server"] == NAME and "has not ended" in row["told"] and Run.objects.count() == 0
    assert row["told"].endswith("1 reading newer than the last one here") and version_now() == "9.8"
    assert carry(house, raw)["runs"][0]["told"].endswith("; 0 readings newer than the last one here")
    (tmp_path / "journal.jsonl").unlink()
    (row,) = carry(house, journal(tmp_path, tape))["runs"]
    assert row["run"] is not None and version_now() == "9.9"


def test_a_server_that_is_in_a_run_here_is_left_to_that(house, tmp_path):
    run = Run.objects.create(name="a night", state="running", drafted_at=now(), drafted_by="lead", started_at=now())
    RunServer.objects.create(run=run, server=Server.objects.get(name=NAME), place=0, active=True)
    raw = journal(tmp_path, whole(reading(), reading(bios="9.9")))
    assert "is in another run" in carry(house, raw)["runs"][0]["told"]


def test_a_server_that_the_kit_left_away_counts_as_away_and_a_failure_calls(house, tmp_path):
    tape = whole(reading(), reading())[:10]
    failed = e.Ended(ending=e.Ending.FAILED, reason=e.Reason.NOT_BACK)
    (row,) = carry(house, journal(tmp_path, (*tape, failed)))["runs"]
    lease = AwayLease.objects.get(server__name=NAME)
    assert lease.kept and lease.run_id == row["run"]
    assert [(call["kind"], call["server"]) for call in house.get("calls")] == [("failed", NAME)]


def test_older_readings_change_nothing_and_what_was_put_back_is_called_so(house, tmp_path):
    old = dataclasses.replace(reading(bios="0.1"), read_at=now() - datetime.timedelta(days=9))
    (row,) = carry(house, journal(tmp_path, whole(old, old), back={"bios": "0.1"}))["runs"]
    assert "0 readings newer" in row["told"]
    assert Run.objects.get().name == f"{NAME} put back by a field kit"
    assert version_now() != "0.1"


def test_a_night_of_the_kit_as_it_really_was(web, catalogs, mirror_folder, tmp_path):
    """The engine over the file, on simulated hardware: the same server as the house's, by its serial and UUID."""
    fill((ONE,))
    there = house_of(mirror_folder)
    entries = len(level(there, tmp_path / "tapes"))
    lines = (tmp_path / "tapes").read_bytes().split(b"\n")
    opened = {
        "opened": "1", "server": ONE, "at": now().isoformat(), "repository": "winter", "edition": 1, "packing": "ab",
        "back": None, "left_out": None,
    }  # fmt: skip
    lines.insert(1, json.dumps(opened).encode())
    person = Person(web)
    (row,) = carry(person, b"\n".join(lines))["runs"]
    assert row["server"] == ONE and row["told"].startswith(f"{entries} entries")
    record = person.get(f"runs/{row['run']}/record")
    (server,) = record["servers"]
    assert server["ended"] == "level" and len(server["done"]) == len(writes_of(there.devices[ONE].log))
    assert server["differences"] == [] and server["departures"] == []


@pytest.mark.parametrize("raw", [b"", b"hello\n", b'{"format": "ordnung.journal/1"}\n{"opened": 1}\n', b"\xff\n"])
def test_what_is_no_journal_is_refused_with_its_line(house, raw):
    status, problem = carry(house, raw)
    assert status == 422 and "journal.jsonl" in problem["detail"] and Run.objects.count() == 0
