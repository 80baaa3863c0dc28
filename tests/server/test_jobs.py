"""The engine's three jobs on the database, against live stand-ins: survey, pack, run, way back."""

from __future__ import annotations

import asyncio

import pytest
from asgiref.sync import sync_to_async
from django.test import Client as Browser

from ordnung.controllers import Client, RedfishControllers
from ordnung.formats.authorities import Authorities
from ordnung.formats.record import check_record, parse_record
from ordnung.server.assessment import current
from ordnung.server.audit.heads import public_half, site_key
from ordnung.server.catalogs.bring_in import bring_in
from ordnung.server.engine import claim, left_over
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.fleet.models import Group, Reading, Server
from ordnung.server.jobs import jobs
from ordnung.server.repositories.fetch_log import FetchLog
from ordnung.server.repositories.models import Repository
from ordnung.server.repositories.payloads import open_store
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import Run, RunServer, TapeEntry
from ordnung.server.work.models import Event, Work
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.store import PayloadProcess
from tests.server.conftest import make_person
from tests.simulation.world import small_mirror

pytestmark = pytest.mark.django_db(transaction=True)
NAMES = ("surge-03", "gauge-04")
SERVED = ("run", "reach")
"""Work for which controllers fetch something."""


class SiteUnderTest:
    """A site with two servers, its catalogs, a person at the browser and an engine without a process."""

    def __init__(self, live, folder, share: int = 20) -> None:
        self.live, self.folder = live, folder
        self.log, self.payloads = FetchLog(), None
        user = make_person("technician")
        self.browser = Browser()
        self.browser.force_login(user)
        group = Group.objects.create(name="surge ensemble", may_be_away=4)
        for name in NAMES:
            device = live.device(name)
            row = Server(name=name, url=live.floor.urls[name], user=device.user, group=group)
            row.set_password(device.password)
            row.save()
        mirror = small_mirror(live.floor.mirror.folder, live.floor.mirror_url, share)
        for path in sorted((mirror / "catalogs").glob("*.json")):
            bring_in(path.read_bytes(), path.name)

    def post(self, path, body=None):
        answer = self.browser.post(f"/api/v1/{path}", body or {}, content_type="application/json")
        return answer.json() if answer.content else None

    def get(self, path):
        return self.browser.get(f"/api/v1/{path}").json()

    async def work(self) -> Work:
        """Let the engine do what was asked for; the last work."""
        async with Client(self.live.ca) as client:
            for work in await sync_to_async(claim)():
                payloads = await self._payloads(serves=work.kind in SERVED)
                await jobs[work.kind](work, EnginePorts(RedfishControllers(client), payloads, DatabaseJournal()))
            await self.log.settle()
        return await Work.objects.order_by("-pk").afirst()

    async def _payloads(self, serves: bool) -> PayloadProcess:
        """The payload server, started for the first run: as long as the site keeps its store."""
        store = await sync_to_async(open_store)()
        if self.payloads is None or self.payloads.store.root != store.root:
            await self.close()
            self.payloads = PayloadProcess(store, b"s", self.log.record)
        if serves and not self.payloads.bases:
            await self.payloads.start("127.20.100.2", 0, self.live.floor.authority.issue("127.20.100.2", "payloads"))
        return self.payloads

    async def close(self) -> None:
        """End what was started."""
        if self.payloads is not None:
            await self.payloads.stop()

    async def ask(self, path, body=None) -> Work:
        await sync_to_async(self.post)(path, body)
        return await self.work()


@pytest.fixture
async def site(request, live, settings, tmp_path, transactional_db):
    """Its payloads are a twentieth of their size, or the share that the test asks for."""
    current.forget()
    settings.HOME, settings.CA, settings.CLOCK = tmp_path, live.ca, live.clock
    settings.MIRRORS_VOUCHED_BY = Authorities(live.ca)
    found = await sync_to_async(SiteUnderTest)(live, tmp_path, getattr(request, "param", 20))
    yield found
    await found.close()


async def test_a_survey_keeps_readings_and_remembers_certificates(site):
    work = await site.ask("surveys")
    assert (work.state, work.done, work.note) == ("done", 2, "2 read")
    assert await Reading.objects.acount() == 2
    row = await Server.objects.aget(name="surge-03")
    assert row.pin and row.cause is None
    await site.ask("surveys", {"servers": ["surge-03"]})
    assert await Reading.objects.filter(server=row).acount() == 2, "every reading is kept"


async def test_a_failure_is_named_and_the_old_reading_stays(site):
    await site.ask("surveys")
    site.live.call(site.live.device("surge-03").faults.append, Fault("silent"))
    work = await site.ask("surveys")
    assert (work.state, work.note) == ("failed", "1 of 2 read")
    assert work.failures[0]["server"] == "surge-03" and work.failures[0]["cause"] == "unreachable"
    told = await sync_to_async(site.get)("servers/surge-03")
    assert told["failure"]["remedy"] and told["parts"], "what was known stays on screen"


async def test_another_server_at_an_address_is_neither_read_nor_written_to_until_a_person_says_it_is_the_same(site):
    ask = sync_to_async(site.post)
    await site.ask("surveys")
    await site.ask("repositories")
    run = await ask("runs", {"servers": ["surge-03"]})
    device = site.live.device("surge-03")
    device.serial, device.uuid = "CRV14-9999", "11111111-2222-4333-8444-555555555555"
    work = await site.ask(f"runs/{run['id']}/start")
    assert work.state == "failed" and writes_of(device.log) == []
    place = await RunServer.objects.aget(run=run["id"])
    assert (
        "another server answers there: serial CRV14-9999, known is CRV14-0003" in place.reason
        and "Correct the address" in place.reason
    )
    work = await site.ask("surveys")
    assert work.note == "1 of 2 read" and work.failures[0]["cause"] == "another server"
    told = await sync_to_async(site.get)("servers/surge-03")
    assert (told["serial"], told["seen_serial"], told["seen_uuid"]) == ("CRV14-0003", device.serial, device.uuid)
    guess = await ask("servers/surge-03/board", {"uuid": device.uuid, "serial": "CRV14-0001"})
    assert guess["type"] == "ordnung:identity-differs"
    assert await ask("servers/surge-03/board", {"uuid": device.uuid, "serial": device.serial}) is None
    work = await site.ask("surveys")
    row = await Server.objects.aget(name="surge-03")
    assert (work.note, row.serial, row.uuid, row.cause) == ("2 read", device.serial, device.uuid, None)


async def answers(site, run: int, cause: str) -> RunServer:
    """The server of a run, once it asks to be let in for that cause."""
    while True:
        place = await RunServer.objects.select_related("server").aget(run=run)
        if place.ended or place.question.startswith(cause):
            return place
        await asyncio.sleep(0.05)


async def test_a_certificate_that_changes_with_an_image_is_accepted_by_a_person_and_the_run_goes_on(site):
    ask, device = sync_to_async(site.post), site.live.device("gauge-04")
    await site.ask("surveys")
    await site.ask("repositories")
    run = await ask("runs", {"servers": ["gauge-04"]})
    device.quirks |= {"certificate anew"}

    async def settle() -> None:
        place = await answers(site, run["id"], "certificate changed")
        assert "Compare the new fingerprint" in place.question and place.server.cause == "certificate changed"
        calls = await sync_to_async(site.get)("calls")
        assert [(call["kind"], call["server"]) for call in calls] == [("question", "gauge-04")]
        refused = await ask(f"runs/{run['id']}/servers/gauge-04/answer", {"answer": "try"})
        assert refused["type"] == "ordnung:not-asked"
        await ask("servers/gauge-04/trust", {"pin": place.server.seen_pin})
        place = await answers(site, run["id"], "no credentials")
        assert "its password was cleared when its certificate changed" in place.question
        await ask("servers/gauge-04/credentials", {"user": device.user, "password": device.password})

    person = asyncio.create_task(settle())
    work = await site.ask(f"runs/{run['id']}/start")
    await person
    assert (work.state, work.note) == ("done", "1 of 1 done")
    assert writes_of(device.log) == [("bmc", "2.80.0")]
    tape = await sync_to_async(site.get)(f"runs/{run['id']}/tape")
    told = [row["text"] for row in tape if "answered" in row["text"]]
    assert told == ["technician answered: that is settled"] * 2


async def test_a_password_that_is_made_the_kept_one_again_at_the_controller_is_entered_once_more_and_tried(site):
    """A controller has its accounts as it was delivered; somebody gives it back the password that the house uses."""
    ask, device = sync_to_async(site.post), site.live.device("gauge-04")
    usual, device.quirks = device.password, device.quirks | {"accounts anew", "password enforced"}
    await site.ask("surveys")
    await site.ask("repositories")
    run = await ask("runs", {"servers": ["gauge-04"]})

    async def settle() -> None:
        place = await answers(site, run["id"], "signed out")
        assert not place.ended, place.reason
        device.accounts["1"].password, device.accounts["1"].change_required = usual, False
        await ask("servers/gauge-04/credentials", {"user": device.user, "password": usual})

    person = asyncio.create_task(settle())
    work = await site.ask(f"runs/{run['id']}/start")
    await person
    assert (work.state, work.note) == ("done", "1 of 1 done")
    assert len([entry for entry in device.log if entry["what"] == "sign-in refused"]) <= 3


async def test_a_part_that_was_pulled_since_the_sheet_was_planned_is_told_at_its_end(site):
    await site.ask("surveys")
    await site.ask("repositories")
    run = await sync_to_async(site.post)("runs", {"servers": ["surge-03"]})
    device = site.live.device("surge-03")
    device.part("raid-1").gone = True
    work = await site.ask(f"runs/{run['id']}/start")
    place = await RunServer.objects.aget(run=run["id"])
    lost = "raid-1 is on the sheet, and its controller does not list it"
    assert (work.state, place.ended, place.reason) == ("done", "skipped", f"as far as it goes. {lost}")
    tape = await sync_to_async(site.get)(f"runs/{run['id']}/tape")
    assert f"warning, sheet: {lost}. Nothing is sent to it. Look where it is, then plan again." in [
        r["text"] for r in tape
    ]


async def test_the_whole_line_over_the_database(site):
    await site.ask("surveys")
    await site.ask("repositories")
    repository = await Repository.objects.aget()
    assert repository.state == "sealed"
    checked = await site.ask(f"repositories/{repository.pk}/check")
    assert checked.state == "done" and "every signature and checksum right" in checked.note
    run = await sync_to_async(site.post)("runs", {})
    assert sorted(s["server"] for s in run["servers"]) == ["gauge-04", "surge-03"] and run["missing"] == []
    work = await site.ask(f"runs/{run['id']}/start")
    assert (work.state, work.note) == ("done", "2 of 2 done")
    assert await Run.objects.filter(state="ended").acount() == 1
    assert await RunServer.objects.filter(active=True).acount() == 0
    for name, wanted in (("surge-03", [("raid-1", "7.18.0")]), ("gauge-04", [("bmc", "2.80.0")])):
        assert writes_of(site.live.device(name).log) == wanted
    record = await sync_to_async(site.get)(f"runs/{run['id']}/record")
    first = next(s for s in record["servers"] if s["server"] == "surge-03")
    assert first["done"][0]["back_to"] == "7.16.1" and first["differences"] == []
    verdicts = [
        (c["before"], c["after"])
        for c in [
            {"before": b["verdict"], "after": a["verdict"]}
            for b, a in zip(first["before"], first["after"], strict=True)
        ]
    ]
    assert ("behind", "level") in verdicts
    assert record["summary"][0] == "All 2 servers are level with the baseline."
    assert "foretold with nine in ten" in record["summary"][-1] and record["forecasts"] == 1
    assert [w["result"] for step in first["rounds"] for w in step["writes"]] == ["written"]
    assert [p["what"] for p in record["people"]] == ["lay out a run sheet", "start a run", "end a run"]
    assert record["people"][1]["who"] == "technician" and record["people"][1]["servers"] == ["gauge-04", "surge-03"]
    await sync_to_async(check_files)(site, run["id"])
    assert await Event.objects.filter(topic="step").aexists()


def check_files(site, run: int) -> None:
    """The record as files: signed, as a table, and as bills of materials of before and after."""
    signed = parse_record(site.browser.get(f"/api/v1/exports/records/{run}.json").content)
    assert check_record(signed, public_half(site_key())) == () and len(signed.record.servers) == 2
    assert any(entry.text.startswith("planned 1 writes") for entry in signed.record.servers[0].tape)
    table = site.browser.get(f"/api/v1/exports/records/{run}.csv").content.decode().splitlines()
    assert len(table) == 3 and table[0].startswith("run,name,server,model,serial")
    assert any(",raid-1,7.16.1,7.18.0,written," in line for line in table)
    seen = {}
    for when in ("before", "after"):
        bom = site.browser.get(f"/api/v1/exports/records/{run}.cdx.json?when={when}").json()
        firmware = {c["bom-ref"]: c.get("version") for device in bom["components"] for c in device["components"]}
        seen[when] = firmware["server/surge-03/raid-1"]
    assert seen == {"before": "7.16.1", "after": "7.18.0"}
    assert site.browser.get(f"/api/v1/exports/records/{run}.cdx.json?when=never").status_code == 422


async def test_one_update_is_taken_back_and_the_record_says_where_it_is_now(site):
    await site.ask("surveys")
    await site.ask("repositories")
    run = await sync_to_async(site.post)("runs", {"servers": ["surge-03"]})
    await site.ask(f"runs/{run['id']}/start")
    back = await sync_to_async(site.post)(f"runs/{run['id']}/take-back", {"server": "surge-03", "slot": "raid-1"})
    assert back["takes_back"] == run["id"] and back["servers"][0]["rounds"][0]["writes"][0]["to"] == "7.16.1"
    work = await site.ask(f"runs/{back['id']}/start")
    assert work.state == "done"
    assert site.live.device("surge-03").part("raid-1").version == "7.16.1"
    record = await sync_to_async(site.get)(f"runs/{run['id']}/record")
    done = record["servers"][0]["done"][0]
    assert done["back_to"] is None and done["barred"] == "it is at 7.16.1 now"
    again = await sync_to_async(site.post)(f"runs/{run['id']}/take-back", {"server": "surge-03", "slot": "bios"})
    assert "was not updated in this run" in again["detail"]


async def test_all_that_a_run_did_is_taken_back_server_by_server_and_wave_by_wave(site):
    await site.ask("surveys")
    await site.ask("repositories")
    run = await sync_to_async(site.post)("runs", {"servers": list(NAMES)})
    waves = [{"name": "canary", "servers": ["surge-03"]}, {"name": "rest", "servers": ["gauge-04"]}]
    await sync_to_async(site.browser.patch)(
        f"/api/v1/runs/{run['id']}/sheet", {"waves": waves}, content_type="application/json"
    )
    before = {name: {p.slot: p.version for p in site.live.device(name).parts} for name in NAMES}
    await site.ask(f"runs/{run['id']}/start")
    path = f"runs/{run['id']}/take-back"

    wave = await sync_to_async(site.post)(path, {"wave": "canary"})
    assert [s["server"] for s in wave["servers"]] == ["surge-03"] and wave["name"].startswith("Take back canary of")
    server = await sync_to_async(site.post)(path, {"server": "gauge-04"})
    assert [s["server"] for s in server["servers"]] == ["gauge-04"]
    whole = await sync_to_async(site.post)(path, {})
    assert {s["server"] for s in whole["servers"]} == set(NAMES) and whole["takes_back"] == run["id"]
    for asked, said in (
        ({"wave": "nobody's"}, "nobody's was not updated in this run."),
        ({"slot": "bios"}, "Say of which server."),
    ):
        assert (await sync_to_async(site.post)(path, asked))["detail"] == said

    await site.ask("repositories")
    await site.ask(f"runs/{whole['id']}/start")
    after = {name: {p.slot: p.version for p in site.live.device(name).parts} for name in NAMES}
    assert after == before
    again = await sync_to_async(site.post)(path, {})
    assert again["detail"] == "Everything is as it was before already."


async def test_a_refused_image_ends_the_run_with_the_reason_and_a_failure_to_be_seen(site):
    await site.ask("surveys")
    await site.ask("repositories")
    site.live.call(site.live.device("surge-03").faults.append, Fault("image refused", slot="raid-1", times=9))
    run = await sync_to_async(site.post)("runs", {"servers": ["surge-03"]})
    work = await site.ask(f"runs/{run['id']}/start")
    assert work.state == "failed" and "look at surge-03" in work.note and not work.seen
    place = await RunServer.objects.aget()
    assert place.ended == "failed" and "still at 7.16.1" in place.reason and not place.active
    await sync_to_async(site.post)(f"work/{work.pk}/seen")
    assert (await Work.objects.aget(pk=work.pk)).seen


async def test_an_altered_payload_in_the_store_is_found_before_it_is_sent(site):
    await site.ask("surveys")
    await site.ask("repositories")
    for path in (site.folder / "payloads" / "content").rglob("*"):
        if path.is_file():
            path.write_bytes(path.read_bytes()[:-1] + b"!")
    run = await sync_to_async(site.post)("runs", {"servers": ["surge-03"]})
    await site.ask(f"runs/{run['id']}/start")
    place = await RunServer.objects.aget()
    assert place.ended == "failed" and "the stored payload was altered; nothing was sent" in place.reason
    assert writes_of(site.live.device("surge-03").log) == []


async def test_a_lying_mirror_seals_nothing(site):
    await site.ask("surveys")
    site.live.floor.mirror.faults["tessaly/r9/raid-7.18.0.pldm"] = "altered"
    work = await site.ask("repositories", {"servers": ["surge-03"]})
    repository = await Repository.objects.aget()
    assert work.state == "failed" and repository.state == "incomplete" and repository.packing_sum == ""
    assert "Tessaly R9 RAID 7.18.0" in repository.message
    shown = await sync_to_async(site.get)(f"repositories/{repository.pk}")
    states = {line["version"]: line["state"] for line in shown["lines"]}
    assert states == {"7.18.0": "refused", "7.16.1": "packed"}


async def test_what_the_engine_left_is_taken_up_again(site):
    await site.ask("surveys")
    await sync_to_async(site.post)("surveys")
    (work,) = await sync_to_async(claim)()
    assert work.state == "running" and await sync_to_async(claim)() == []
    assert [w.pk for w in await sync_to_async(left_over)()] == [work.pk]
    run = await Run.objects.acreate(name="r", state="running", drafted_at=work.asked_at, drafted_by="t")
    broken = await Work.objects.acreate(
        kind="run", title="r", state="failed", subject={"run": run.pk}, asked_at=work.asked_at
    )
    await Work.objects.acreate(kind="pack", title="p", state="failed", asked_at=work.asked_at)
    assert [w.pk for w in await sync_to_async(left_over)()] == [work.pk, broken.pk]
    assert await TapeEntry.objects.acount() == 0


def foreign_catalog(base: str, raw: bytes) -> bytes:
    """Another maker's list that claims the RAID's product, with the same version and other bytes."""
    import hashlib
    import json

    release = {
        "version": "7.18.0", "activation": "server reboot", "importance": "security", "released": "2026-11-20",
        "payload": {"path": "evil.pldm", "size": len(raw), "sha256": hashlib.sha256(raw).hexdigest()},
    }  # fmt: skip
    product = {
        "id": "tessaly.r9", "name": "Tessaly R9 RAID", "kind": "raid", "scheme": "dotted",
        "fits": [{"software_id": "TSY-R9"}], "releases": [release],
    }  # fmt: skip
    document = {
        "format": "ordnung.catalog/1", "maker": "Elsewhere", "catalog": "all-cards", "issue": "2026-12",
        "issued": "2026-11-22", "base": base, "models": [], "products": [product],
    }  # fmt: skip
    return json.dumps(document).encode()


async def test_a_catalog_that_comes_later_changes_neither_what_is_planned_nor_what_is_sent(site):
    """A run names its bytes. An unsigned catalog of another maker once decided which were sent."""
    await site.ask("surveys")
    await site.ask("repositories")
    run = await sync_to_async(site.post)("runs", {"servers": ["surge-03"]})
    write = run["servers"][0]["rounds"][0]["writes"][0]
    assert run["source"] == "surge-03 and gauge-04, edition 1" or run["source"].endswith("edition 1")
    assert write["issue"].startswith("Corvane ") and len(write["sha256"]) == 64
    await sync_to_async(bring_in)(foreign_catalog(site.live.floor.mirror_url, b"evil"), "elsewhere")
    assert (await sync_to_async(site.get)(f"runs/{run['id']}"))["missing"] == []
    again = await sync_to_async(site.post)("runs", {"servers": ["surge-03"]})
    assert again["servers"][0]["rounds"][0]["writes"][0]["sha256"] == write["sha256"]
    work = await site.ask(f"runs/{run['id']}/start")
    assert work.state == "done", work.note
    tape = await sync_to_async(site.get)(f"runs/{run['id']}/tape")
    assert any(write["sha256"][:12] in entry["text"] for entry in tape)
