"""What will get in the way, and how a payload gets there: tables."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.core.checks import CHECKS, Before, Outside, Severity, Situation, find_block, run_checks
from ordnung.core.components import Component, Server
from ordnung.core.facts import Facts, Licence, find_hindrances, tell_span, worst_health
from ordnung.core.reach import best_way, tell_reach
from ordnung.core.route import Write
from ordnung.core.sheet import NamedPayload, PlannedWrite

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
TODAY = NOW.date()
DAY = datetime.timedelta(days=1)
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
        ({"next_start": "Pxe"}, [("next start", True)]),
        ({"settings_waiting": (("A", "1"),)}, [("settings waiting", True)]),
        ({"media_inserted": ("tools.iso",)}, [("virtual media", False)]),
        ({"next_start": "Pxe", "next_start_stays": True}, []),
        ({"power": "Off"}, [("server off", False)]),
        ({"power": "PoweringOn"}, [("starting", False)]),
        ({"power": "Off", "boot": "MemoryInitializationStarted"}, [("server off", False)]),
        ({"power": "On", "boot": "MemoryInitializationStarted"}, [("starting", False)]),
        ({"power": "On", "boot": "OSBootStarted"}, []),
        ({"boot": "OSRunning"}, []),
        ({"power": None}, []),
        ({"push": "image", "pulls": ()}, []),
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
        ({"push": "image", "pulls": ()}, {}, "push", [False, False, True]),
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


# Checks: each with a reading that trips it and one that doesn't


def situation(
    before, facts=None, components=(), write=None, way=None, will_reset=True, read_at=None, reset=None, **outside
):
    server = Server(name="s", model="m", components=components, facts=facts, read_at=read_at)
    return Situation(
        server=server, before=before, now=NOW, write=write, way=way, will_reset=will_reset, reset=reset,
        outside=Outside(**outside),
    )  # fmt: skip


IMAGE = PlannedWrite(
    write=Write(slot="psu-1", product="p", source="1", to="2", seconds=1),
    payload=NamedPayload(sha256="a", size=1000, maker="M", catalog="c", issue="i"),
)
BROKEN = Component(slot="store-1", kind="store", name="diag", version=None, state="damaged")
SET_UP_ANEW = PlannedWrite(
    write=Write(slot="store-1", product="p", source="damaged", to="set up anew", seconds=1), payload=None, sets_up=True
)
SUPPLY = Component(slot="psu-1", kind="power", name="800", version="1", part="A")
DRIVE = Component(slot="psu-1", kind="drive", name="960 GB", version="1")
OTHER = dataclasses.replace(SUPPLY, slot="psu-2", part="B")


@pytest.mark.parametrize(
    ("check", "severity", "tripped", "fine"),
    [
        ("power", "block", {"facts": Facts(power="Off")}, {"facts": Facts(power="On")}),
        ("power", "block", {"facts": Facts(power="PoweringOn")}, {"facts": Facts()}),
        ("health", "block", {"facts": Facts(health="Critical")}, {"facts": Facts(health="OK")}),
        ("health", "warn", {"facts": Facts(health="Warning")}, {"facts": None}),
        ("array", "block", {"facts": Facts(rebuilding=("V1: Rebuild",))}, {"facts": Facts()}),
        ("array", "block", {"facts": Facts(arrays_broken=("V1 is Critical",))}, {"facts": Facts()}),
        ("array", "warn", {"facts": Facts(rebuilding=("V1",)), "write": IMAGE, "will_reset": False}, {}),
        ("array", "block", {"facts": Facts(rebuilding=("V1",)), "write": IMAGE, "components": (DRIVE,), "will_reset": False}, {}),
        ("next start", "block", {"facts": Facts(next_start="Pxe")}, {"facts": Facts()}),
        ("settings", "block", {"facts": Facts(settings_waiting=(("A", "1"),))}, {"facts": Facts()}),
        ("virtual media", "warn", {"facts": Facts(media_inserted=("tools.iso",))}, {"facts": Facts()}),
        ("virtual media", "warn", {"facts": Facts(media_inserted=("a", "b")), "write": IMAGE},
         {"facts": Facts(media_inserted=("a",)), "write": IMAGE, "will_reset": False}),
        ("settings", "block", {"facts": Facts(settings_waiting=(("A", "1"),) * 6), "write": IMAGE},
         {"facts": Facts(settings_waiting=(("A", "1"),)), "write": IMAGE, "will_reset": False}),
        ("next start", "block", {"facts": Facts(next_start="Cd"), "write": IMAGE},
         {"facts": Facts(next_start="Cd"), "write": IMAGE, "will_reset": False}),
        ("next start", "warn", {"facts": Facts(next_start="Pxe", next_start_stays=True)}, {}),
        ("feed", "block", {"facts": Facts(feeds_lost=("psu-1",))}, {"facts": Facts()}),
        ("unlike supplies", "block", {"components": (SUPPLY, OTHER), "write": IMAGE},
         {"components": (SUPPLY, dataclasses.replace(SUPPLY, slot="psu-2")), "write": IMAGE}),
        ("reset", "block", {"facts": Facts(no_reset=(("power cycle", "power cycle of it alone"),)), "reset": "power cycle", "write": IMAGE},
         {"facts": Facts(no_reset=(("server reboot", "server reboot"),)), "reset": "power cycle", "write": IMAGE}),
        ("reset", "warn", {"facts": Facts(no_reset=(("controller restart", "x"),)), "reset": "controller restart", "write": IMAGE},
         {"facts": Facts(no_reset=(("controller restart", "x"),)), "reset": "server reboot", "write": IMAGE}),
        ("other supply", "block", {"components": (SUPPLY, dataclasses.replace(OTHER, part="A", health="Warning")), "write": IMAGE},
         {"components": (SUPPLY, dataclasses.replace(OTHER, part="A", version="2")), "write": IMAGE}),
        ("locked", "block", {"facts": Facts(locked="switched off")}, {"facts": Facts()}),
        ("staging room", "block", {"facts": Facts(largest_image=999), "write": IMAGE},
         {"facts": Facts(largest_image=1000), "write": IMAGE}),
        ("clock", "block", {"facts": Facts(clock_off_s=400), "way": "pull over HTTPS"},
         {"facts": Facts(clock_off_s=200), "way": "pull over HTTPS"}),
        ("clock", "warn", {"facts": Facts(clock_off_s=-400), "way": "push"}, {"facts": Facts(), "way": "push"}),
        ("rights", "block", {"facts": Facts(role="ReadOnly")}, {"facts": Facts(role="Operator")}),
        ("licence", "block", {"facts": Facts(licences=(Licence(name="Remote update", valid=False),))},
         {"facts": Facts(licences=(Licence(name="Remote update", valid=False),), pulls=("HTTPS",))}),
        ("licence", "block", {"facts": Facts(licences=(Licence(name="L", valid=False),), pulls=("HTTP",)), "write": IMAGE},
         {"facts": Facts(licences=(Licence(name="L", valid=False),)), "write": IMAGE, "way": "push"}),
        ("certificate", "warn", {"facts": Facts(certificate_ends=datetime.date(2026, 11, 20))},
         {"facts": Facts(certificate_ends=datetime.date(2027, 11, 20))}),
        ("certificate", "warn", {"facts": Facts(certificate_ends=(NOW + 2 * DAY).date()), "done_by": NOW + 3 * DAY},
         {"facts": Facts(certificate_ends=(NOW + 2 * DAY).date()), "done_by": NOW + DAY}),
        ("job", "warn", {"facts": Facts(jobs=("a backup runs",)), "sheet": True}, {"facts": Facts(jobs=("a backup runs",))}),
        ("seal", "block", {"seal_ends": NOW}, {"seal_ends": NOW + DAY}),
        ("seal", "warn", {"seal_ends": NOW + DAY, "done_by": NOW + DAY}, {"seal_ends": NOW + 2 * DAY, "done_by": NOW + DAY}),
        ("payload", "block", {"lacking": ("bios 3",)}, {"lacking": ()}),
        ("payload", "block", {"unsettled": ("bios 3: not settled",)}, {"unsettled": ()}),
        ("group", "note", {"short": "group pair allows 1 away"}, {"short": ""}),
        ("reading", "note", {"reading_hours": 24.0, "read_at": NOW - 2 * DAY}, {"reading_hours": 24.0, "read_at": NOW - DAY}),
        ("way back", "warn", {"barred": ("bios can't go back",)}, {"barred": ()}),
        ("hands", "warn", {"hands": ("after bios 3: press F",)}, {"hands": ()}),
        ("partition", "warn", {"components": (BROKEN,), "write": SET_UP_ANEW},
         {"components": (dataclasses.replace(BROKEN, state="blank"),), "write": SET_UP_ANEW}),
        ("failed before", "warn", {"failed_before": ("bios 3 failed 2 times",)}, {}),
    ],
)  # fmt: skip
def test_every_check_trips_and_lets_pass(check, severity, tripped, fine):
    before = Before.WRITE if "write" in tripped or "way" in tripped else Before.RESET
    if tripped.pop("sheet", False):
        assert check not in {f.check for f in run_checks(situation(before, **tripped))}
        before, fine = Before.SHEET, {}
    found = {f.check: f for f in run_checks(situation(before, **tripped))}
    assert found[check].severity == severity and found[check].seen and found[check].remedy
    assert check not in {f.check for f in run_checks(situation(before, **fine))}


def test_every_check_of_the_registry_is_tried_here():
    tried = {row[0] for row in test_every_check_trips_and_lets_pass.pytestmark[0].args[1]}
    assert tried == {check.id for check in CHECKS}


def test_only_what_may_be_overridden_is_and_with_a_reason():
    facts = Facts(power="Off", feeds_lost=("psu-1",))
    blocks = [f.check for f in run_checks(situation(Before.RESET, facts)) if f.severity is Severity.BLOCK]
    assert blocks == ["power", "feed"]
    found = run_checks(situation(Before.RESET, facts), {"power": "go on", "feed": "pulled for the work", "health": ""})
    assert find_block(found).check == "power"
    assert next(f for f in found if f.check == "feed").remedy == "Overridden: pulled for the work"


def test_arrays_that_are_broken_and_locks_bar_updating():
    assert told(arrays_broken=("V1 is Critical",)) == [("array broken", True)]
    assert told(locked="its update service is switched off") == [("locked", True)]
