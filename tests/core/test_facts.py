"""What will get in the way, and how a payload gets there: tables."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.components import Component, Server
from ordnung.core.facts import Facts, Licence, find_hindrances, tell_span, worst_health
from ordnung.core.reach import best_way, tell_reach

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
TODAY = NOW.date()
GOOD = {"pulls": ("HTTPS", "HTTP"), "push": "any", "power": "On", "role": "Administrator", "clock_off_s": 1.0}


def told(components=(), **facts):
    one = Server(name="x", model="m", components=tuple(components), facts=Facts(**{**GOOD, **facts}))
    return [(h.what, h.stops) for h in find_hindrances(one, NOW)]


def supply(number, part):
    return Component(slot=f"psu-{number}", kind="power", name="supply", version="1", part=part)


@pytest.mark.parametrize(
    ("facts", "expected"),
    [
        ({}, []),
        ({"licences": (Licence(name="L", valid=False),)}, [("licence missing", False)]),
        ({"licences": (Licence(name="L", valid=True),)}, []),
        ({"pulls": (), "push": None}, [("no way in", True)]),
        ({"pulls": (), "push": "own"}, [("controller first", False)]),
        ({"pulls": ("HTTP",), "push": None}, [("plain HTTP only", False)]),
        ({"pulls": ("HTTP",)}, []),
        ({"factory_account": True}, [("factory credentials", False)]),
        ({"role": "ReadOnly"}, [("no permission", True)]),
        ({"role": "Operator"}, []),
        ({"role": None}, []),
        ({"clock_off_s": -119.0}, []),
        ({"clock_off_s": -300.0}, [("clock wrong", False)]),
        ({"clock_off_s": 90_000.0}, [("clock wrong", True)]),
        ({"certificate_ends": TODAY + datetime.timedelta(days=30)}, []),
        ({"certificate_ends": TODAY + datetime.timedelta(days=29)}, [("certificate ends", False)]),
        ({"certificate_ends": TODAY - datetime.timedelta(days=1)}, [("certificate ends", False)]),
        ({"jobs": ("a job",)}, [("job pending", True)]),
        ({"rebuilding": ("Volume 1",)}, [("array rebuilding", True)]),
        ({"feeds_lost": ("psu-2",)}, [("feed lost", True)]),
        ({"power": "Off"}, [("server off", False)]),
        ({"power": None}, []),
        ({"factory_account": True, "jobs": ("j",)}, [("job pending", True), ("factory credentials", False)]),
    ],
)
def test_hindrances(facts, expected):
    assert told(**facts) == expected


def test_unlike_supplies_and_spoiled_partitions():
    assert told([supply(1, "P800"), supply(2, "P1400")]) == [("unlike supplies", False)]
    assert told([supply(1, "P800"), supply(2, "P800")]) == []
    blank = Component(slot="s", kind="store", name="diag", version=None, state="blank")
    assert told([blank]) == [("partition blank", False)]


def test_a_server_of_which_nothing_is_known_has_no_hindrances():
    assert find_hindrances(Server(name="x", model=""), NOW) == ()


@pytest.mark.parametrize(("seconds", "text"), [(5, "5 s"), (130, "2 min"), (7300, "2 h"), (200_000, "2 days"), (10**8, "3 years")])  # fmt: skip
def test_spans_in_the_unit_that_suits(seconds, text):
    assert tell_span(seconds) == text


def test_the_worst_health_counts():
    assert worst_health(["OK", None, "Warning"]) == "Warning" and worst_health([None, "odd"]) is None


@pytest.mark.parametrize(
    ("facts", "probes", "best", "opens"),
    [
        ({}, {}, "https", [None, None, True]),
        ({}, {"HTTPS": "arrived", "HTTP": "arrived"}, "https", [True, True, True]),
        ({}, {"HTTPS": "not arrived", "HTTP": "arrived"}, "push", [False, True, True]),
        ({"push": None}, {"HTTPS": "not arrived", "HTTP": "arrived"}, "http", [False, True, False]),
        ({"push": None}, {"HTTPS": "not arrived", "HTTP": "not arrived"}, "none", [False, False, False]),
        ({"push": "own", "pulls": ()}, {}, "own", [False, False, True]),
        ({"pulls": ("HTTP",)}, {"HTTP": "not asked"}, "push", [False, None, True]),
    ],
)
def test_ways_in(facts, probes, best, opens):
    known = Facts(**{**GOOD, **facts})
    assert best_way(known, probes) == best
    assert [way.open for way in tell_reach(known, probes)] == opens


def test_a_wrong_clock_is_named_as_the_reason():
    ways = tell_reach(Facts(**{**GOOD, "clock_off_s": -(10.0**8)}), {"HTTPS": "not arrived"})
    assert "clock" in ways[0].seen and "clock" in ways[0].remedy
    assert best_way(None, {}) == "unknown" and tell_reach(None, {}) == ()
