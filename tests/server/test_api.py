"""The API: closed without sign-in, guarded by CSRF, secrets never out, refusals as problem documents."""

from __future__ import annotations

import datetime
import json

import pytest
from asgiref.sync import sync_to_async
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import AsyncClient, Client
from django.urls import URLPattern, get_resolver

from ordnung.core.components import Component
from ordnung.core.components import Server as ServerValue
from ordnung.server import vault
from ordnung.server.assessment import current
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.fleet.models import Group, Server
from ordnung.server.runs.adapters import store_reading
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.work.events import tell
from ordnung.server.work.models import Event, Work

pytestmark = pytest.mark.django_db
NOW = datetime.datetime(2026, 11, 23, 1, tzinfo=datetime.UTC)


@pytest.fixture(autouse=True)
def fresh_house():
    current.forget()


def post(client, path, body=None, **extra):
    return client.post(f"/api/v1/{path}", json.dumps(body or {}), content_type="application/json", **extra)


def add_server(name="surge-03", versions=("7.16.1",)) -> Server:
    group, _ = Group.objects.get_or_create(name="surge ensemble", defaults={"may_be_away": 4})
    row = Server(name=name, url="https://127.20.1.39:8443", user="ordnung", rack="K1", unit=39, group=group)
    row.set_password("kelp-and-slate")
    row.save()
    parts = tuple(
        Component(slot=f"raid-{n}", kind="raid", name="R9", software_id="TSY-R9", version=v, pci="ffe2:0090:ffe2:0001")
        for n, v in enumerate(versions, start=1)
    )
    store_reading(ServerValue(name=name, model="Corvane Reed 14", read_at=NOW, components=parts), "ab" * 32)
    return row


def api_paths() -> list[str]:
    filled = {"<int:pk>": "1", "<str:name>": "x", "<str:product>": "x", "<int:number>": "1", "<slug:name>": "x"}
    filled |= {
        "<int:written>": "1",
        "<int:other>": "1",
        "<str:wave>": "x",
        "<uuid:pk>": "00000000-0000-0000-0000-000000000000",
    }
    filled |= {f"<str:{name}>": "x" for name in ("maker", "catalog", "old", "new")}
    found = []
    for pattern in get_resolver().url_patterns:
        if isinstance(pattern, URLPattern) and str(pattern.pattern).startswith("api/v1/"):
            path = str(pattern.pattern)
            for key, value in filled.items():
                path = path.replace(key, value)
            found.append("/" + path)
    return found


OPEN = {"/api/v1/me", "/api/v1/sign-in"}


@pytest.mark.parametrize("path", [p for p in api_paths() if p not in OPEN])
def test_nothing_is_readable_or_writable_without_sign_in(path):
    client = Client()
    for method in (client.get, client.post, client.put, client.delete):
        assert method(path).status_code in (401, 405), path
    assert 401 in [method(path).status_code for method in (client.get, client.post, client.put)]


def test_signing_in_and_out(person):
    client = Client(enforce_csrf_checks=True)
    token = client.get("/api/v1/me").json()["csrf"]
    refused = post(client, "sign-in", {"name": "technician", "password": "wrong"}, HTTP_X_CSRFTOKEN=token)
    assert refused.status_code == 401 and refused.json()["detail"] == "That name and password don't go together."
    assert refused["Content-Type"] == "application/problem+json"
    entered = post(client, "sign-in", {"name": "technician", "password": "tide-table"}, HTTP_X_CSRFTOKEN=token)
    assert entered.status_code == 200
    assert client.get("/api/v1/me").json()["name"] == "technician"
    token = entered.json()["csrf"]
    assert post(client, "sign-out", HTTP_X_CSRFTOKEN=token).status_code == 204
    assert client.get("/api/v1/servers").status_code == 401


def test_writes_need_the_csrf_token(person):
    client = Client(enforce_csrf_checks=True)
    client.force_login(person)
    assert post(client, "surveys").status_code == 403
    assert post(client, "sign-in", {"name": "a", "password": "b"}).status_code == 403
    assert Work.objects.count() == 0


def test_every_answer_carries_the_content_policy(web):
    policy = {rule.strip() for rule in web.get("/api/v1/servers")["Content-Security-Policy"].split(";")}
    assert {"script-src 'self'", "frame-ancestors 'none'"} <= policy


def test_device_credentials_are_encrypted_and_never_come_out(web, catalogs):
    row = add_server()
    assert b"kelp" not in bytes(row.sealed_password)
    for path in ("servers", "servers/surge-03", "work", "site"):
        assert "kelp-and-slate" not in web.get(f"/api/v1/{path}").content.decode()
    assert Server.objects.get().endpoint().password == "kelp-and-slate"
    with pytest.raises(ValueError, match="can't be read"):
        vault.decrypt(bytes(row.sealed_password), "server", "another server")


def test_credentials_can_be_replaced_but_not_read(web, catalogs):
    add_server()
    answer = post(web, "servers/surge-03/credentials", {"user": "new", "password": " spaced "})
    assert answer.status_code == 204 and answer.content == b""
    assert Server.objects.get().endpoint().password == " spaced "


def test_a_server_is_added_once(web):
    body = {"name": "new-1", "url": "https://127.20.1.9:8443", "user": "u", "password": "p", "rack": "K1", "unit": 9}
    assert post(web, "servers", body).status_code == 201
    again = post(web, "servers", body)
    assert (again.status_code, again.json()["type"]) == (422, "ordnung:name-taken")
    assert post(web, "servers", {**body, "name": "n2", "url": "http://plain"}).json()["field"] == "url"


def test_servers_are_judged_by_the_same_core(web, catalogs):
    add_server()
    (server,) = web.get("/api/v1/servers").json()["servers"]
    raid = next(c for c in server["cells"] if c["kind"] == "raid")
    assert (raid["verdict"], raid["behind"], raid["target"]) == ("behind", 1, "7.18.0")
    assert (server["off"], server["resets"]) == (1, "1 reboot")
    detail = web.get("/api/v1/servers/surge-03").json()
    assert detail["rounds"] == [
        {
            "writes": [{"slot": "raid-1", "product": "tessaly.r9", "source": "7.16.1", "to": "7.18.0"}],
            "reset": "server reboot",
        }
    ]
    assert "proven" in detail["proof"]
    assert web.get("/api/v1/servers/nobody").status_code == 404


@pytest.mark.parametrize("spoil", [lambda raw: raw[: len(raw) // 2], lambda raw: raw.replace(b'"dotted"', b'"roman"')])
def test_a_bad_catalog_is_refused_and_nothing_stored_is_harmed(web, catalogs, mirror_folder, spoil):
    before = list(CatalogIssue.objects.values_list("catalog", "issue", "raw"))
    raw = (mirror_folder / "catalogs" / "corvane-servers-2026-11.json").read_bytes()
    answer = web.post("/api/v1/catalogs", {"file": SimpleUploadedFile("half.json", spoil(raw))})
    assert answer.status_code == 422 and answer.json()["type"] == "ordnung:format"
    assert answer.json()["detail"].startswith("half.json: ")
    assert list(CatalogIssue.objects.values_list("catalog", "issue", "raw")) == before


def test_the_same_issue_with_other_contents_is_a_conflict(web, catalogs, mirror_folder):
    raw = (mirror_folder / "catalogs" / "corvane-servers-2026-11.json").read_bytes()
    same = web.post("/api/v1/catalogs", {"file": SimpleUploadedFile("x.json", raw)})
    assert same.status_code == 200
    other = web.post("/api/v1/catalogs", {"file": SimpleUploadedFile("x.json", raw.replace(b"Fewer", b"Fever"))})
    assert other.status_code == 409 and "what is here stays" in other.json()["detail"]


def test_looking_into_packages(web, catalogs, mirror_folder):
    add_server()
    raw = (mirror_folder / "tessaly/r9/raid-7.18.0.pldm").read_bytes()

    def look(content, **fields):
        return web.post("/api/v1/packages", {"file": SimpleUploadedFile("p.pldm", content), **fields})

    good = look(raw, server="surge-03", slot="raid-1")
    assert good.status_code == 200 and "is for R9 in raid-1 of surge-03" in good.json()["fits"]
    broken = look(raw[:-1] + b"!")
    assert broken.status_code == 422 and "checksum is wrong" in broken.json()["detail"]
    other = (mirror_folder / "corvane/reed14/bios/bios-3.2.0.pldm").read_bytes()
    foreign = look(other, server="surge-03", slot="raid-1")
    assert foreign.status_code == 422 and "is not for raid-1 of surge-03" in foreign.json()["detail"]
    assert "Nothing was sent" in foreign.json()["detail"]


def test_baseline_and_release_line(web, catalogs):
    add_server(versions=("7.16.1", "7.18.0"))
    body = web.get("/api/v1/baseline").json()
    (line,) = body["lines"]
    assert (line["target"], line["fitted"], line["rule"]) == ("7.18.0", 2, 1)
    told = web.get("/api/v1/products/tessaly.r9/line").json()
    assert [(r["version"], r["components"], r["is_target"]) for r in told["releases"]] == [
        ("7.14.0", 0, False), ("7.16.1", 1, False), ("7.18.0", 1, True),
    ]  # fmt: skip
    assert told["ways"] == [{"source": "7.16.1", "to": "7.18.0", "reset": "server reboot", "components": 1}]


def test_a_run_needs_its_payloads_and_one_server_runs_once(web, catalogs):
    add_server()
    draft = post(web, "runs", {"servers": ["surge-03"]})
    assert draft.status_code == 201
    run = draft.json()
    assert run["missing"] == [{"product": "Tessaly R9 RAID", "version": "7.18.0"}]
    start = post(web, f"runs/{run['id']}/start")
    assert start.status_code == 409 and "is not packed" in start.json()["detail"]
    assert Run.objects.get().state == "draft"
    RunServer.objects.update(active=True)
    second = Run.objects.get(pk=post(web, "runs", {}).json()["id"])
    from django.db import IntegrityError, transaction

    with pytest.raises(IntegrityError), transaction.atomic():
        second.servers.update(active=True)
    assert web.delete(f"/api/v1/runs/{second.pk}").status_code == 204


def test_nothing_to_do_is_said_not_drafted(web, catalogs):
    add_server(versions=("7.18.0",))
    for path in ("runs", "repositories"):
        answer = post(web, path, {})
        assert answer.status_code == 422 and "need nothing" in answer.json()["detail"]


def test_only_a_running_run_takes_orders(web, catalogs):
    add_server()
    run = post(web, "runs", {}).json()
    path = f"runs/{run['id']}/orders"
    assert post(web, path, {"order": "hold"}).status_code == 409
    Run.objects.update(state="running", started_at=NOW)
    assert post(web, path, {"order": "hold"}).json()["order"] == "hold"
    assert post(web, path, {"order": "stop"}).json()["order"] == "stop"
    assert post(web, path, {"order": "go"}).status_code == 409
    assert web.delete(f"/api/v1/runs/{run['id']}").status_code == 409


def test_a_survey_is_work_for_the_engine(web):
    add_server()
    answer = post(web, "surveys", {"servers": ["surge-03"]})
    assert answer.status_code == 202 and answer.json()["state"] == "asked"
    assert post(web, "surveys", {"servers": ["nobody"]}).json()["detail"] == "There is no server nobody."


def test_trust_takes_only_the_fingerprint_that_was_shown(web):
    row = add_server()
    Server.objects.update(cause="certificate changed", seen_pin="cd" * 32)
    assert post(web, "servers/surge-03/trust", {"pin": "ef" * 32}).status_code == 422
    assert post(web, "servers/surge-03/trust", {"pin": "cd" * 32}).status_code == 204
    row.refresh_from_db()
    assert (row.pin, row.cause) == ("cd" * 32, "no credentials"), "what was kept was entered for another one"
    assert bytes(row.sealed_password) == b""


def test_listing_servers_asks_the_database_a_constant_number_of_times(web, catalogs, django_assert_num_queries):
    for n in range(3):
        add_server(f"surge-{n:02d}")
    web.get("/api/v1/servers")
    with django_assert_num_queries(5):
        web.get("/api/v1/servers")
    for n in range(3, 9):
        add_server(f"surge-{n:02d}")
    web.get("/api/v1/servers")
    with django_assert_num_queries(5):
        web.get("/api/v1/servers")


@pytest.mark.django_db(transaction=True)
async def test_the_event_stream_resumes_where_the_browser_left_off(person):
    first = await sync_to_async(tell)("work", id=1)
    await sync_to_async(tell)("work", id=2)
    client = AsyncClient()
    await client.aforce_login(person)
    answer = await client.get("/api/v1/events", headers={"last-event-id": str(first.pk)})
    parts = answer.streaming_content.__aiter__()
    assert (await parts.__anext__()) == b"retry: 1000\n\n"
    told = (await parts.__anext__()).decode()
    assert '"id": 2' in told and f"id: {first.pk + 1}\n" in told
    await parts.aclose()


def test_events_are_pruned(settings):
    from ordnung.server.work import events

    keep, events.KEEP = events.KEEP, 10
    try:
        while tell("work").pk % 500:
            pass
    finally:
        events.KEEP = keep
    assert Event.objects.count() == 11
