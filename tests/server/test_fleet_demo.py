"""The large demo house: made up directly, drawn from one answer, equal states judged once."""

from __future__ import annotations

import pytest

from ordnung.demo.fleet import make_places, seed_fleet
from ordnung.server.assessment import current
from ordnung.server.fleet.models import ComponentState, Reading, Server

pytestmark = pytest.mark.django_db


def test_places_are_many_distinct_and_always_the_same():
    places = list(make_places(3000))
    assert [p.name for p in places] == [p.name for p in make_places(3000)]
    assert len({p.serial for p in places}) == 3000
    taken = [(p.room, p.rack, unit) for p in places for unit in range(p.unit, p.unit + p.model.height)]
    assert len(set(taken)) == len(taken) and all(1 <= unit <= 42 for *_, unit in taken)


def test_a_fleet_is_seeded_once_and_answers(web, tmp_path, django_assert_max_num_queries):
    from django.contrib.auth.models import User

    User.objects.all().delete()
    current.forget()
    seed_fleet(300, tmp_path)
    seed_fleet(300, tmp_path)
    assert Server.objects.count() == Reading.objects.count() == 300
    with django_assert_max_num_queries(30):  # of which one a catalog issue
        found = current.current_assessment()
    assert len(found.standings) == 300 and found.tally["components"] == ComponentState.objects.count()
    assert found.tally["off"] > 300
    with django_assert_max_num_queries(1):
        assert current.current_assessment() is found
