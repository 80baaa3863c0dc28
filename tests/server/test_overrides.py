"""Checks on a draft: what will stop a server is said before the night, and a person may answer for some of it."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.facts import Facts
from ordnung.server.assessment.current import current_assessment
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import store_reading
from ordnung.server.runs.adapters import DatabaseOrders
from ordnung.server.runs.models import Run
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db
LOST = Facts(power="On", health="OK", feeds_lost=("Supply 2",))


@pytest.fixture
def site(web, catalogs):
    fill(("surge-03",))
    return Person(web)


def draft(site, facts):
    value = dataclasses.replace(current_assessment().standings["surge-03"].server, facts=facts)
    store_reading(value, "ab" * 32)
    run = site.post("runs", {"servers": ["surge-03"]})
    return run["id"], run["servers"][0]


def place(site, run):
    return site.get(f"runs/{run}")["servers"][0]


def override(site, run, check, reason="both feeds were measured"):
    return site.post(f"runs/{run}/servers/surge-03/override", {"check": check, "reason": reason})


def test_a_lost_feed_is_told_on_the_draft_and_may_be_answered_for(site):
    run, lane = draft(site, LOST)
    assert lane["stopping"] == "feed" and "Supply 2 has no input" in lane["detail"]
    override(site, run, "feed")
    lane = place(site, run)
    assert (lane["detail"], lane["stopping"]) == ("", "")
    assert lane["overrides"] == [{"check": "feed", "reason": "both feeds were measured (technician)"}]
    assert DatabaseOrders()._overrides(str(run), "surge-03") == {"feed": "both feeds were measured (technician)"}
    assert site.get(f"runs/{run}/record")["servers"][0]["overrides"] == lane["overrides"]


def test_each_check_is_answered_for_on_its_own_and_all_of_it_can_be_taken_back(site):
    run, _ = draft(site, dataclasses.replace(LOST, rebuilding=("volume 1 is rebuilding",)))
    override(site, run, "array")
    assert place(site, run)["stopping"] == "feed", "the next one stands behind it"
    override(site, run, "feed")
    assert not place(site, run)["detail"]
    site.delete(f"runs/{run}/servers/surge-03/override")
    assert (place(site, run)["stopping"], place(site, run)["overrides"]) == ("array", [])


@pytest.mark.parametrize("facts", [Facts(power="Off"), Facts(power="On", locked="it is locked"), Facts(power="On")])
def test_what_nobody_may_override_and_what_stops_nothing_is_refused(site, facts):
    run, lane = draft(site, facts)
    assert lane["stopping"] == ""
    for check in ("power", "locked", "feed"):
        assert override(site, run, check)[0] == 422
    assert place(site, run)["overrides"] == []


def test_an_override_needs_a_reason_and_a_draft(site):
    run, _ = draft(site, LOST)
    assert override(site, run, "feed", "  ")[0] == 400
    assert site.post(f"runs/{run}/servers/nobody/override", {"check": "feed", "reason": "x"})[0] == 404
    Run.objects.update(state="running")
    assert override(site, run, "feed")[0] == 409
    assert site.delete(f"runs/{run}/servers/surge-03/override")[0] == 409
    assert Server.objects.get().run_places.get().overrides == {}
