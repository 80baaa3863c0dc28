"""That the engine begins and resets only what a sheet lets it: waves, gates, times, windows."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.away import AwayPlace
from ordnung.core.turn import may_turn
from ordnung.engine.entries import AheadDone, PlaceTaken
from ordnung.engine.ports import NoPlaceError
from ordnung.server.clock import now
from ordnung.server.runs.derived import taken_places
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.turns import Turns, turns_of, window_bars_reset
from tests.server.houses import Person, fill
from tests.server.test_sheets import HOUR, MIN, RING, a_window, patch

pytestmark = pytest.mark.django_db


@pytest.fixture
def house(web, catalogs):
    fill(RING)
    return Person(web)


def started(house, **change):
    run = house.post("runs")
    run = patch(house, run, **change) if change else run
    Run.objects.filter(pk=run["id"]).update(state="running", started_at=now())
    return run, Run.objects.get(pk=run["id"])


def begin(run, server):
    """Try to take its place, as the engine does; why not, or None."""
    place = PlaceTaken(place=AwayPlace(server=server))
    try:
        DatabaseJournal().append_now(str(run.pk), server, 1, place)
    except NoPlaceError as error:
        return error.refusal
    return None


def test_the_engine_waits_for_the_wave_its_gate_and_a_person(house):
    run, row = started(house, propose_waves=True)
    first = [s["server"] for s in run["servers"] if s["wave"] == "canary"]
    other = next(s["server"] for s in run["servers"] if s["wave"] != "canary")
    assert begin(row, other).limit == "wave" and begin(row, first[0]) is None
    at = now() - 31 * MIN
    RunServer.objects.filter(run=row, server__name__in=first).update(ended="level", since=at)
    assert begin(row, other).limit == "gate"
    told = house.get(f"runs/{row.pk}")["waves"][0]
    assert told["asks"] and told["ended"] == len(first) and told["opened_by"] == ""
    assert house.post(f"runs/{row.pk}/waves/nobody/open")[0] == 404
    opened = house.post(f"runs/{row.pk}/waves/canary/open")["waves"][0]
    assert not opened["asks"] and opened["opened_by"] == "technician"
    assert begin(row, other) is None
    # Who has its place is asked nothing more, whatever the waves say.
    RunServer.objects.filter(run=row, server__name__in=first).update(ended="")
    assert Turns().of(row.pk, other).before == () and turns_of(row)[other].before != ()
    Run.objects.update(state="ended")
    assert house.post(f"runs/{row.pk}/waves/canary/open")[0] == 409


def test_the_engine_begins_nothing_that_the_window_has_no_room_for_and_resets_nothing_outside(house):
    run, row = started(house, windows=[a_window(begin=-HOUR, long=9 * HOUR)])
    name = run["servers"][0]["server"]
    place = RunServer.objects.get(run=row, server__name=name)
    assert place.needs_seconds > sum(s["end"] - s["start"] for s in place.lane) * 0.9
    assert window_bars_reset(row.pk) == ""
    ends_soon = now() + 10 * MIN
    row.windows = [{**row.windows[0], "end": ends_soon.isoformat()}]
    row.save()
    refusal = begin(row, name)
    assert refusal.never and refusal.limit == "window" and str(refusal).endswith("9 are left")
    row.windows = [{**row.windows[0], "end": (now() - MIN).isoformat()}]
    row.save()
    assert "the window closed at" in window_bars_reset(row.pk)
    path = f"runs/{row.pk}/window"
    assert house.post(path, {"until": (now() - HOUR).isoformat()})[0] == 422
    house.post(path, {"until": (now() + 9 * HOUR).isoformat()})
    assert window_bars_reset(row.pk) == "" and begin(row, name) is None
    Run.objects.update(windows=[])
    assert house.post(path, {"until": (now() + HOUR).isoformat()})[0] == 409 and window_bars_reset(row.pk) == ""


def test_nobody_of_a_wave_begins_before_its_time(house):
    """T11, of a wave: in the timetable, on the engine, in the sheet's sum; taken back with it."""
    run = house.post("runs")
    first, *others = (s["server"] for s in run["servers"])
    at = now() + 3 * HOUR
    waves = [{"name": "canary", "servers": [first]}, {"name": "rest", "servers": others}]
    tried = house.post(f"runs/{run['id']}/sheet/try", {"waves": [waves[0], {**waves[1], "not_before": at.isoformat()}]})
    assert tried["refused"] == "" and tried["sooner_seconds"] < -3600
    plain = patch(house, run, waves=waves)
    asked = patch(house, run, waves=[waves[0], {**waves[1], "not_before": at.isoformat()}])
    assert asked["waves"][0]["not_before"] is None
    assert datetime.datetime.fromisoformat(asked["waves"][1]["not_before"]) == at
    starts = {s["server"]: s["plan"][0]["start"] for s in asked["servers"]}
    assert starts[first] < 60 and min(starts[name] for name in others) > 10_700
    row = Run.objects.get(pk=run["id"])
    assert turns_of(row)[first].not_before is None and turns_of(row)[others[0]].not_before == at
    back = patch(house, run, waves=waves)
    assert [s["plan"] for s in back["servers"]] == [s["plan"] for s in plain["servers"]]
    too_far = {"name": "rest", "servers": [], "not_before": "9999-12-31T23:59:59Z"}
    assert patch(house, run, waves=[too_far])[0] == 422


def test_the_later_of_a_server_s_time_and_its_wave_s_counts(house):
    run = house.post("runs")
    name = run["servers"][0]["server"]
    at = now() + 3 * HOUR
    waves = [{"name": "all", "servers": [], "not_before": at.isoformat()}]
    wish = [{"server": name, "not_before": (at + HOUR).isoformat()}]
    run, row = started(house, waves=waves, wishes=wish)
    turns = turns_of(row)
    assert turns[name].not_before == at + HOUR
    assert {t.not_before for other, t in turns.items() if other != name} == {at}
    assert begin(row, name).limit == "not before"


def test_who_is_written_ahead_counts_among_those_at_once_alone_and_still_waits_for_its_turn(house):
    run, row = started(house, windows=[a_window(begin=2 * HOUR)], ahead="writing")
    first = run["servers"][0]["server"]
    assert "the window opens" in str(begin(row, first))
    early = PlaceTaken(place=AwayPlace(server=first, groups=("surge ensemble",), outage=False, ahead=True))
    DatabaseJournal().append_now(str(row.pk), first, 1, early)
    assert [place.ahead for place in taken_places()] == [True]
    assert "the window opens" in str(Turns().of(row.pk, first) and may_turn(Turns().of(row.pk, first), now()))
    DatabaseJournal().append_now(str(row.pk), first, 2, AheadDone())
    assert taken_places() == []
