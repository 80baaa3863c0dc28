"""The audit trail of a site: in the same transaction as what it tells, complete, without secrets, and never changed."""

from __future__ import annotations

import json

import pytest
from django.conf import settings as site
from django.db import IntegrityError, connection, transaction
from django.test import Client

from ordnung.formats.audit import check_trail, parse_trail
from ordnung.server.audit import recording
from ordnung.server.audit.heads import sign_daily, sign_head, site_key
from ordnung.server.audit.models import TrailEntry, TrailHead
from ordnung.server.audit.trail import MOST_ITEMS, append, tidy
from ordnung.server.fleet.models import Group, Server
from tests.server.conftest import make_person
from tests.server.test_api import add_server
from tests.server.test_rights import send

pytestmark = pytest.mark.django_db
V1 = "/api/v1"


def test_a_command_stands_on_the_trail_with_who_what_from_where_and_both_sides(web):
    add_server("surge-03")
    assert send(web, "PATCH", "servers/surge-03", {"role": "ensemble", "rack": "K1"}).status_code == 204
    entry = TrailEntry.objects.get().entry()
    assert (entry.who, entry.where, entry.command, entry.result) == (
        "technician",
        "127.0.0.1",
        "change a server",
        "done",
    )
    assert (
        entry.on == {"server": "surge-03"} and entry.after["role"] == "ensemble" and entry.before["role"] != "ensemble"
    )


def test_what_could_not_be_recorded_does_not_happen(web, monkeypatch):
    def broken(**_):
        raise OSError("no room")

    monkeypatch.setattr(recording, "append", broken)
    with pytest.raises(OSError, match="no room"):
        send(web, "POST", "groups", {"name": "pair 9", "may_be_away": 1})
    assert not Group.objects.filter(name="pair 9").exists()


def test_an_error_of_ours_is_on_the_trail_and_what_it_had_begun_is_not(web, monkeypatch):
    from ordnung.server.api import away as away_views

    def breaks(*_, **__):
        raise ZeroDivisionError

    monkeypatch.setattr(away_views, "group_rows", breaks)
    with pytest.raises(ZeroDivisionError):
        send(web, "POST", "groups", {"name": "pair 9", "may_be_away": 1})
    assert not Group.objects.exists()
    assert TrailEntry.objects.get().result == "failed"


def test_a_refusal_takes_back_what_was_done_before_it(web):
    add_server("surge-03")
    answer = send(web, "POST", "trust", {"accept": [{"server": "surge-03", "pin": "cd" * 32}]})
    assert answer.status_code == 422 and TrailEntry.objects.get().result == "refused"
    assert Server.objects.get().pin == "ab" * 32


@pytest.mark.parametrize("what", ["UPDATE audit_trailentry SET who = 'x'", "UPDATE audit_trailhead SET why = 'x'"])
def test_the_database_itself_refuses_to_change_what_stands_there(what):
    append(who="a", where="", command="c", on={})
    sign_head("now")
    with pytest.raises(IntegrityError, match="only added to"), transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(what)


def test_the_guards_against_deleting_are_in_the_migration():
    from importlib import import_module

    guards = import_module("ordnung.server.audit.migrations.0001_initial").GUARDS
    append(who="a", where="", command="c", on={})
    with connection.cursor() as cursor:
        for guard in guards:
            if "DELETE" in guard:
                cursor.execute(guard)
        try:
            with pytest.raises(IntegrityError, match="only added to"), transaction.atomic():
                TrailEntry.objects.all().delete()
        finally:
            for table in ("trailentry", "trailhead"):
                cursor.execute(f"DROP TRIGGER audit_{table}_stays_delete")


def test_secrets_never_stand_there_and_long_things_are_cut_and_said_to_be(web):
    add_server("surge-03")
    body = {"user": "ordnung", "password": "CANARY-7719"}
    assert send(web, "POST", "servers/surge-03/credentials", body).status_code == 204
    text = json.dumps(list(TrailEntry.objects.values()), default=str)
    assert "CANARY-7719" not in text and TrailEntry.objects.get().asked["password"] == "given"
    assert tidy(list(range(100)))[-1] == f"and {100 - MOST_ITEMS} more"
    assert tidy("x" * 999).endswith("(999 characters)") and tidy("a\x1b[2Jb") == "a\ufffd[2Jb"
    deep = {"a": {"b": {"c": {"d": {"e": {"f": 1}}}}}}
    assert "…" in json.dumps(tidy(deep), ensure_ascii=False)


def test_it_is_looked_through_by_person_server_run_and_time(web):
    for number in range(3):
        append(
            who=f"p{number}", where="", command="start a run", on={"run": number, "servers": ["surge-1", "surge-11"]}
        )
    append(who="p0", where="", command="sign in", on={}, result="refused")

    def found(**asked):
        answer = web.get(f"{V1}/audit", asked)
        assert answer.status_code == 200, answer.content
        return [entry["number"] for entry in answer.json()["entries"]]

    assert found() == [4, 3, 2, 1] and found(limit=2) == [4, 3] and found(before=3) == [2, 1]
    assert found(who="p0") == [4, 1] and found(run=2) == [3] and found(result="refused") == [4]
    assert found(server="surge-1") == [3, 2, 1] and found(server="surge-2") == [] and found(command="sign in") == [4]
    assert found(since="2999-01-01T00:00:00Z") == [] and found(until="2999-01-01T00:00:00Z") == [4, 3, 2, 1]
    assert web.get(f"{V1}/audit", {"since": "²"}).status_code == 422
    told = web.get(f"{V1}/audit", {"who": "p0", "limit": 1}).json()
    assert (told["total"], told["people"], told["commands"]) == (2, ["p0", "p1", "p2"], ["sign in", "start a run"])


def test_heads_are_signed_daily_and_on_demand_and_given_out(web, tmp_path, settings):
    settings.HOME = tmp_path
    assert sign_daily() is None, "nothing stands there yet"
    append(who="a", where="", command="c", on={})
    assert sign_daily() is not None and sign_daily() is None and sign_head("again") is None
    asked = send(web, "POST", "audit/heads")
    assert asked.status_code == 201 and asked.json()["number"] == TrailEntry.objects.count() == 2
    assert (tmp_path / "audit.key").stat().st_mode & 0o777 == 0o600
    given = sorted((tmp_path / "audit").iterdir())
    assert [json.loads(path.read_text())["number"] for path in given] == [1, 2]
    assert web.get(f"{V1}/audit/check").json() == {"entries": 2, "heads": 2, "faults": []}


def test_what_is_taken_along_can_be_checked_elsewhere_and_what_was_changed_is_found(web, tmp_path, settings):
    settings.HOME = tmp_path
    for number in range(3):
        append(who="=cmd()", where="", command="start a run", on={"run": number})
    sign_head("now")
    raw = web.get(f"{V1}/exports/audit.json").content
    trail = parse_trail(raw)
    assert check_trail(trail) == () and trail.site == site.SITE and len(trail.entries) == 3
    assert check_trail(parse_trail(raw.replace(b'"run": 1', b'"run": 7')))
    table = web.get(f"{V1}/exports/audit.csv", {"run": 1}).content.decode().splitlines()
    assert len(table) == 2 and "'=cmd()" in table[1]
    assert site_key() is not None and TrailHead.objects.count() == 1


def test_the_end_of_a_run_is_told_and_signed(tmp_path, settings):
    import datetime

    from ordnung.server.jobs import _close
    from ordnung.server.runs.models import Run, RunServer

    settings.HOME = tmp_path
    row = add_server("surge-03")
    run = Run.objects.create(
        name="r", drafted_at=datetime.datetime.now(datetime.UTC), drafted_by="x", rules={}, follows=[]
    )
    RunServer.objects.create(run=run, server=row, place=0, rounds=[], stranded=[], lane=[], ended="level")
    _close(run)
    entry = TrailEntry.objects.get()
    assert (entry.who, entry.command, entry.after) == ("Ordnung", "end a run", {"level": 1})
    assert TrailHead.objects.get().why == f"run {run.pk} ended"


def test_from_where_is_told_as_far_as_declared_proxies_vouch_for_it(web, settings):
    headers = {"HTTP_X_FORWARDED_FOR": "203.0.113.9, 198.51.100.4, 192.0.2.1"}
    client = Client()
    client.force_login(make_person("viewer", "look"))
    seen = []
    for proxies in (0, 1, 2):
        settings.PROXIES = proxies
        client.post(f"{V1}/surveys", {}, **headers)
        seen.append(TrailEntry.objects.order_by("-number").first().where)
    assert seen == ["127.0.0.1", "192.0.2.1", "198.51.100.4"]


def test_an_entry_that_was_forgotten_is_entered_late_and_told_in_the_log(web, monkeypatch):
    import contextlib

    from ordnung.server.api import baselines as views

    told = []
    monkeypatch.setattr(recording, "tell_late", told.append)
    monkeypatch.setattr(views, "recorded", contextlib.nullcontext)
    draft = {"rules": {"format": "ordnung.rules/1", "rules": []}, "follows": [], "basis": 1}
    answer = send(web, "PUT", "baseline/draft", draft)
    assert answer.status_code == 204, answer.content
    assert told == ["draft a baseline"] and "after it was done" in TrailEntry.objects.get().detail
