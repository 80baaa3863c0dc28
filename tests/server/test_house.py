"""What the house decides once for all runs: its zone, limits, windows; and when those are open."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.away import AwayPlace
from ordnung.engine.entries import PlaceTaken, Remedy
from ordnung.engine.ports import NoPlaceError
from ordnung.engine.world import Choice, RemedyException
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Server
from ordnung.server.house.models import House
from ordnung.server.house.settings import house as settings_of_the_house
from ordnung.server.house.settings import remedy_exceptions
from ordnung.server.runs.derived import healing_places
from ordnung.server.runs.journal import DatabaseJournal, away_limits
from ordnung.server.runs.layout import house_limits
from ordnung.server.runs.models import Run, RunServer
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db
SETTINGS = {
    "zone": "Europe/Lisbon", "at_once": 3, "transfers": 2, "bytes_per_second": 12_500_000, "racks": {"K1": 2},
    "rooms": {}, "certainty": 0.95, "approval": True, "starter_apart": False, "reading_hours": 12,
}  # fmt: skip
THURSDAYS = {
    "name": "Thursdays", "first": "2026-11-26", "opens": "22:00", "closes": "04:00", "nights": 1,
    "rule": "FREQ=WEEKLY;BYDAY=TH",
}  # fmt: skip


@pytest.fixture
def house(web):
    return Person(web)


def test_the_settings_hold_for_the_engine_and_the_timetable_alike(house):
    usual = house.get("house")
    assert usual["at_once"] is None and usual["usual_at_once"] == away_limits().at_once == house_limits().at_once
    told = house.put("house", SETTINGS)
    assert {key: told[key] for key in SETTINGS} == SETTINGS
    assert away_limits().at_once == 3 and away_limits().racks == {"K1": 2}
    limits = house_limits()
    assert (limits.at_once, limits.transfers, limits.bytes_per_second, limits.racks) == (3, 2, 12_500_000, {"K1": 2})


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"zone": "Kelp/Lowmere"}, "zone"),
        ({"racks": {" ": 1}}, "racks"),
        ({"rooms": {"Kelp": -1}}, "rooms"),
        ({"certainty": 1.0}, "certainty"),
        ({"at_once": 0}, "at_once"),
        ({"remedy_exceptions": [{"remedy": "pray", "choice": "ask", "kind": "bios"}]}, "remedy_exceptions"),
        ({"remedy_exceptions": [{"remedy": "alone", "choice": "ask", "kind": "toaster"}]}, "remedy_exceptions"),
        ({"remedy_exceptions": [{"remedy": "alone", "choice": "ask", "model": " "}]}, "remedy_exceptions"),
    ],
)
def test_settings_that_make_no_sense_are_refused_at_their_field(house, change, field):
    status, problem = house.put("house", SETTINGS | change)
    assert status in (400, 422) and problem["field"] == field
    assert not House.objects.filter(zone="Kelp/Lowmere").exists()


def test_remedies_are_otherwise_for_a_model_or_a_kind(house):
    otherwise = [{"remedy": "put back", "choice": "never", "model": "Corvane Reed 14", "kind": "bios"}]
    told = house.put("house", SETTINGS | {"remedy_exceptions": otherwise})
    assert told["remedy_exceptions"] == otherwise == house.get("house")["remedy_exceptions"]
    assert remedy_exceptions(settings_of_the_house()) == (
        RemedyException(remedy=Remedy.PUT_BACK, choice=Choice.NEVER, model="Corvane Reed 14", kind="bios"),
    )
    told = house.put("house", SETTINGS)
    assert told["remedy_exceptions"] == []


def test_windows_are_kept_changed_and_given_out_as_openings(house):
    house.put("house", SETTINGS)
    made = house.post("windows", THURSDAYS)
    assert made["rule"] == "FREQ=WEEKLY;BYDAY=TH" and made["next"]["window"] == "Thursdays"
    assert house.post("windows", THURSDAYS)[1]["field"] == "name"
    span = "openings?since=2027-03-25T00:00:00Z&until=2027-04-03T00:00:00Z"
    # The clock is put on in the night to Sunday, 28 March 2027: the same wall clock, another instant.
    assert [o["start"] for o in house.get(span)] == ["2027-03-25T22:00:00Z", "2027-04-01T21:00:00Z"]
    path = f"windows/{made['id']}"
    assert house.put(path, THURSDAYS | {"rule": "FREQ=HOURLY"})[1]["field"] == "rule"
    changed = house.put(path, THURSDAYS | {"closes": "05:30", "without": ["2027-04-01"]})
    assert changed["closes"] == "05:30" and len(house.get(span)) == 1
    assert house.post("windows", THURSDAYS | {"name": "once", "rule": ""})["name"] == "once"
    assert house.put(path, THURSDAYS | {"name": "once"})[1]["field"] == "name"
    assert house.delete(path) is None and [w["name"] for w in house.get("windows")] == ["once"]


def test_openings_are_asked_for_a_span_that_can_be_drawn(house):
    assert house.get("openings?since=2027-01-01T00:00:00Z&until=2028-01-01T00:00:00Z")[1]["field"] == "until"
    assert house.get("openings?since=9999-12-30T00:00:00Z&until=9999-12-31T00:00:00Z")[1]["field"] == "until"
    assert house.get("openings?since=tonight&until=2028-01-01T00:00:00Z")[0] == 400
    assert house.get("openings")[0] == 400


def test_the_frame_tells_the_window_that_is_open_or_comes_next(house):
    assert house.get("site")["window"] is None
    at = now()
    opens = at - datetime.timedelta(hours=1)
    house.post(
        "windows", THURSDAYS | {"name": "far", "rule": "", "first": str((at + datetime.timedelta(days=40)).date())}
    )
    assert house.get("site")["window"]["window"] == "far"
    house.post("windows", THURSDAYS | {"rule": "FREQ=DAILY", "first": "2026-01-01"})
    assert house.get("site")["window"]["window"] == "Thursdays"
    wide = {"opens": f"{opens:%H:%M}", "closes": f"{opens:%H:%M}", "rule": "FREQ=DAILY", "first": "2026-01-01"}
    house.post("windows", THURSDAYS | wide | {"name": "now"})
    told = house.get("site")["window"]
    assert datetime.datetime.fromisoformat(told["start"]) <= at < datetime.datetime.fromisoformat(told["end"])


def test_one_that_is_back_counts_in_its_group_until_that_has_healed(house):
    fill(("surge-03", "surge-07"))
    group = Server.objects.get(name="surge-03").group
    Group.objects.filter(pk=group.pk).update(may_be_away=1)
    house.web.patch(f"/api/v1/groups/{group.name}", {"heal_seconds": 600}, content_type="application/json")
    run = Run.objects.create(name="r", drafted_at=now(), drafted_by="lead", state="running")
    for number, server in enumerate(Server.objects.order_by("name")):
        row = RunServer.objects.create(run=run, server=server, place=number, group=group.name)
        row.rounds = [{"writes": [], "reset": "server reboot", "reset_seconds": None, "activates": []}]
        row.save()
    ended = {"ended": "level", "since": now() - datetime.timedelta(seconds=300)}
    RunServer.objects.filter(server__name="surge-03").update(**ended)
    assert [p.server for p in healing_places()] == ["surge-03"]
    place = PlaceTaken(place=AwayPlace(server="surge-07", groups=(group.name,)))
    with pytest.raises(NoPlaceError, match=r"surge-03 \(healing\)") as refused:
        DatabaseJournal().append_now(str(run.pk), "surge-07", 1, place)
    assert not refused.value.refusal.kept and not refused.value.refusal.never
    RunServer.objects.filter(server__name="surge-03").update(since=now() - datetime.timedelta(seconds=601))
    assert healing_places() == []
    DatabaseJournal().append_now(str(run.pk), "surge-07", 1, place)
