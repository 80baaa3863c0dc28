"""What a run sheet tells beforehand: chances, what holds the end, costs, and who has no place."""

from __future__ import annotations

import datetime

import pytest

from ordnung.server.assessment import current
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Server
from ordnung.server.runs import outlook
from ordnung.server.runs.models import AwayLease, Run, RunServer
from tests.server.test_api import NOW, add_server, post

pytestmark = pytest.mark.django_db


@pytest.fixture(autouse=True)
def fresh_house():
    current.forget()


def test_a_draft_tells_what_is_to_be_expected_and_a_run_under_way_goes_by_what_has_happened(web, catalogs):
    add_server()
    run = post(web, "runs", {}).json()
    assert run["proven"] is True and run["servers"][0]["plan"][0]["kind"] == "staging"
    path = f"/api/v1/runs/{run['id']}/forecast"
    told = web.get(path).json()
    assert told["end"]["p50"] <= told["end"]["p90"] <= told["end"]["p99"]
    assert [s["server"] for s in told["servers"]] == ["surge-03"] and told["delay"] is None
    assert told["costs"]["updates"] == run["updates"] and told["costs"]["outages"] == run["outages"]
    Run.objects.update(state="running", started_at=now() - datetime.timedelta(hours=9))
    later = web.get(path).json()
    assert later["end"]["p50"] > 9 * 3600 > told["end"]["p99"]
    RunServer.objects.update(ended="failed")
    outlook.forget()  # it is as it was some seconds ago
    assert web.get(path).json()["servers"] == []


def test_who_has_no_place_because_a_partner_was_left_away_is_said_on_the_sheet(web, catalogs):
    add_server()
    other = add_server("surge-04")
    group = Group.objects.create(name="pair", may_be_away=1)
    Server.objects.update(group=group)
    earlier = Run.objects.create(name="earlier", drafted_at=NOW, drafted_by="lead")
    AwayLease.objects.create(server=other, run=earlier, groups=["pair"], outage=True, kept=True, since=NOW)
    run = post(web, "runs", {"servers": ["surge-03"]}).json()
    (lane,) = run["servers"]
    assert lane["plan"] == [] and lane["detail"] == "Left over: group pair allows 1 away: surge-04 is left away."
    told = web.get(f"/api/v1/runs/{run['id']}/forecast").json()
    assert told["servers"] == [] and told["end"]["p99"] == 0


def test_one_place_more_of_what_holds_the_end_is_worked_out(web, catalogs):
    for name in ("surge-03", "surge-04", "surge-05"):
        add_server(name)
    Server.objects.update(group=Group.objects.create(name="pair", may_be_away=1))
    run = post(web, "runs", {}).json()
    delay = web.get(f"/api/v1/runs/{run['id']}/forecast").json()["delay"]
    assert delay["limit"] == "group pair" and delay["with_more_seconds"] > 60 and delay["server_minutes"] > 0
