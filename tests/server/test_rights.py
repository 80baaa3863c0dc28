"""Who may do what: every address, every method, every right; people, their sessions and passwords."""

from __future__ import annotations

import asyncio
import datetime
import json
import re
import uuid

import pytest
from asgiref.sync import sync_to_async
from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.core.cache import cache
from django.core.management import CommandError, call_command
from django.test import AsyncClient, Client

from ordnung.server.audit.models import TrailEntry
from ordnung.server.people import pace
from ordnung.server.people.sessions import SEEN
from ordnung.server.rights.commands import BASE, COMMANDS, find_command
from ordnung.server.rights.rights import Right, give_rights, rights_of
from ordnung.server.work.events import tell
from ordnung.server.work.hub import spell
from tests.rights_page import PAGE, page, patterns
from tests.server.conftest import make_person

pytestmark = pytest.mark.django_db
FILLED = {"int": "999999", "uuid": str(uuid.UUID(int=7)), "str": "nobody", "slug": "nobody"}
EVERY = list(patterns())
GOOD = "a-long-tide-gauge-word"


def address(route: str) -> str:
    return "/" + re.sub(r"<(\w+):\w+>", lambda found: FILLED[found[1]], route)


def ask(client: Client, route: str, method: str):
    return client.generic(method, address(route), b"{}" if method != "GET" else b"", content_type="application/json")


def send(client: Client, method: str, path: str, body=None):
    return client.generic(method, f"/{BASE}{path}", json.dumps(body or {}), content_type="application/json")


# The table


def test_every_address_and_method_has_its_command_and_no_command_is_left_over():
    assert not [(route, method) for route, method in EVERY if find_command(route, method) is None]
    offered = {(route.removeprefix(BASE), method) for route, method in EVERY}
    assert not set(COMMANDS) - offered
    names = [command.name for command in COMMANDS.values() if command.recorded]
    doubled = {name for name in names if names.count(name) > 1}
    assert doubled == {"set credentials"}, "one name, one thing to do"


def test_the_page_says_what_the_table_says():
    assert PAGE.read_text() == page()


@pytest.mark.parametrize("right", list(Right))
def test_who_has_one_right_gets_in_where_it_is_asked_for_and_nowhere_else(right):
    client = Client()
    client.force_login(make_person("somebody", right))
    for route, method in EVERY:
        if route.endswith(("sign-out", "sign-in", "events")):
            continue
        command = find_command(route, method)
        answer = ask(client, route, method)
        refused = answer.status_code == 403 and b"not-allowed" in answer.content
        assert refused is (command.right not in (None, right)), (
            method,
            route,
            answer.status_code,
            answer.content[:200],
        )
        assert answer.status_code < 500, (method, route)


def test_who_has_no_right_or_is_disabled_or_unknown_gets_in_nowhere():
    nobody = Client()
    idle = Client()
    user = User.objects.create_user("idle", password=GOOD)
    idle.force_login(user)
    for route, method in EVERY:
        command = find_command(route, method)
        if command.open or route.endswith("events"):
            continue
        assert ask(nobody, route, method).status_code == 401, (method, route)
        if command.right is not None:
            assert ask(idle, route, method).status_code == 403, (method, route)
    assert nobody.get(f"/{BASE}events").status_code == 401 and idle.get(f"/{BASE}events").status_code == 403
    gone = Client()
    person = make_person("gone")
    gone.force_login(person)
    person.is_active = False
    person.save()
    assert gone.get(f"/{BASE}servers").status_code == 401 and rights_of(person) == frozenset()


def test_a_view_that_nobody_declared_is_refused_even_to_those_with_all_rights(web, monkeypatch):
    monkeypatch.delitem(COMMANDS, ("store/clear", "POST"))
    assert send(web, "POST", "store/clear").status_code == 403


def test_a_refusal_says_who_can_and_stands_on_the_trail(web):
    client = Client()
    client.force_login(make_person("viewer", Right.LOOK))
    answer = send(client, "POST", "surveys")
    assert answer.json()["detail"] == "To start a survey takes the right to plan, which you don't have: technician can."
    entry = TrailEntry.objects.get()
    assert (entry.who, entry.command, entry.result) == ("viewer", "start a survey", "refused")
    told = client.get(f"/{BASE}me").json()
    assert told["rights"] == ["look"] and {row["right"]: row["who"] for row in told["table"]}["run"] == ["technician"]


# People


def test_people_are_added_given_rights_disabled_and_reset_by_whoever_keeps_them(web, person):
    body = {"name": "mara", "password": GOOD, "rights": ["look", "run"]}
    assert send(web, "POST", "people", body).status_code == 201
    assert send(web, "POST", "people", {**body, "name": "MARA"}).json()["type"] == "ordnung:name-taken"
    mara = Client()
    mara.force_login(User.objects.get(username="mara"))
    assert {row["name"]: row["rights"] for row in web.get(f"/{BASE}people").json()}["mara"] == ["look", "run"]
    assert send(web, "PATCH", "people/mara", {"rights": ["look"]}).status_code == 200
    assert send(mara, "POST", "runs/1/start").status_code == 403
    assert send(web, "PATCH", "people/mara", {"password": f"{GOOD}-2"}).status_code == 200
    assert mara.get(f"/{BASE}servers").status_code == 401, "a reset ends her sessions"
    assert send(web, "PATCH", "people/mara", {"active": False}).status_code == 200
    assert send(web, "PATCH", f"people/{person.username}", {"rights": ["look"]}).json()["type"] == "ordnung:last-keeper"
    assert Right.KEEP in rights_of(User.objects.get(username=person.username)), "nothing was changed"
    assert send(web, "PATCH", "people/nobody", {"active": True}).status_code == 404
    told = TrailEntry.objects.filter(command="change a person", result="done").last()
    assert told.on == {"person": "mara"} and (told.before["active"], told.after["active"]) == (True, False)
    assert GOOD not in "".join(str(e.asked) for e in TrailEntry.objects.all())


@pytest.mark.parametrize("password", ["short", "password1234", "123456789012", "mara-mara-mara"])
def test_weak_passwords_are_refused(web, password):
    answer = send(web, "POST", "people", {"name": "mara-mara-mara", "password": password, "rights": ["look"]})
    assert answer.json()["type"] == "ordnung:weak-password" and not User.objects.filter(username__startswith="mara")


def test_ones_own_password_and_sessions(web, person):
    elsewhere, other = Client(), Client()
    elsewhere.force_login(person)
    other.force_login(make_person("other"))
    rows = web.get(f"/{BASE}me/sessions").json()
    assert len(rows) == 2 and [row["own"] for row in rows].count(True) == 1
    keys = set(Session.objects.values_list("session_key", flat=True))
    assert not keys & {row["id"] for row in rows}, "what a cookie holds is not shown"
    away = next(row["id"] for row in rows if not row["own"])
    assert send(other, "DELETE", f"me/sessions/{away}").status_code == 404, "nobody ends another's"
    assert send(web, "DELETE", f"me/sessions/{away}").status_code == 204
    assert elsewhere.get(f"/{BASE}servers").status_code == 401
    elsewhere.force_login(person)
    wrong = {"old_password": "no", "new_password": GOOD}
    assert send(web, "POST", "me/password", wrong).json()["type"] == "ordnung:wrong-credentials"
    assert send(web, "POST", "me/password", {"old_password": "tide-table", "new_password": GOOD}).status_code == 204
    assert web.get(f"/{BASE}servers").status_code == 200 and elsewhere.get(f"/{BASE}servers").status_code == 401
    assert send(web, "DELETE", "people/other/sessions").status_code == 204
    assert other.get(f"/{BASE}servers").status_code == 401


def test_a_session_ends_when_it_is_idle_and_when_it_is_old(web, settings):
    assert web.get(f"/{BASE}servers").status_code == 200
    for limit in ("SESSION_IDLE", "SESSION_LONGEST"):
        fresh = Client()
        fresh.force_login(User.objects.get(username="technician"))
        fresh.get(f"/{BASE}servers")
        setattr(settings, limit, datetime.timedelta(seconds=-1))
        assert fresh.get(f"/{BASE}servers").status_code == 401, limit
        setattr(settings, limit, datetime.timedelta(hours=8))
    session = web.session
    session[SEEN] -= 3600
    session.save()
    assert web.get(f"/{BASE}servers").status_code == 200 and web.session[SEEN] > session[SEEN] + 3000


# Signing in


def sign_in(client: Client, name: str, password: str, **headers):
    return client.post(
        f"/{BASE}sign-in", json.dumps({"name": name, "password": password}), content_type="application/json", **headers
    )


def test_sign_ins_are_recorded_good_and_bad(person):
    client = Client()
    assert sign_in(client, "technician", "wrong").status_code == 401
    assert sign_in(client, "technician", "tide-table").json()["rights"] == list(Right)
    send(client, "POST", "sign-out")
    told = list(TrailEntry.objects.values_list("who", "command", "result"))
    assert told == [
        ("technician", "sign in", "refused"),
        ("technician", "sign in", "done"),
        ("technician", "sign out", "done"),
    ]


def test_tries_are_slowed_down_and_a_forged_forwarding_header_does_not_help(person):
    client = Client()
    for n in range(pace.FREE_OF_ADDRESS):
        assert sign_in(client, f"guess-{n}", "x", HTTP_X_FORWARDED_FOR=f"203.0.113.{n}").status_code == 401
    refused = sign_in(client, "technician", "tide-table", HTTP_X_FORWARDED_FOR="203.0.113.77")
    assert refused.status_code == 429 and "next may be made in" in refused.json()["detail"]
    cache.clear()
    assert sign_in(client, "technician", "tide-table").status_code == 200


def test_the_wait_grows_with_each_failure_and_nobody_is_shut_out_of_an_account_for_long():
    for n in range(40):
        pace.note_failure("lead", f"10.0.0.{n}", now=1000.0)
    assert 0 < pace.wait_for("lead", "10.9.9.9", now=1000.0) <= pace.LONGEST_OF_ACCOUNT
    for _ in range(30):
        pace.note_failure("x", "10.1.1.1", now=1000.0)
    assert pace.wait_for("y", "10.1.1.1", now=1000.0) == pace.LONGEST_OF_ADDRESS
    assert pace.wait_for("y", "10.1.1.1", now=1000.0 + pace.LONGEST_OF_ADDRESS) == 0
    pace.note_success("x", "10.1.1.1")
    assert pace.wait_for("y", "10.1.1.1", now=1000.0) == 0


def test_the_first_sign_in_is_made_by_a_command_that_asks(tmp_path, monkeypatch):
    secret = tmp_path / "secret"
    secret.write_text(f"{GOOD}\n")
    call_command("add_person", "mara", "--right", "look", "--password-file", str(secret))
    assert rights_of(User.objects.get(username="mara")) == {Right.LOOK}
    assert TrailEntry.objects.get().command == "add a person"
    for arguments, told in (
        (("mara", "--password-file", str(secret)), "There is a mara already"),
        (("jonas", "--password-file", str(tmp_path / "none")), "no password could be read"),
        (("jonas",), "no terminal"),
    ):
        with pytest.raises(CommandError, match=told):
            call_command("add_person", *arguments)
    secret.write_text("short\n")
    with pytest.raises(CommandError, match="too short"):
        call_command("add_person", "jonas", "--password-file", str(secret))


# Two people where it matters


def test_a_password_never_goes_to_an_address_that_one_person_put_in(web, settings):
    """Change the address to one's own listener, accept the pin, read: the password arrived."""
    from tests.server.test_api import add_server

    row = add_server("surge-03")
    row.pin, row.seen_pin = "ab" * 32, "cd" * 32
    row.set_password("kelp")
    row.save()
    assert send(web, "PATCH", "servers/surge-03", {"url": row.url}).status_code == 204
    row.refresh_from_db()
    assert row.endpoint().password == "kelp", "the same address again changes nothing"
    assert send(web, "PATCH", "servers/surge-03", {"url": "https://127.20.9.9:8443"}).status_code == 204
    row.refresh_from_db()
    assert (row.endpoint().password, row.endpoint().withheld[:24]) == ("", "its password was cleared")
    settings.TWO_PEOPLE = frozenset({"certificates"})
    refused = send(web, "POST", "servers/surge-03/trust", {"pin": "cd" * 32})
    assert refused.json()["type"] == "ordnung:second-person"
    approver = Client()
    approver.force_login(make_person("approver", Right.APPROVE))
    assert send(approver, "POST", "servers/surge-03/trust", {"pin": "cd" * 32}).status_code == 204
    told = TrailEntry.objects.filter(command="accept a certificate", result="done").get()
    assert told.before == {"surge-03": "ab" * 32} and told.after == {"surge-03": "cd" * 32}


def test_where_the_house_wants_it_who_drafted_a_run_does_not_start_it(web, settings):
    from ordnung.server.runs.models import Run

    run = Run.objects.create(
        name="r", drafted_at=datetime.datetime.now(datetime.UTC), drafted_by="technician", rules={}, follows=[]
    )
    settings.TWO_PEOPLE = frozenset({"runs"})
    assert send(web, "POST", f"runs/{run.pk}/start").json()["type"] == "ordnung:second-person"


def test_to_carry_in_is_one_thing_and_to_accept_keys_or_an_expired_seal_another():
    keeper, approver = Client(), Client()
    keeper.force_login(make_person("keeper", Right.KEEP))
    approver.force_login(make_person("approver", Right.APPROVE))
    for more in ({"trust": "ab" * 32}, {"expired_reason": "flood"}):
        refused = send(keeper, "POST", "arrivals", {"place": "/nowhere", **more})
        assert (refused.status_code, refused.json()["type"]) == (403, "ordnung:not-allowed"), more
        assert "approver can" in refused.json()["detail"]
    assert send(keeper, "POST", "arrivals", {"place": "/nowhere"}).status_code == 422
    assert send(keeper, "POST", "arrivals/1/again", {"trust": ""}).status_code == 403
    assert send(approver, "POST", "arrivals/1/again", {"trust": ""}).status_code == 404


# Event streams


@pytest.mark.django_db(transaction=True)
async def test_a_stream_ends_when_its_person_is_signed_out_or_may_look_no_longer(monkeypatch):
    from ordnung.server.api import site as views

    monkeypatch.setattr(views, "PING_S", 0.01)
    user = await sync_to_async(make_person)("viewer", Right.LOOK)
    client = AsyncClient()
    await client.aforce_login(user)
    answer = await client.get(f"/{BASE}events")
    parts = answer.streaming_content.__aiter__()
    for begins in (b"retry", b"event: begun", b": still here"):
        assert (await parts.__anext__()).startswith(begins)
    await sync_to_async(user.groups.clear)()
    assert len([part async for part in parts]) < 3
    await sync_to_async(give_rights)(user, [Right.LOOK])
    parts = (await client.get(f"/{BASE}events")).streaming_content.__aiter__()
    assert (await parts.__anext__()).startswith(b"retry") and (await parts.__anext__()).startswith(b"event: begun")
    (busy,) = views.HUB.queues
    busy.put_nowait(spell((1, "work", {})))
    assert b'"work"' in await parts.__anext__()
    await sync_to_async(user.groups.clear)()
    await asyncio.sleep(0.02)
    busy.put_nowait(spell((2, "work", {})))
    assert [part async for part in parts] == [], "also while there is much to tell"
    assert (await client.post(f"/{BASE}events")).status_code == 405


@pytest.mark.django_db(transaction=True)
async def test_a_gap_is_told_to_any_client(monkeypatch):
    from ordnung.server.work import hub

    monkeypatch.setattr(hub, "MOST_REPLAYED", 1)
    client = AsyncClient()
    await client.aforce_login(await sync_to_async(make_person)("viewer", Right.LOOK))
    first = await sync_to_async(tell)("work", id=1)
    for _ in range(3):
        last = await sync_to_async(tell)("work", id=1)
    answer = await client.get(f"/{BASE}events", headers={"last-event-id": str(first.pk)})
    parts = answer.streaming_content.__aiter__()
    await parts.__anext__()
    told = (await parts.__anext__()).decode()
    assert told == f'id: {last.pk}\nevent: gap\ndata: {{"missed": 3}}\n\n'
    await parts.aclose()
