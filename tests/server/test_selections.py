"""Selections of many servers by a short name: in addresses, in files, forgotten when nobody uses them."""

from __future__ import annotations

import datetime

import pytest

from ordnung.server.clock import now
from ordnung.server.fleet import selections
from ordnung.server.fleet.models import Selection
from ordnung.server.rights.rights import Right
from tests.server.conftest import make_person
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db(transaction=True)
FEW = ["surge-03", "surge-07", "gauge-04"]


@pytest.fixture
def some(web, catalogs):
    fill()
    someone = Person(web)
    someone.put("selections/k3x9", {"servers": FEW})
    return someone


def test_every_view_and_file_takes_a_short_name_for_the_names(some):
    assert some.get("selections/k3x9") == {"servers": FEW}
    said = ",".join(FEW)
    for path in ("drift", "review", "servers", "exports/drift.json", "exports/firmware.cdx.json"):
        if path == "exports/firmware.cdx.json":
            told = [[c["name"] for c in some.get(f"{path}?servers={asked}")["components"]] for asked in ("@k3x9", said)]
        else:
            told = [some.get(f"{path}?servers={asked}") for asked in ("@k3x9", said)]
        assert told[0] == told[1], path
    files = [some.web.get(f"/api/v1/exports/servers.csv?servers={asked}").content for asked in ("@k3x9", said)]
    assert files[0] == files[1] and b"surge-09" not in files[0]


def test_ten_thousand_names_make_a_short_address(some):
    names = [f"server-{n:05}" for n in range(10_000)]
    assert some.put("selections/large", {"servers": [*names, "surge-03"]})["servers"][-1] == "surge-03"
    assert some.get("drift?servers=@large")["totals"]["servers"] == 1


@pytest.mark.parametrize("path", ["selections/none", "drift?servers=@none", "servers?servers=@none"])
def test_one_that_is_not_kept_is_refused_never_taken_for_none_or_all(some, path):
    status, problem = some.get(path)
    assert (status, problem["type"], problem["field"]) == (404, "ordnung:unknown-selection", "servers")
    assert "Choose the servers again" in problem["detail"]


def test_what_is_kept_is_never_changed_and_may_be_kept_again(some):
    assert some.put("selections/k3x9", {"servers": FEW}) == {"servers": FEW}
    status, problem = some.put("selections/k3x9", {"servers": ["surge-09"]})
    assert (status, problem["type"]) == (409, "ordnung:name-taken")
    assert some.get("selections/k3x9") == {"servers": FEW}


@pytest.mark.parametrize("servers", [[], ["x" * 201], "surge-03", None])
def test_what_is_no_list_of_names_is_refused(some, servers):
    status, problem = some.put("selections/other", {"servers": servers})
    assert status == 400 and problem["field"].startswith("servers")


def test_who_may_only_look_may_keep_one(client, some):
    client.force_login(make_person("viewer", Right.LOOK))
    assert Person(client).put("selections/own", {"servers": FEW}) == {"servers": FEW}


def test_those_unused_for_half_a_year_are_forgotten_and_using_one_keeps_it(some):
    long_ago = now() - selections.KEPT_FOR - datetime.timedelta(hours=1)
    some.put("selections/used", {"servers": FEW})
    Selection.objects.update(used_at=long_ago)
    some.get("drift?servers=@used")
    some.put("selections/third", {"servers": FEW})
    assert set(Selection.objects.values_list("name", flat=True)) == {"used", "third"}


def test_of_too_many_those_unused_the_longest_go(some, monkeypatch):
    monkeypatch.setattr(selections, "MOST_KEPT", 3)
    for n in range(4):
        some.put(f"selections/s{n}", {"servers": FEW})
        Selection.objects.filter(name=f"s{n}").update(used_at=now() + datetime.timedelta(minutes=n))
    assert list(Selection.objects.order_by("used_at").values_list("name", flat=True)) == ["s1", "s2", "s3"]
