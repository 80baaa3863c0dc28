"""The machine room on the database: readings kept compactly, histories, reports, searches, the floor in columns."""

from __future__ import annotations

import dataclasses
import datetime

import pytest
from asgiref.sync import sync_to_async
from django.core.files.uploadedfile import SimpleUploadedFile

from ordnung.controllers import Client, RedfishControllers
from ordnung.core.components import Component
from ordnung.core.components import Server as ServerValue
from ordnung.core.merge import HostDevice, HostReport
from ordnung.formats.addresses import parse_networks
from ordnung.formats.host_report import write_host_report
from ordnung.formats.readings import parse_readings
from ordnung.formats.server_list import parse_server_list
from ordnung.server.api.tables import BOM, as_cell
from ordnung.server.assessment import current
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.fleet.models import ComponentState, Group, Reading, Search, Server
from ordnung.server.fleet.readings import store_reading
from ordnung.server.jobs import jobs
from ordnung.server.repositories.payloads import open_store
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.work.models import Work
from ordnung.standins.faults import Fault
from ordnung.store import PayloadProcess
from tests.server.test_api import add_server, post

pytestmark = pytest.mark.django_db
NOW = datetime.datetime(2026, 11, 23, 1, tzinfo=datetime.UTC)
ZEROS = "00000000-0000-0000-0000-000000000000"


def part(slot, version="1.0", **facts):
    return Component(**{"slot": slot, "kind": "nic", "name": "Q25", "version": version, **facts})


def row(name="surge-03", **facts):
    found = Server(name=name, url="https://127.20.1.39:8443", user="u", rack="K1", unit=39, **facts)
    found.set_password("p")
    found.save()
    return found


def keep(name, *parts, minutes=0, **facts):
    at = NOW + datetime.timedelta(minutes=minutes)
    store_reading(ServerValue(name=name, model="Reed 14", serial=f"S-{name}", uuid=f"u-{name}", read_at=at, components=parts, **facts), "ab" * 32)  # fmt: skip


def get(web, path):
    answer = web.get(f"/api/v1/{path}")
    assert answer.status_code == 200, answer.content
    return answer.json()


def change(web, path, body):
    return web.patch(f"/api/v1/{path}", body, "application/json")


# History


def test_components_that_did_not_change_are_stored_once(web):
    row()
    for minutes in range(20):
        keep("surge-03", part("a"), part("b"), part("c", f"1.{minutes // 10}"), minutes=minutes)
    assert Reading.objects.count() == 20 and ComponentState.objects.count() == 4
    readings = get(web, "servers/surge-03/readings")
    assert [r["changes"] for r in readings] == [0] * 9 + [1] + [0] * 10
    assert get(web, "servers/surge-03/changes")["changes"] == [
        {"what": "version", "slot": "c", "kind": "nic", "name": "Q25", "before": "1.0", "after": "1.1"}
    ]


def test_any_two_readings_can_be_compared(web):
    row()
    keep("surge-03", part("a"))
    keep("surge-03", part("a", "2.0"), minutes=1)
    keep("surge-03", part("b"), minutes=2)
    third, second, first = (r["id"] for r in get(web, "servers/surge-03/readings"))
    told = get(web, f"servers/surge-03/changes?before={first}&after={second}")["changes"]
    assert [c["what"] for c in told] == ["version"]
    told = get(web, f"servers/surge-03/changes?before={first}&after={third}")["changes"]
    assert [c["what"] for c in told] == ["vanished", "appeared"]
    assert web.get(f"/api/v1/servers/surge-03/changes?before={third + 99}").status_code == 404
    assert web.get("/api/v1/servers/nobody/changes").status_code == 404


def test_a_component_tells_since_when_it_has_its_version(web):
    row()
    keep("surge-03", part("a", "1.0"), part("b"))
    keep("surge-03", part("a", "2.0"), part("b"), minutes=5)
    keep("surge-03", part("a", "2.0"), part("b"), part("c"), minutes=9)
    since = {p["slot"]: p["seen_since"][14:16] for p in get(web, "servers/surge-03")["parts"]}
    assert since == {"a": "05", "b": "00", "c": "09"}


def test_what_vanished_stays_listed_until_it_is_back_or_seen(web):
    row()
    keep("surge-03", part("a"), part("b"))
    keep("surge-03", part("a"), minutes=1)
    keep("surge-03", part("a"), minutes=2)
    (lost,) = get(web, "lost")
    assert (lost["server"], lost["slot"], lost["version"], lost["missed_at"][:16]) == ("surge-03", "b", "1.0", "2026-11-23T01:01")  # fmt: skip
    assert get(web, "floor")["lost"] == [1]
    keep("surge-03", part("a"), part("b"), minutes=3)
    assert get(web, "lost") == []
    keep("surge-03", part("a"), minutes=4)
    assert post(web, "servers/surge-03/lost/seen").status_code == 204
    assert get(web, "lost") == [] and get(web, "servers/surge-03")["lost_parts"] == []


# Host reports


def send_report(web, report):
    file = SimpleUploadedFile("report.json", write_host_report(report))
    return web.post("/api/v1/host-reports", {"file": file})


def test_a_report_is_laid_over_the_readings_of_its_own_server(web):
    row(), row("surge-04")
    keep("surge-03", part("nic-1", serial="A"))
    keep("surge-04", part("nic-1", serial="B"))
    devices = (
        HostDevice(kind="nic", name="x", serial="A", version="1.1"),
        HostDevice(kind="nic", name="stray", version="3.14"),
    )
    report = HostReport(taken_at=NOW, host="surge-04", serial="s-surge-03", devices=devices)
    told = send_report(web, report).json()
    assert (told["server"], told["matched"], told["added"]) == ("surge-03", 1, ["stray in stray"])
    assert told["differs"] == ["Q25: controller 1.0, report 1.1"]
    parts = {p["slot"]: p for p in get(web, "servers/surge-03")["parts"]}
    assert (parts["nic-1"]["version"], parts["nic-1"]["reported"], parts["stray"]["origin"]) == ("1.0", "1.1", "host report")  # fmt: skip
    keep("surge-03", part("nic-1", serial="A"), minutes=9)
    assert len(get(web, "servers/surge-03")["parts"]) == 2, "later readings keep the report"
    assert get(web, "lost") == []


def test_reports_of_nobody_older_ones_and_spoiled_ones_are_refused(web):
    row()
    keep("surge-03", part("a"))
    stranger = HostReport(taken_at=NOW, host="surge-03", serial="other")
    assert (
        send_report(web, stranger)
        .json()["detail"]
        .startswith("report.json: no one server of the house has serial other. ")
    )
    own = dataclasses.replace(stranger, serial="S-surge-03")
    assert send_report(web, own).status_code == 201
    older = dataclasses.replace(own, taken_at=NOW - datetime.timedelta(days=1))
    assert send_report(web, older).status_code == 409
    answer = web.post("/api/v1/host-reports", {"file": SimpleUploadedFile("x.json", b"{")})
    assert answer.status_code == 422 and answer.json()["type"] == "ordnung:format"
    assert web.post("/api/v1/host-reports", {}).json()["field"] == "file"


@pytest.mark.parametrize(
    "own", [{"uuid": ZEROS}, {"serial": "To Be Filled By O.E.M."}, {"uuid": ZEROS, "serial": "N/A"}]
)
def test_what_factories_ship_finds_no_server_for_a_report(web, own):
    """It was laid over the first server of the house that tells the same nothing."""
    row(), row("surge-04")
    keep("surge-03", part("a"))
    keep("surge-04", part("a"))
    Server.objects.update(**own)
    told = send_report(web, HostReport(taken_at=NOW, host="surge-04", **own)).json()
    assert "tells neither a serial nor a UUID" in told["detail"]


def test_a_report_finds_its_server_in_the_other_byte_order_and_none_where_several_could_be_meant(web):
    row(), row("surge-04")
    keep("surge-03", part("a"))
    keep("surge-04", part("a"))
    Server.objects.filter(name="surge-04").update(uuid="a1b2c3d4-e5f6-4789-8abc-def012345678")
    swapped = HostReport(taken_at=NOW, host="x", uuid="D4C3B2A1-F6E5-8947-8ABC-DEF012345678", serial="of its chassis")
    assert send_report(web, swapped).json()["server"] == "surge-04"
    Server.objects.update(serial="SAME")
    told = send_report(web, HostReport(taken_at=NOW, host="surge-04", serial="SAME")).json()
    assert told["detail"].startswith("report.json: no one server of the house has serial SAME. ")


# The floor and the lists


def test_the_floor_is_told_in_columns_of_equal_length(web, catalogs):
    for n in range(3):
        add_server(f"surge-{n:02d}")
    row("unread-1", room="Kelp")
    told = get(web, "floor")
    assert told["name"] == ["surge-00", "surge-01", "surge-02", "unread-1"]
    columns = [v for v in told.values() if isinstance(v, list)]
    assert {len(c) for c in columns} == {4}
    raid = told["cells"][0][4:6]
    assert (told["verdicts"][raid[0]], raid[1]) == ("behind", "1")
    assert told["read"][3] == 0 and told["reach"][3] == told["health"][3] == "unknown"


def test_an_unchanged_floor_is_answered_with_nothing_after_one_query_of_its_own(web, django_assert_num_queries):
    row()
    tag = web.get("/api/v1/floor")["ETag"]
    with django_assert_num_queries(4):  # session, person, rights, the newest event
        assert web.get("/api/v1/floor", HTTP_IF_NONE_MATCH=tag).status_code == 304
    keep("surge-03", part("a"))
    assert web.get("/api/v1/floor", HTTP_IF_NONE_MATCH=tag).status_code == 200


def test_one_server_read_again_costs_one_server(web, catalogs, django_assert_max_num_queries):
    for n in range(30):
        add_server(f"surge-{n:02d}")
    before = current.current_assessment()
    keep("surge-07", part("a"))
    with django_assert_max_num_queries(5):
        after = current.current_assessment()
    same = [n for n in before.standings if before.standings[n] is after.standings[n]]
    assert len(same) == 29 and after.standings["surge-07"].server.component("a")


def test_servers_are_paged_searched_and_sorted(web, catalogs):
    add_server("level-1", versions=("7.18.0",))
    for n in range(5):
        add_server(f"surge-{n:02d}", versions=("7.16.1",) * (n + 1))
    told = get(web, "servers?limit=2&offset=1&sort=-off")
    assert (told["total"], [s["name"] for s in told["servers"]]) == (6, ["surge-03", "surge-02"])
    assert [s["name"] for s in get(web, "servers?search=LEVEL reed")["servers"]] == ["level-1"]
    assert get(web, "servers?servers=surge-01,nobody")["total"] == 1
    assert get(web, "servers?limit=9999&offset=x")["total"] == 6


def test_a_server_is_changed_moved_and_taken_out(web):
    row()
    values = {"rack": "S2", "unit": 7, "group": "new group", "tags": ["gpu"]}
    assert change(web, "servers/surge-03", values).status_code == 204
    (found,) = get(web, "servers")["servers"]
    assert (found["rack"], found["unit"], found["group"], found["tags"]) == ("S2", 7, "new group", ["gpu"])
    bad = change(web, "servers/surge-03", {"url": "https://10.9.9.9"})
    assert bad.status_code == 422 and bad.json()["type"] == "ordnung:not-allowed"
    assert web.delete("/api/v1/servers/surge-03").status_code == 204 and get(web, "floor")["name"] == []


def test_credentials_of_a_group_and_trust_of_a_batch_are_all_or_nothing(web):
    group = Group.objects.create(name="charts")
    for n in (1, 2):
        row(f"chart-{n}", group=group, seen_pin=f"{n}" * 64, cause="certificate changed")
    row("other")
    assert post(web, "credentials", {"group": "charts", "user": "new", "password": "secret"}).status_code == 204
    assert sorted(s.user for s in Server.objects.all()) == ["new", "new", "u"]
    assert Server.objects.get(name="chart-1").endpoint().password == "secret"
    assert post(web, "credentials", {"user": "x", "password": "y"}).status_code == 404
    pairs = [{"server": "chart-1", "pin": "1" * 64}, {"server": "chart-2", "pin": "9" * 64}]
    assert post(web, "trust", {"accept": pairs}).json()["type"] == "ordnung:fingerprint-differs"
    assert Server.objects.get(name="chart-1").pin is None
    pairs[1]["pin"] = "2" * 64
    assert post(web, "trust", {"accept": pairs}).status_code == 204
    assert Server.objects.get(name="chart-2").pin == "2" * 64


def test_files_come_out_whole_and_harmless(web, catalogs):
    add_server()
    Server.objects.update(role="=cmd()")
    current.forget()
    text = web.get("/api/v1/exports/servers.csv").content.decode()
    assert "\r\n" in text and "'=cmd()" in text and ",raid-1,raid,R9,7.16.1,," in text
    assert as_cell(None) == "" and as_cell("-1") == "'-1" and as_cell("K1") == "K1"
    (server,) = parse_readings(web.get("/api/v1/exports/readings.json").content)
    assert server.component("raid-1").version == "7.16.1" and server.group == "surge ensemble"


@pytest.mark.parametrize(
    ("value", "cell"),
    [
        ("1.10", "'1.10"), ("3.11", "'3.11"), ("3E10", "'3E10"), ("2026-11-04", "'2026-11-04"), ("MAR12", "'MAR12"),
        ("Dez-12", "'Dez-12"), ("März 12", "'März 12"), ("R9", "R9"), ("raid-1", "raid-1"), ("v1.10", "v1.10"), ("", ""), (None, ""),
    ],
)  # fmt: skip
def test_a_spreadsheet_keeps_versions_as_they_are(value, cell):
    assert as_cell(value, is_text=True) == cell


def test_the_list_for_a_spreadsheet_is_marked_and_can_be_taken_again(web, catalogs):
    add_server()
    Server.objects.update(rack="12", role="03.11")
    current.forget()
    plain, marked = (
        web.get("/api/v1/exports/servers.csv", {"for": form}).content.decode() for form in ("", "spreadsheet")
    )
    assert not plain.startswith(BOM) and ",7.16.1," in plain and "'7.16.1" not in plain
    assert marked.startswith(BOM) and ",'7.16.1," in marked and ",'03.11," in marked
    (row,) = parse_server_list(marked.encode())
    assert (row.name, row.rack, row.faults) == ("surge-03", "12", ())
    for table in ("drift", "audit"):
        assert web.get(f"/api/v1/exports/{table}.csv", {"for": "spreadsheet"}).content.decode().startswith(BOM)
    assert web.get("/api/v1/exports/servers.csv", {"for": "parrots"}).status_code == 422


# Searches


@pytest.mark.parametrize(
    ("body", "code"),
    [
        ({"addresses": ""}, "ordnung:nothing-to-look-at"),
        ({"addresses": "some where"}, "ordnung:format"),
        ({"addresses": "10.0.0.1"}, "ordnung:not-allowed"),
        ({"list": "colour\nred\n"}, "ordnung:format"),
        ({"listen": True}, "ordnung:not-set"),
    ],
)
def test_searches_that_can_not_be_made_say_why(web, body, code):
    answer = post(web, "searches", body)
    assert answer.status_code == 422 and answer.json()["type"] == code and Work.objects.count() == 0


class Site:
    """Live stand-ins, a browser, and an engine without a process."""

    def __init__(self, live, web):
        self.live, self.web = live, web

    async def work(self):
        async with Client(self.live.ca, networks=parse_networks("127.0.0.0/8")) as client:
            payloads = PayloadProcess(await sync_to_async(open_store)(), b"s")
            await payloads.start("127.20.100.3", 0, self.live.floor.authority.issue("127.20.100.3", "bells"))
            shop = EnginePorts(RedfishControllers(client), payloads, DatabaseJournal())
            async for work in Work.objects.filter(state="asked"):
                await jobs[work.kind](work, shop)
            await payloads.stop()
        return await Work.objects.order_by("-pk").afirst()


@pytest.fixture
def site(live, web):
    return Site(live, web)


CREDENTIALS = {"user": "ordnung", "password": "kelp-and-slate"}


@pytest.mark.django_db(transaction=True)
async def test_a_search_stores_nothing_and_adding_follows_trusts_and_refuses(site, live):
    ask = sync_to_async(post)
    urls = live.floor.urls
    await sync_to_async(row)("surge-01", uuid=live.device("surge-01").uuid)
    live.device("surge-03").self_signed = True
    live.call(live.floor.renew_certificate, live.device("surge-03"))
    table = "address,name,rack,unit,group\n" + "".join(f"{urls[n].removeprefix('https://')},{n},K1,{u},g\n" for n, u in (("surge-01", 41), ("surge-02", 40), ("surge-03", 39)))  # fmt: skip
    made = (await ask(site.web, "searches", {"list": table + "10.0.0.1,far,,,\n", **CREDENTIALS})).json()
    assert b"kelp-and-slate" not in bytes((await Search.objects.aget()).sealed_password)
    await site.work()
    told = await sync_to_async(get)(site.web, f"searches/{made['id']}")
    rows = {r["name"]: r for r in told["rows"]}
    states = {name: r["state"] for name, r in rows.items()}
    assert states == {"surge-01": "moved", "surge-02": "new", "surge-03": "new", "far": "wrong row"}
    assert await Server.objects.acount() == 1 and rows["surge-02"]["serial"] == "CRV14-0002"
    assert rows["surge-03"]["vouched"] is False and rows["surge-03"]["serial"] is None

    everything = {"rows": [{"id": r["id"]} for r in told["rows"]], "read": False}
    whole = await ask(site.web, f"searches/{made['id']}/add", {**everything, "whole": True})
    assert whole.json()["type"] == "ordnung:not-whole" and await Server.objects.acount() == 1
    some = (await ask(site.web, f"searches/{made['id']}/add", everything)).json()
    assert (some["added"], some["followed"]) == (["surge-02"], ["surge-01"])
    assert {r["name"] for r in some["refused"]} == {"surge-03", "far"}
    accepted = {**everything, "rows": [{"id": rows["surge-03"]["id"]}], "accept": [rows["surge-03"]["pin"]]}
    assert (await ask(site.web, f"searches/{made['id']}/add", accepted)).json()["added"] == ["surge-03"]
    found = await Server.objects.select_related("group").aget(name="surge-03")
    assert (found.rack, found.unit, found.group.name, found.pin) == ("K1", 39, "g", rows["surge-03"]["pin"])
    assert (await Server.objects.aget(name="surge-01")).url == urls["surge-01"]


@pytest.mark.django_db(transaction=True)
async def test_a_survey_goes_on_where_it_was_killed(site, live):
    for name in ("surge-01", "surge-02", "surge-03"):
        found = await sync_to_async(row)(name)
        found.url, found.user = live.floor.urls[name], "ordnung"
        await sync_to_async(found.set_password)("kelp-and-slate")
        await found.asave()
    live.call(live.device("surge-02").faults.append, Fault("silent"))
    await sync_to_async(post)(site.web, "surveys", {"servers": ["surge-01", "surge-02"]})
    await site.work()
    await Work.objects.aupdate(state="asked", subject={"servers": ["surge-01", "surge-02", "surge-03"]}, total=3)
    asked = live.floor.face.requests.copy()
    work = await site.work()
    assert live.floor.face.requests["surge-01"] == asked["surge-01"], "read already"
    assert live.floor.face.requests["surge-03"] > asked.get("surge-03", 0)
    assert (work.done, work.note, [f["server"] for f in work.failures]) == (3, "2 of 3 read", ["surge-02"])
    await sync_to_async(post)(site.web, "surveys", {"failed": True})
    live.call(live.device("surge-02").faults.clear)
    assert (await site.work()).note == "1 read"
    assert await Server.objects.exclude(cause=None).acount() == 0


@pytest.mark.django_db(transaction=True)
async def test_reach_is_tried_from_the_controllers_side(site, live):
    for name in ("surge-01", "gauge-01"):
        found = await sync_to_async(row)(name)
        found.url, found.user = live.floor.urls[name], "ordnung"
        await sync_to_async(found.set_password)("kelp-and-slate")
        await found.asave()
    await sync_to_async(post)(site.web, "surveys", {})
    await sync_to_async(post)(site.web, "reach", {})
    await site.work()
    probes = {s.name: s.probes async for s in Server.objects.all()}
    assert probes == {
        "surge-01": {"HTTPS": "arrived", "HTTP": "arrived"},
        "gauge-01": {"HTTPS": "not arrived", "HTTP": "arrived"},
    }
    ways = (await sync_to_async(get)(site.web, "servers/gauge-01"))["ways"]
    assert [(w["way"], w["open"]) for w in ways][1] == ("fetches over HTTP", True)
    assert live.device("surge-01").subscriptions == {}


def test_a_stored_reading_that_can_not_be_loaded_shows_as_unread_and_takes_no_page_down(web, catalogs):
    """One drive list once made every place answer 422."""
    add_server()
    add_server("surge-09")
    reading = Server.objects.get(name="surge-09").latest
    reading.parts = [10**6, *reading.parts]
    reading.save(update_fields=["parts"])
    current.forget()
    for path in ("servers", "floor", "drift", "baseline", "site", "review"):
        assert web.get(f"/api/v1/{path}").status_code == 200, path
    rows = {row["name"]: row for row in get(web, "servers")["servers"]}
    assert rows["surge-09"]["components"] == 0 and rows["surge-03"]["components"] > 0
