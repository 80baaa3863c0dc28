"""The effect of a draft against judging every server anew, one by one; rules that do nothing; what is taken out."""

from __future__ import annotations

import dataclasses
import datetime
import hashlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.assessment import Memory, assess_fleet, reassess
from ordnung.core.baseline import leave_out
from ordnung.core.catalog import Fix, Payload
from ordnung.core.components import Server, take_by_image
from ordnung.core.drift import OFF_BASELINE, Verdict
from ordnung.core.effect import CostMemory, compare_baselines
from ordnung.core.folds import fold_fleet
from ordnung.core.packing import plan_packing
from ordnung.core.review import list_steps, without
from ordnung.core.rule_check import check_rules, fit_together
from ordnung.core.rules import FIXED_RULES, Rule
from tests.core.houses import DAY, POWER, RESTART, catalogs, component, product, release


def carried(version: str, activation="server reboot", **facts):
    digest = hashlib.sha256(f"{version} {activation}".encode()).hexdigest()
    return release(
        version, activation, payload=Payload(path=version, size=int(version[0]) * 1000, sha256=digest), **facts
    )


BMC = product(
    "bmc",
    carried("5.0", RESTART),
    carried("5.3", RESTART, importance="security", fixes=(Fix(id="SA-2", score=9.0),)),
    kind="controller",
)
BIOS = product(
    "bios", carried("1.0", released=datetime.date(2025, 1, 1)), carried("2.0", released=datetime.date(2025, 6, 1)),
    carried("3.0", direct_from="2.0", needs={"bmc": "5.3"}, importance="security", fixes=(Fix(id="SA-1", score=8.0),), released=datetime.date(2026, 11, 20)),
)  # fmt: skip
PLANE = product("plane", carried("1.1", POWER), carried("1.4", POWER), kind="backplane")
NIC = product("nic", carried("7.0"), carried("8.0"), kind="nic")
SHOP = catalogs(BMC, BIOS, PLANE, NIC)


def server(name, bios="3.0", bmc="5.3", plane="1.4", nics=("8.0", "8.0"), group=None, waiting=None) -> Server:
    parts = [component("bios", "bios", bios, waiting), component("bmc", "bmc", bmc), component("plane", "plane", plane)]
    parts += [component(f"nic{n}", "nic", version) for n, version in enumerate(nics)]
    return Server(name=name, model="Reed 14", group=group, components=tuple(parts))


def plainly(servers, rules):
    """The sums, by judging and routing every server by itself."""
    standings = assess_fleet(servers, SHOP, rules, DAY)
    verdicts = [d.verdict for s in standings for d in s.drift]
    missed = {fix for s in standings for d in s.drift if d.route is not False for fix in d.fixes}
    return {
        "off": sum(v in OFF_BASELINE for v in verdicts), "exposed": verdicts.count(Verdict.EXPOSED), "held": verdicts.count(Verdict.HELD),
        "outages": sum(s.route.outages for s in standings), "power_cycles": sum(s.route.power_cycles for s in standings),
        "restarts": sum(s.route.restarts for s in standings), "writes": sum(len(s.route.writes) for s in standings),
        "servers": sum(bool(s.route.rounds) for s in standings), "stranded": sum(bool(s.route.stranded) for s in standings),
        "fixes": frozenset(missed), "bytes": sum({p.release.payload.sha256: p.release.payload.size for p in plan_packing(standings)}.values()),
    }  # fmt: skip


servers = st.builds(
    server, st.just("x"), st.sampled_from(["1.0", "2.0", "3.0", "0.9", "odd"]), st.sampled_from(["5.0", "5.3"]),
    st.sampled_from(["1.1", "1.4"]), st.tuples(*[st.sampled_from(["7.0", "8.0"])] * 2), st.sampled_from([None, "a", "b"]),
    st.sampled_from([None, None, "2.0"]),
)  # fmt: skip
servers |= servers.map(take_by_image)
fleets = st.lists(servers, min_size=1, max_size=6).map(lambda found: [_named(s, n) for n, s in enumerate(found)])
wheres = st.dictionaries(
    st.sampled_from(["kind", "product", "group", "server"]),
    st.sampled_from([("nic",), ("bios",), ("a",), ("s1",), ("bmc",)]),
    max_size=2,
)
rules = st.lists(
    st.builds(Rule, do=st.sampled_from(["hold", "take"]), where=wheres)
    | st.builds(Rule, do=st.just("pin"), where=wheres, version=st.sampled_from(["2.0", "1.0", "5.0", "9.9"]))
    | st.builds(Rule, do=st.just("wait"), where=wheres, days=st.just(30)),
    max_size=3,
).map(tuple)


def _named(value: Server, n: int) -> Server:
    return dataclasses.replace(value, name=f"s{n}")


@given(fleets, rules, rules)
def test_the_effect_is_what_judging_every_server_says(fleet, before, after):
    folds = fold_fleet(assess_fleet(fleet, SHOP, before, DAY))
    groups = {s.name: s.group for s in fleet}
    memory = CostMemory()
    for known in (None, (SHOP, before)):
        effect = compare_baselines(folds, known, (SHOP, after), DAY, memory, groups)
        for sums, wanted in ((effect.before, before), (effect.after, after)):
            expected = plainly(fleet, wanted)
            found = {name: getattr(sums, name) for name in expected}
            assert found == expected


@given(fleets, rules, rules)
def test_judging_again_is_judging(fleet, before, after):
    known = assess_fleet(fleet, SHOP, before, DAY)
    again = reassess(known, SHOP, after, DAY, Memory())
    assert [(s.server, s.drift, s.route) for s in again] == [
        (s.server, s.drift, s.route) for s in assess_fleet(fleet, SHOP, after, DAY)
    ]


def test_the_changes_name_products_targets_and_how_many():
    fleet = [server("a", bios="1.0"), server("b", bios="1.0"), server("c")]
    folds = fold_fleet(assess_fleet(fleet, SHOP, FIXED_RULES, DAY))
    pin = (Rule(do="pin", where={"product": ("bios",)}, version="2.0"), Rule(do="hold", where={"kind": ("nic",)}))
    effect = compare_baselines(folds, None, (SHOP, pin), DAY)
    told = {(c.product, c.before, c.after): (c.components, c.servers) for c in effect.changes}
    assert told == {("bios", "3.0", "2.0"): (3, 3), ("nic", "8.0", "held"): (6, 3)}
    assert effect.before.fixes == {"SA-1"} and effect.after.fixes == frozenset()
    assert (effect.before.outages, effect.after.outages) == (4, 2)


@pytest.mark.parametrize(
    ("chosen", "notes"),
    [
        ([Rule(do="hold", where={"kind": ("power",)}), Rule(do="take")], ["matches nothing that is fitted here", ""]),
        (
            [Rule(do="take"), Rule(do="hold", where={"kind": ("nic",)})],
            ["", "decides nothing: rule 1 comes first for everything it matches"],
        ),
        (
            [Rule(do="hold", until=datetime.date(2026, 1, 1)), Rule(do="take")],
            ["ended on 2026-01-01; it decides nothing any more", ""],
        ),
        (
            [Rule(do="hold", where={"server": ("a",)}), Rule(do="hold", where={"group": ("g",)}), Rule(do="take")],
            ["", "", ""],
        ),
    ],
)
def test_a_rule_that_does_nothing_is_told(chosen, notes):
    fleet = [server("a"), server("b", group="g"), server("c")]
    folds = fold_fleet(assess_fleet(fleet, SHOP, FIXED_RULES, DAY))
    fittings = fit_together(folds, chosen, {s.name: s.group for s in fleet})
    assert [f.note for f in check_rules(fittings, chosen, DAY)] == notes


def test_every_pair_is_decided_once():
    fleet = [server("a"), server("b", group="g"), server("c")]
    chosen = [
        Rule(do="hold", where={"server": ("a",), "kind": ("nic",)}),
        Rule(do="pin", where={"group": ("g",)}, version="1.0"),
        Rule(do="take"),
    ]
    folds = fold_fleet(assess_fleet(fleet, SHOP, FIXED_RULES, DAY))
    found = check_rules(fit_together(folds, chosen, {s.name: s.group for s in fleet}), chosen, DAY)
    assert [(f.matches, f.decides) for f in found] == [(1, 1), (4, 4), (12, 7)]


def test_what_is_taken_out_stays_and_the_rest_is_planned_anew():
    (standing,) = assess_fleet([server("a", bios="1.0", bmc="5.0", nics=("7.0", "8.0"))], SHOP, FIXED_RULES, DAY)
    rest = without(standing, {"bmc": "the spare is not here yet"})
    assert {w.slot for w in rest.route.writes} == {"nic0"} and [s.slot for s in rest.route.stranded] == ["bios"]
    held = next(d for d in rest.drift if d.slot == "bmc")
    assert held.verdict is Verdict.HELD and held.reason == "taken out: the spare is not here yet"
    assert without(standing, {"elsewhere": "x"}) is standing
    assert leave_out(standing.positions, {}) == standing.positions


def test_the_review_lists_what_is_written_the_most_pressing_first():
    standings = assess_fleet(
        [server("a", bios="1.0", bmc="5.0"), server("b", bmc="5.0", nics=("7.0", "7.0"))], SHOP, FIXED_RULES, DAY
    )
    steps = list_steps(fold_fleet(standings))
    assert [(s.product, s.before, s.via, s.after, len(s.places)) for s in steps] == [
        ("bmc", "5.0", (), "5.3", 2), ("bios", "1.0", ("2.0",), "3.0", 1), ("nic", "7.0", (), "8.0", 2),
    ]  # fmt: skip
    assert steps[2].places == (("b", "nic0"), ("b", "nic1"))
