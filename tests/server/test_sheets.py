"""A run sheet as a document: waves, windows, wishes, trials, approvals, copies, files; and that the engine obeys it."""

from __future__ import annotations

import dataclasses
import datetime
import json

import pytest
from django.test import Client

from ordnung.core.components import Component
from ordnung.core.facts import Facts
from ordnung.formats.sheet import check_sheet, parse_sheet
from ordnung.server.audit.heads import public_half, site_key
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Server
from ordnung.server.fleet.readings import store_reading
from ordnung.server.house.models import House
from ordnung.server.repositories.models import Repository
from ordnung.server.rights.rights import Right
from ordnung.server.runs.approvals import approved_writes
from ordnung.server.runs.models import KeptDuration, Run, RunServer
from tests.server.conftest import make_person
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db
RING = tuple(f"surge-{n:02}" for n in range(1, 9))
MIN, HOUR = datetime.timedelta(minutes=1), datetime.timedelta(hours=1)


@pytest.fixture
def house(web, catalogs):
    fill(RING)
    return Person(web)


@pytest.fixture
def approver(db):
    client = Client()
    client.force_login(make_person("approver", Right.LOOK, Right.APPROVE))
    return Person(client)


def patch(house, run, **change):
    answer = house.web.patch(f"/api/v1/runs/{run['id']}/sheet", json.dumps(change), content_type="application/json")
    body = answer.json()
    return body if answer.status_code < 400 else (answer.status_code, body)


def a_window(begin=HOUR, long=6 * HOUR):
    start = now() + begin
    return {"start": start.isoformat(), "end": (start + long).isoformat(), "name": ""}


def lanes(run):
    return {s["server"]: s["plan"] for s in run["servers"]}


def ends(run):
    return {server: plan[-1]["end"] for server, plan in lanes(run).items() if plan}


def test_waves_are_proposed_kept_in_order_and_changed(house):
    run = house.post("runs")
    assert run["waves"] == [] and run["sheet"] == 1
    waved = patch(house, run, propose_waves=True)
    names = [w["name"] for w in waved["waves"]]
    assert names[0] == "canary" and waved["waves"][0]["gate"] == "person" and waved["sheet"] == 2
    first = {s["server"] for s in waved["servers"] if s["wave"] == "canary"}
    others = {s["server"] for s in waved["servers"]} - first
    done = max(ends(waved)[s] for s in first)
    assert first and all(lanes(waved)[s][0]["start"] >= done + 1800 for s in others)
    moved = sorted(others)[0]
    waves = [{"name": "one", "servers": [moved]}, {"name": "two", "servers": [], "wait_seconds": 60}]
    changed = patch(house, run, waves=waves)
    assert [w["servers"] for w in changed["waves"]] == [1, len(run["servers"]) - 1]
    assert patch(house, run, waves=[])["waves"] == []
    assert [r["what"] for r in house.get(f"runs/{run['id']}/sheet/revisions")][:2] == ["waves", "waves"]


@pytest.mark.parametrize(
    ("change", "status"),
    [
        ({"waves": [{"name": "a", "servers": []}, {"name": "a", "servers": []}]}, 422),
        ({"waves": [{"name": "a", "servers": ["surge-01"]}, {"name": "b", "servers": ["surge-01"]}]}, 422),
        ({"waves": [{"name": "a", "servers": ["tide-99"]}]}, 404),
        ({"leave_out": ["tide-99"]}, 404),
        ({"windows": [{"start": "2020-01-01T00:00:00Z", "end": "2020-01-01T06:00:00Z"}]}, 422),
        ({"windows": [{"start": "2999-01-02T00:00:00Z", "end": "2999-01-01T00:00:00Z"}]}, 422),
        ({"certainty": 0.1}, 400),
        ({"windows": [{"start": "2026-12-01T00:00:00Z", "end": "9999-12-31T23:59:59Z"}]}, 422),
        ({"wishes": [{"server": "surge-03", "not_before": "9999-12-31T23:59:59Z"}]}, 422),
        ({"wishes": [{"server": "surge-03", "not_before": "0001-01-01T00:00:00+14:00"}]}, 400),
        ({"surprise": 1}, 400),
    ],
)
def test_what_can_not_be_is_refused_and_nothing_is_lost(house, change, status):
    run = house.post("runs", {"servers": list(RING)})
    assert patch(house, run, **change)[0] == status
    assert patch(house, run, leave_out=[s["server"] for s in run["servers"]])[0] == 422
    after = house.get(f"runs/{run['id']}")
    assert (after["sheet"], after["waves"], after["windows"], len(after["servers"])) == (1, [], [], len(run["servers"]))


def test_what_does_not_fit_into_the_window_is_left_over_with_what_it_needs(house):
    run = patch(house, house.post("runs"), windows=[a_window(long=16 * MIN)])
    assert run["certainty"] == 0.9 and run["lanes_from"] == run["windows"][0]["start"]
    left = [s for s in run["servers"] if not s["plan"]]
    assert left and all(s["detail"].startswith("Left over: ") for s in left)
    assert all(end <= 16 * 60 for end in ends(run).values())
    told = house.get(f"runs/{run['id']}/forecast")
    assert all(s["in_time"] >= 0.9 for s in told["servers"])
    tried = house.post(f"runs/{run['id']}/sheet/try")
    assert {o["server"] for o in tried["left"]} >= {s["server"] for s in left if "back in time" not in s["detail"]}
    wide = patch(house, run, windows=[a_window(long=9 * HOUR)])
    assert all(s["plan"] for s in wide["servers"]) and not any(s["detail"].startswith("Left") for s in wide["servers"])
    free = patch(house, run, windows=[])
    assert free["certainty"] is None and free["lanes_from"] is None


def test_what_waits_for_a_reset_may_be_written_before_the_window(house, approver):
    run = patch(house, house.post("runs"), windows=[a_window(begin=2 * HOUR)])
    assert run["ahead"] == "nothing" and not any(span["ahead"] for plan in lanes(run).values() for span in plan)
    ahead = patch(house, run, ahead="writing")
    assert ahead["sheet"] == run["sheet"] + 1 and ahead["sha256"] != run["sha256"], "it is part of what is approved"
    early = {name: [s for s in plan if s["ahead"]] for name, plan in lanes(ahead).items()}
    assert any(early.values()) and all(s["kind"] in ("staging", "writing") for plan in early.values() for s in plan)
    opens = (datetime.datetime.fromisoformat(ahead["windows"][0]["start"]) - _instant(ahead["lanes_from"])).seconds
    assert all(s["end"] <= opens + 1 for plan in early.values() for s in plan)
    assert all(s["start"] >= opens - 1 for plan in lanes(ahead).values() for s in plan if not s["ahead"])
    assert patch(house, ahead, ahead="everything")[0] == 400
    file = parse_sheet(house.web.get(f"/api/v1/exports/sheets/{run['id']}.json").content)
    assert file.sheet.limits.ahead == "writing"
    again = house.post(f"runs/{run['id']}/sheet/copy")
    assert again["ahead"] == "writing"


def _instant(text):
    return datetime.datetime.fromisoformat(text)


def test_a_sheet_is_made_for_the_next_opening_of_a_window_for_a_group_or_for_what_is_exposed(house):
    window = {
        "name": "nightly",
        "first": "2026-01-01",
        "opens": "22:00",
        "closes": "04:00",
        "rule": "FREQ=DAILY",
        "nights": 1,
    }
    house.post("windows", window)
    run = house.post("runs", {"window": "nightly", "group": Server.objects.get(name="surge-03").group.name})
    assert run["windows"][0]["name"] == "nightly" and run["certainty"] == 0.9
    assert {s["server"] for s in run["servers"]} <= set(RING)
    exposed = house.post("runs", {"exposed": True})
    assert {s["server"] for s in exposed["servers"]} <= {s["server"] for s in run["servers"]}
    assert house.post("runs", {"window": "never"})[0] == 404
    assert house.post("runs", {"group": "nobody"})[0] == 422


def test_a_trial_tells_the_end_and_the_rule_and_changes_nothing(house):
    Group.objects.update(may_be_away=1)
    run = house.post("runs")
    path = f"runs/{run['id']}/sheet/try"
    stands = house.post(path)
    assert stands["refused"] == "" and abs(stands["sooner_seconds"]) < 1 and stands["left"] == []
    assert stands["end"] < stands["sure_end"] < house.post(path, {"at_once": 1})["sure_end"]
    group = next(iter(stands["groups"]))
    assert house.post(path, {"more_away": {group: 2}})["sooner_seconds"] > 0
    assert house.post(path, {"at_once": 1})["sooner_seconds"] <= 0
    later = house.post(path, {"start": (now() + 2 * HOUR).isoformat()})
    assert -7300 < later["sooner_seconds"] < -7100
    first, second = (s["server"] for s in run["servers"][:2])
    at = (now() + HOUR).isoformat()
    both = [{"server": name, "not_before": at, "pinned": True} for name in (first, second)]
    refused = house.post(path, {"wishes": both})
    assert f"group {group} allows 1 away" in refused["refused"]
    assert patch(house, run, wishes=both)[0] == 409
    assert house.post(path, {"leave_out": [first]})["sooner_seconds"] > 0
    assert house.post(path, {"more_away": {"nobody": 1}})[0] == 422
    assert house.post(path, {"start": "9999-12-31T23:59:59Z"})[0] == 422
    assert house.get(f"runs/{run['id']}")["sheet"] == 1


def post_window(house, opens, closes):
    """A window of every day from one moment's time of day to another's, in a zone without summer time."""
    first = (opens - 2 * 24 * HOUR).date().isoformat()
    nights = (closes.date() - opens.date()).days
    told = {"name": "daily", "first": first, "rule": "FREQ=DAILY", "nights": nights}
    house.post("windows", {**told, "opens": f"{opens:%H:%M}", "closes": f"{closes:%H:%M}"})


def test_a_window_in_which_nobody_fits_any_more_gives_way_to_its_next_opening(house):
    """A sheet for "Thursday night", asked for two minutes before it closes, is for next Thursday."""
    at = now().astimezone(datetime.UTC)
    closes = at + datetime.timedelta(minutes=2)
    post_window(house, closes - 5 * HOUR, closes)
    run = house.post("runs", {"window": "daily"})
    (found,) = run["windows"]
    assert datetime.datetime.fromisoformat(found["start"]) > at + 18 * HOUR
    assert any(s["plan"] for s in run["servers"])
    assert house.post(f"runs/{run['id']}/sheet/copy")["windows"] == run["windows"]


def test_a_window_too_short_for_anybody_is_not_put_off_to_its_next_opening(house):
    opens = now().astimezone(datetime.UTC) + HOUR
    post_window(house, opens, opens + datetime.timedelta(minutes=1))
    run = house.post("runs", {"window": "daily"})
    assert datetime.datetime.fromisoformat(run["windows"][0]["start"]) < opens + HOUR
    assert not any(s["plan"] for s in run["servers"])


def test_before_a_start_it_is_told_what_can_be_taken_back_afterwards(house):
    """N7.1: to which version the floors on the way let each component go back, whether it is packed, what it takes."""
    run = house.post("runs", {"servers": ["surge-07"]})
    told = {row["slot"]: row for row in house.get(f"runs/{run['id']}/servers/surge-07/ways-back")}
    assert set(told) == {w["slot"] for r in run["servers"][0]["rounds"] for w in r["writes"]}
    bios = told["bios"]
    assert (bios["before"], bios["to"]) == ("2.1.0", "2.4.1"), "3.2.0 takes nothing below 2.4.1"
    assert bios["outage"] and bios["seconds"] > 300 and bios["resets"] and not bios["stored"] and bios["barred"] == ""
    raid = told["raid-1"]
    assert raid["to"] == raid["before"] == "7.16.1"
    assert house.get(f"runs/{run['id']}/servers/tide-99/ways-back")[0] == 404


def test_the_chances_of_hundreds_are_told_when_they_are_asked_for(house, monkeypatch):
    """A drag does not wait for them."""
    monkeypatch.setattr("ordnung.server.runs.trial.MANY", 3)
    run = house.post("runs")
    path = f"runs/{run['id']}/sheet/try"
    quick, surely = house.post(path), house.post(path, {"surely": True})
    assert quick["sure_end"] is None and surely["sure_end"] > surely["end"]
    assert quick["planned_seconds"] == surely["planned_seconds"]


def test_a_server_is_put_later_and_the_wish_taken_back(house):
    run = house.post("runs")
    name = run["servers"][0]["server"]
    at = now() + 3 * HOUR
    wished = patch(house, run, wishes=[{"server": name, "not_before": at.isoformat(), "pinned": True}])
    lane = next(s for s in wished["servers"] if s["server"] == name)
    assert lane["pinned"] and 10_700 < lane["plan"][0]["start"] < 10_900
    back = patch(house, run, wishes=[{"server": name}])
    assert next(s for s in back["servers"] if s["server"] == name)["not_before"] is None


def test_a_sheet_is_approved_by_another_person_and_any_change_but_leaving_out_asks_again(house, approver, settings):
    House.objects.create(pk=1, approval=True)
    run = house.post("runs")
    path = f"runs/{run['id']}"
    assert run["wants_approval"] and run["approvals"] == []
    assert house.post(f"{path}/sheet/approval", {"sha256": run["sha256"]})[0] == 403
    assert approver.post(f"{path}/sheet/approval", {"sha256": "0" * 64})[0] == 409
    assert approver.delete(f"{path}/sheet/approval")[0] == 404
    approved = approver.post(f"{path}/sheet/approval", {"sha256": run["sha256"]})
    assert [(a["by"], a["holds"]) for a in approved["approvals"]] == [("approver", True)]
    assert approver.post(f"{path}/sheet/approval", {"sha256": run["sha256"]})[0] == 409
    fewer = patch(house, run, leave_out=[run["servers"][-1]["server"]])
    assert fewer["approvals"][0]["holds"] and fewer["sheet"] == 2
    assert fewer["name"] == f"{len(run['servers']) - 1} servers to the baseline"
    file = parse_sheet(house.web.get(f"/api/v1/exports/sheets/{run['id']}.json").content)
    assert check_sheet(file, public_half(site_key())) == () and file.approvals[0].sheet is not None
    changed = patch(house, run, windows=[a_window()])
    assert (changed["approvals"][0]["holds"], changed["approvals"][0]["since"]) == (False, "window, certainty")
    file = parse_sheet(house.web.get(f"/api/v1/exports/sheets/{run['id']}.json").content)
    assert "more was changed" in check_sheet(file, public_half(site_key()))[0]
    Group.objects.update(may_be_away=2)
    assert patch(house, run, windows=[])["approvals"][0]["since"] == "groups"
    Group.objects.update(may_be_away=4)
    assert house.get(path)["approvals"][0]["holds"]
    taken = approver.delete(f"{path}/sheet/approval")
    assert taken["approvals"] == []


def test_what_the_house_wants_approved_starts_only_then_and_by_whom_it_wants(house, approver, monkeypatch):
    monkeypatch.setattr("ordnung.server.runs.commands.what_is_missing", lambda run: [])
    House.objects.create(pk=1, approval=True, starter_apart=True)
    run = house.post("runs")
    path = f"runs/{run['id']}"
    status, problem = house.post(f"{path}/start")
    assert status == 409 and "has to be approved by somebody else than technician" in problem["detail"]
    approver.post(f"{path}/sheet/approval", {"sha256": run["sha256"]})
    patch(house, run, name="another name")
    assert house.get(path)["approvals"][0]["holds"]
    patch(house, run, waves=[{"name": "all", "servers": []}])
    assert "changed since: waves" in house.post(f"{path}/start")[1]["detail"]
    patch(house, run, waves=[])
    assert house.post(f"{path}/start")[1]["type"] == "ordnung:second-person"
    third = Client()
    third.force_login(make_person("starter", Right.LOOK, Right.RUN))
    started = Person(third).post(f"{path}/start")
    assert started["state"] == "running" and started["approvals"][0]["holds"]
    assert approver.delete(f"{path}/sheet/approval")[0] == 409
    assert approver.post(f"{path}/sheet/approval", {"sha256": run["sha256"]})[0] == 409
    place = RunServer.objects.filter(run=run["id"]).first()
    assert {slot for slot, _ in approved_writes(place)} == {w["slot"] for r in place.rounds for w in write_rows(r)}
    assert patch(house, run, waves=[])[0] == 409


def write_rows(step):
    return [planned["write"] for planned in step["writes"]]


def test_a_sheet_is_copied_compared_and_given_out_as_a_table(house):
    window = {
        "name": "nightly",
        "first": "2026-01-01",
        "opens": "22:00",
        "closes": "04:00",
        "rule": "FREQ=DAILY",
        "nights": 1,
    }
    house.post("windows", window)
    run = patch(house, house.post("runs", {"window": "nightly"}), propose_waves=True)
    copy = house.post(f"runs/{run['id']}/sheet/copy")
    assert copy["id"] != run["id"] and [w["name"] for w in copy["waves"]] == [w["name"] for w in run["waves"]]
    waves = {s["server"]: s["wave"] for s in run["servers"]}
    assert {s["server"]: s["wave"] for s in copy["servers"]} == waves and copy["windows"] == run["windows"]
    path = f"runs/{copy['id']}/sheet/compare/{run['id']}"
    assert house.get(path) == []
    gone = copy["servers"][0]["server"]
    patch(house, copy, leave_out=[gone], hold=[copy["servers"][1]["server"]])
    told = {(d["server"], d["what"]): d["after"] for d in house.get(path)}
    assert told[gone, "server"] == "not on it" and "when a person lets it" in told.values()
    table = house.web.get(f"/api/v1/exports/sheets/{run['id']}.csv").content.decode()
    assert table.splitlines()[0].lstrip("\ufeff").startswith("wave,server,group")
    assert "T22:0" in table or "server reboot" in table
    plain = house.web.get(f"/api/v1/exports/sheets/{house.post('runs')['id']}.csv").content.decode()
    assert ",writing," in plain


def test_who_was_read_otherwise_since_is_planned_again_and_what_that_moves_is_said(house):
    run = house.post("runs")
    path = f"runs/{run['id']}"
    assert run["stale"] == [] and house.post(f"{path}/sheet/plan-again")[0] == 409
    first, second = (s["server"] for s in run["servers"][:2])
    slot = run["servers"][0]["rounds"][0]["writes"][0]["slot"]
    read_anew(first, slot, "0.0.1")
    level(second)
    stale = {row["server"]: row["why"] for row in house.get(path)["stale"]}
    assert slot in stale[first] and stale[second] == "it needs nothing any more"
    told = house.post(f"{path}/sheet/plan-again")
    assert told["moved"].startswith("2 planned again, 1 need nothing any more; ")
    assert told["run"]["stale"] == [] and second not in lanes(told["run"]) and told["run"]["sheet"] == 2
    for server in lanes(told["run"]):
        level(server)
    assert house.post(f"{path}/sheet/plan-again")[1]["type"] == "ordnung:nothing-to-do"
    Server.objects.filter(name=first).update(latest=None)


def read_anew(name, slot, version):
    value = standing(name)
    parts = tuple(dataclasses.replace(c, version=version) if c.slot == slot else c for c in value.components)
    store_reading(dataclasses.replace(value, components=parts, read_at=now()), "ab" * 32)


def level(name):
    value = dataclasses.replace(
        standing(name), read_at=now(), components=(Component(slot="x", kind="nic", name="x", version="1"),)
    )
    store_reading(value, "ab" * 32)


def standing(name):
    from ordnung.server.assessment.current import current_assessment

    return current_assessment().standings[name].server


# The engine asks


def test_what_was_kept_of_past_runs_sharpens_the_forecast(house):
    run = house.post("runs")
    path = f"runs/{run['id']}/forecast"
    before = house.get(path)
    assert before["kept"] == 0 and before["steps"] > 0
    write = run["servers"][0]["rounds"][0]["writes"][0]
    model = standing(run["servers"][0]["server"]).model
    KeptDuration.objects.bulk_create(
        KeptDuration(
            server="x", seq=n, at=now(), model=model, kind="writing", product=write["product"], version=write["to"],
            seconds=4000 + n,
        )
        for n in range(8)
    )  # fmt: skip
    after = house.get(path)
    assert after["kept"] >= 1 and after["end"]["p50"] > before["end"]["p50"] + 3000


def test_the_checks_stand_in_one_list_with_servers_and_remedies(house):
    run = house.post("runs")
    first, second = (s["server"] for s in run["servers"][:2])
    value = standing(first)
    facts = dataclasses.replace(value.facts or Facts(), power="Off", rebuilding=("V1",))
    store_reading(dataclasses.replace(value, facts=facts, read_at=now()), "ab" * 32)
    old = dataclasses.replace(standing(second), read_at=now() - datetime.timedelta(days=3))
    store_reading(old, "ab" * 32)
    write = next(s for s in run["servers"] if s["server"] == first)["rounds"][0]["writes"][0]
    KeptDuration.objects.create(
        server="x", seq=1, at=now(), model=value.model, kind="writing", product=write["product"], version=write["to"],
        seconds=10, failed=True,
    )  # fmt: skip
    rows = house.get(f"runs/{run['id']}/sheet/checks")
    assert [r["severity"] for r in rows] == sorted((r["severity"] for r in rows), key=["block", "warn", "note"].index)
    told = {r["check"]: r for r in rows}
    assert [s["server"] for s in told["power"]["servers"]] == [first] and told["power"]["remedy"].startswith("Turn the")
    assert {s["server"] for s in told["payload"]["servers"]} == {s["server"] for s in run["servers"]}
    assert first in [s["server"] for s in told["failed before"]["servers"]] and "failed 1 times" in str(rows)
    assert second in [s["server"] for s in told["reading"]["servers"]]
    assert "not packed for the way back" in str(told["way back"]) and told["array"]["overridable"] is False


def test_a_sheet_whose_window_is_over_does_not_start(house, monkeypatch):
    monkeypatch.setattr("ordnung.server.runs.commands.what_is_missing", lambda run: [])
    run = patch(house, house.post("runs"), windows=[a_window()])
    over = {"start": (now() - 9 * HOUR).isoformat(), "end": (now() - HOUR).isoformat(), "name": ""}
    Run.objects.filter(pk=run["id"]).update(windows=[over])
    status, problem = house.post(f"runs/{run['id']}/start")
    assert status == 409 and problem["type"] == "ordnung:window-over"


def test_a_run_from_a_repository_whose_seal_has_ended_does_not_start(house, monkeypatch):
    monkeypatch.setattr("ordnung.server.runs.commands.what_is_missing", lambda run: [])
    run = house.post("runs")
    ended = Repository.objects.create(name="r", expires=now() - HOUR, made_at=now(), made_by="lead")
    Run.objects.filter(pk=run["id"]).update(repository=ended, source="r, edition 1")
    status, problem = house.post(f"runs/{run['id']}/start")
    assert status == 409 and problem["type"] == "ordnung:seal-ended"
    assert house.get(f"runs/{run['id']}/sheet/checks")[0]["severity"] == "block"
