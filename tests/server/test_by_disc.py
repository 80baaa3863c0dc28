"""Sheets that go by a disc: chosen, planned so, refused with the reason, and what the kit is ordered to do."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.by_disc import IN, OUT
from ordnung.core.facts import Facts
from ordnung.core.sheet import DiscPart
from ordnung.engine.entry_codec import parse_rounds
from ordnung.formats.order import MARK, parse_order
from ordnung.server.assessment.current import current_assessment
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import store_reading
from ordnung.server.repositories.models import Line, Repository, WrittenOut
from ordnung.server.runs.approvals import planned_slots
from ordnung.server.runs.by_disc import disc_file, run_disc
from ordnung.server.runs.layout import places_of
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.work.events import tell
from tests.server.houses import Person, fill
from tests.server.test_sheets import patch

pytestmark = pytest.mark.django_db
NAMES = ("surge-05", "surge-07")


@pytest.fixture
def house(web, catalogs):
    fill(NAMES)
    for standing in current_assessment().chosen(list(NAMES)):
        facts = dataclasses.replace(standing.server.facts or Facts(), push="any")
        store_reading(dataclasses.replace(standing.server, facts=facts, read_at=now()), None)
    return Person(web)


def write_out(house, tmp_path, *, boots=True, names=NAMES, **changes) -> WrittenOut:
    """A repository with all that the sheets of these servers send, written out as a disc image."""
    run = house.post("runs", {"servers": list(names)})
    payloads = [w for lane in run["servers"] for step in lane["rounds"] for w in step["writes"]]
    house.delete(f"runs/{run['id']}")
    packed = Repository.objects.create(name="edge discs", state="sealed", boots=boots, made_at=now())
    for w in {w["sha256"]: w for w in payloads}.values():
        Line.objects.create(
            repository=packed, product=w["product"], name=w["product"], kind="bios", version=w["to"],
            sha256=w["sha256"], state="packed",
        )  # fmt: skip
    image = tmp_path / f"disc-{packed.pk}.iso"
    image.write_bytes(b"image")
    values = {"shape": "iso", "state": "done", "size": 5, "sha256": "ab" * 32, "place": str(image), **changes}
    return WrittenOut.objects.create(repository=packed, asked_at=now(), asked_by="lead", **values)


def test_it_is_chosen_among_what_was_written_out_and_planned_so(house, tmp_path):
    disc = write_out(house, tmp_path)
    run = house.post("runs")
    assert [d["id"] for d in run["discs"]] == [disc.pk] and run["disc"] is None and not run["by_disc"]
    by = patch(house, run, disc=disc.pk)
    assert by["disc"]["name"] == "edge discs" and by["by_disc"] and by["sha256"] != run["sha256"]
    assert by["updates"] == run["updates"], "to put the disc in and out is no update"
    assert by["outages"] == 2 and by["stale"] == [], "each is away once; what is planned so is not taken for changed"
    into, out = next(lane for lane in by["servers"] if lane["server"] == "surge-07")["rounds"]
    assert [(w["to"], w["disc"]) for w in into["writes"]] == [(IN, "in")] and into["reset"] == "server reboot"
    assert {w["disc"] for w in out["writes"][:-1]} == {"kit"} and out["writes"][-1]["to"] == OUT
    stopping = [row["check"] for row in house.get(f"runs/{by['id']}/sheet/checks") if row["severity"] == "block"]
    assert set(stopping) <= {"payload"}, "its payloads are on no disk here; that a disc goes in stops nothing"
    copied = house.post(f"runs/{by['id']}/sheet/copy")
    assert copied["by_disc"] and copied["disc"]["id"] == disc.pk
    plain = patch(house, by, disc=0)
    assert plain["disc"] is None and plain["planned_seconds"] == run["planned_seconds"]


def test_another_image_with_the_same_payloads_is_another_sheet(house, tmp_path):
    """What starts on the servers is approved too: another image once kept the approval."""
    one, other = write_out(house, tmp_path), write_out(house, tmp_path, sha256="cd" * 32)
    by = patch(house, house.post("runs"), disc=one.pk)
    changed = patch(house, by, disc=other.pk)
    assert changed["servers"] == by["servers"] and changed["sha256"] != by["sha256"]


@pytest.mark.parametrize(
    "changes", [{"boots": False}, {"shape": "tar"}, {"state": "failed"}, {"medium": 1}, {"since": 1}]
)
def test_what_would_not_start_a_server_whole_is_not_offered(house, tmp_path, changes):
    disc = write_out(house, tmp_path, **changes)
    run = house.post("runs")
    assert run["discs"] == []
    status, problem = patch(house, run, disc=disc.pk)
    assert status == 422 and problem["field"] == "disc" and "There is no such disc image" in problem["detail"]


def test_who_can_not_go_by_it_stays_on_the_sheet_and_it_says_why(house, tmp_path):
    disc = write_out(house, tmp_path, names=["surge-05"])
    by = patch(house, house.post("runs"), disc=disc.pk)
    lanes = {lane["server"]: lane for lane in by["servers"]}
    assert lanes["surge-05"]["rounds"] and lanes["surge-07"]["rounds"] == []
    assert (
        "It can't go by this disc: " in lanes["surge-07"]["detail"] and "not on the disc" in lanes["surge-07"]["detail"]
    )
    Server.objects.filter(name="surge-05").update(system="/redfish/v1/Systems/2")
    status, problem = patch(house, house.post("runs"), disc=disc.pk)
    assert status == 422 and "serves other systems too" in problem["detail"]
    (standing,) = current_assessment().chosen(["surge-05"])
    Server.objects.filter(name="surge-05").update(system=None)
    store_reading(dataclasses.replace(standing.server, facts=Facts(push=None), read_at=now()), None)
    tell("readings", servers=["surge-05"])
    status, problem = patch(house, house.post("runs", {"servers": ["surge-05"]}), disc=disc.pk)
    assert status == 422 and "takes no pushed payload" in problem["detail"]


def test_a_disc_and_reboots_that_come_by_themselves_exclude_each_other(house, tmp_path):
    disc = write_out(house, tmp_path)
    by = patch(house, house.post("runs"), disc=disc.pk)
    status, problem = patch(house, by, unattended=True, sure=True)
    assert status == 409 and "goes by a disc" in problem["detail"]
    left = patch(house, house.post("runs"), unattended=True, sure=True)
    status, problem = patch(house, left, disc=disc.pk)
    assert status == 409 and problem["field"] == "disc"
    status, problem = house.post(f"runs/{by['id']}/sheet/try", {"disc": 0})
    assert status == 422 and problem["field"] == "disc"


def test_it_does_not_start_without_its_image(house, tmp_path, monkeypatch):
    monkeypatch.setattr("ordnung.server.runs.commands.what_is_missing", lambda run: [])
    disc = write_out(house, tmp_path)
    by = patch(house, house.post("runs"), disc=disc.pk)
    assert disc_file(Run.objects.get(pk=by["id"])).sha256 == "ab" * 32
    (tmp_path / f"disc-{disc.repository_id}.iso").unlink()
    status, problem = house.post(f"runs/{by['id']}/start")
    assert status == 409 and "not where it was written out" in problem["detail"]
    disc.delete()
    assert house.post(f"runs/{by['id']}/start")[0] == 409


def test_the_kit_is_ordered_to_do_what_stands_on_the_sheet_and_nothing_else(house, tmp_path):
    disc = write_out(house, tmp_path)
    by = patch(house, house.post("runs"), disc=disc.pk)
    RunServer.objects.filter(run=by["id"], server__name="surge-07").update(overrides={"array": "it is a test"})
    run = Run.objects.get(pk=by["id"])
    served = run_disc(run, places_of(run))
    assert str(served.path) == disc.place and set(served.tails) == set(NAMES)
    order = parse_order(served.tails["surge-07"][len(MARK) + 4 :].rstrip(b"\0"))
    row = Server.objects.get(name="surge-07")
    assert order.is_for(row.uuid, row.serial) and order.overrides == {"array": "it is a test"}
    writes = [p for s in parse_rounds(run.servers.get(server=row).rounds) for p in s.writes if p.disc is DiscPart.KIT]
    assert order.writes == tuple((p.write.slot, p.brings) for p in writes) and order.rules == run.rules
    assert planned_slots(run.servers.get(server=row)) == {p.write.slot for p in writes}, "those of its parts, no disc"
