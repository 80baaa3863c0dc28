"""The fleet over months: a day of each model is kept once, and what the record tells is put beside it."""

from __future__ import annotations

import datetime

import pytest

from ordnung.server.clock import now
from ordnung.server.runs.models import DriftDay, KeptDuration
from ordnung.server.runs.months import note_day
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db
DAY = datetime.timedelta(days=1)


@pytest.fixture
def house(web, catalogs):
    fill()
    return Person(web)


def test_each_day_of_a_model_is_kept_once_and_today_is_as_it_stands(house):
    note_day()
    note_day()
    assert DriftDay.objects.count() == len({row.model for row in DriftDay.objects.all()}) > 1
    told = {row["model"]: row["days"] for row in house.get("months")["models"]}
    kept = DriftDay.objects.get(model="Corvane Reed 14")
    assert [(d["servers"], d["off"]) for d in told["Corvane Reed 14"]] == [(kept.servers, kept.off)] and kept.off
    DriftDay.objects.update(day=now().date() - DAY)
    note_day()
    days = {row["model"]: row["days"] for row in house.get("months")["models"]}["Corvane Reed 14"]
    assert [d["day"] for d in days] == [str(now().date() - DAY), str(now().date())]


def test_what_was_closed_and_what_failed_follows_from_the_record(house):
    def keep(seq, server, version, failed=False):
        KeptDuration.objects.create(
            seq=seq, server=server, at=now(), model="Corvane Reed 14", kind="writing", product="corvane.reed14.bmc",
            version=version, seconds=60.0, failed=failed,
        )  # fmt: skip

    assert house.get("months")["closed"] == house.get("months")["failures"] == []
    keep(1, "surge-03", "5.30.0")
    keep(2, "surge-07", "5.30.0", failed=True)
    keep(3, "an earlier run", "5.30.0")
    told = house.get("months")
    (closed,) = told["closed"]
    assert closed["advisory"] == "CRV-SA-2026-011" and closed["servers"] == 1 and closed["open"] >= 1
    (failed,) = told["failures"]
    assert (failed["name"], failed["writes"], failed["failed"]) == ("Reed 14 controller", 3, 1)
