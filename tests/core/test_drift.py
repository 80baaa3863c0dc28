"""Verdicts by precedence, distances, and the rules D1 to D13."""

from __future__ import annotations

import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.assessment import assess_fleet
from ordnung.core.baseline import locate
from ordnung.core.catalog import Fix, Issue, Product
from ordnung.core.components import Component, Server
from ordnung.core.drift import Verdict, build_columns, judge, judge_server
from ordnung.core.folds import fold_fleet
from ordnung.core.listing import list_baseline
from ordnung.core.matching import Catalogs
from ordnung.core.rules import FIXED_RULES, Rule, decide_target
from tests.core.houses import DAY, catalogs, component, positions, product, release

BIOS = product(
    "bios",
    release("1.0", released=datetime.date(2024, 1, 1)),
    release("1.1", released=datetime.date(2025, 1, 1), importance="security", fixes=(Fix(id="SA-1", score=8.0),)),
    release("1.2", released=datetime.date(2026, 11, 20), importance="routine"),
)


def judged(part: Component, rules=(), stranded=None, products=(BIOS,)):
    return judge_server(positions(list(products), [part], tuple(rules)), stranded or {})[0]


@pytest.mark.parametrize(
    ("part", "rules", "verdict"),
    [
        (component("b", "bios", None), (), Verdict.UNREAD),
        (component("b", "bios", "  "), (), Verdict.UNREAD),
        (component("b", "else", "1.0", "1.1"), (), Verdict.UNLISTED),
        (component("b", "bios", "1.0", "1.1"), (Rule(do="hold"),), Verdict.HELD),
        (component("b", "bios", "1.0", "1.1"), (), Verdict.PENDING),
        (component("b", "bios", "odd one"), (), Verdict.UNORDERED),
        (component("b", "bios", "1.2.0"), (), Verdict.LEVEL),
        (component("b", "bios", "1.2+b7"), (), Verdict.LEVEL),
        (component("b", "bios", "1.3"), (), Verdict.AHEAD),
        (component("b", "bios", "1.0"), (), Verdict.EXPOSED),
        (component("b", "bios", "1.1"), (), Verdict.BEHIND),
        (component("b", "bios", "1.1", "1.1"), (), Verdict.BEHIND),
        (component("b", "bios", None, state="blank"), (), Verdict.BEHIND),
        (component("b", "bios", None, state="damaged"), (Rule(do="hold"),), Verdict.HELD),
        (component("b", "else", None, state="blank"), (), Verdict.UNLISTED),
        (component("b", "bios", "1.05"), (Rule(do="pin", version="1.1"),), Verdict.AHEAD),
    ],
)
def test_the_first_verdict_that_holds_counts(part, rules, verdict):
    assert judged(part, rules).verdict is verdict


def test_stranded_comes_before_exposed():
    assert judged(component("b", "bios", "1.0"), stranded={"b": "why"}).verdict is Verdict.STRANDED


def test_distance_age_fixes_and_importance():
    found = judged(component("b", "bios", "1.0"))
    assert (found.behind, found.since, found.fixes) == (2, datetime.date(2025, 1, 1), ("SA-1",))
    assert (found.missed_importance, found.route) == ("security", True)


def test_an_empty_partition_is_off_and_counts_neither_releases_nor_advisories():
    found = judged(component("b", "bios", None, state="damaged"))
    assert (found.behind, found.fixes, found.missed_importance, found.score) == (None, (), None, None)
    assert (found.target, found.route) == ("1.2", True)
    assert judged(component("b", "bios", None, state="blank"), stranded={"b": "why"}).verdict is Verdict.STRANDED


def test_a_waiting_component_is_measured_by_what_runs_and_not_at_all_where_that_has_no_order():
    assert judged(component("b", "bios", "1.0", "1.1")).behind == 2
    odd = judged(component("b", "bios", "odd one", "1.1"))
    assert (odd.verdict, odd.behind) == (Verdict.PENDING, None)


def test_d13_a_security_fix_above_a_pin_does_not_expose_but_is_told():
    found = judged(component("b", "bios", "1.0"), (Rule(do="pin", version="1.0"),))
    assert found.verdict is Verdict.LEVEL and found.fixes_beyond == ("SA-1",)


def test_a_pin_between_two_releases_is_told_from_what_lies_beside_it():
    pin = (Rule(do="pin", version="1.15"),)
    assert judged(component("b", "bios", "1.14"), pin).verdict in (Verdict.BEHIND, Verdict.EXPOSED)
    assert judged(component("b", "bios", "1.15.0"), pin).verdict is Verdict.LEVEL
    assert judged(component("b", "bios", "1.16"), pin).verdict is Verdict.AHEAD


def test_d5_wait_takes_the_newest_that_is_old_enough():
    wait = (Rule(do="wait", days=14),)
    assert judged(component("b", "bios", "1.0"), wait).target == "1.1"
    assert judged(component("b", "bios", "1.0"), (Rule(do="wait", days=5000),)).verdict is Verdict.HELD


def test_d3_a_rule_counts_up_to_its_last_day():
    server = Server(name="s", model="m")
    rule = Rule(do="hold", until=DAY)
    assert decide_target(server, BIOS, [rule], DAY).held
    assert not decide_target(server, BIOS, [rule], DAY + datetime.timedelta(days=1)).held


def test_the_fixed_rules_hold_power_supplies():
    supply = product("psu", release("1.0"), release("1.1"), kind="power")
    found = judged(component("p", "psu", "1.0"), FIXED_RULES, products=(supply,))
    assert found.verdict is Verdict.HELD and "kill a power supply" in found.reason


def test_d1_the_entry_with_most_keys_wins_and_a_tie_is_unlisted():
    card = Component(slot="n", kind="nic", name="n", version="1", software_id="X", pci="FFE3:0025:ffe3:0002")
    wide = Product("wide", "wide", "nic", "dotted", ({"software_id": "X"},), (release("1"),))
    narrow = Product("narrow", "narrow", "nic", "dotted", ({"software_id": "X", "pci": "ffe3:*:*:*"},), (release("1"),))
    twin = Product("twin", "twin", "nic", "dotted", ({"software_id": "X"},), (release("1"),))
    assert catalogs(wide, narrow).match("m", card).product is narrow
    tie = catalogs(wide, twin).match("m", card)
    assert tie.product is None and tie.reason == "fits twin and wide equally well"
    assert catalogs(wide).match("m", component("n", "Y", "1")).reason == "no catalog lists it"


def test_d2_the_latest_issue_that_names_the_model_counts():
    def issue(name, day, models, version):
        return Issue(
            maker="c", catalog="c", issue=name, issued=datetime.date(2026, day, 1), models=models,
            products=(product("bios", release(version)),),
        )  # fmt: skip

    both = Catalogs((issue("new", 11, ("Reed 14",), "3.0"), issue("old", 9, ("Reed 12", "Reed 14"), "2.0")))
    targets = {
        model: locate(Server(name="s", model=model, components=(component("b", "bios", "1.0"),)), both, (), DAY)[
            0
        ].target.version
        for model in ("Reed 12", "Reed 14")
    }
    assert targets == {"Reed 12": "2.0", "Reed 14": "3.0"}


def test_equal_servers_share_a_signature_and_the_list_counts_what_is_fitted():
    parts = (component("b", "bios", "1.0"),)
    servers = [Server(name=n, model="m", components=parts) for n in ("a", "b")]
    standings = assess_fleet(servers, catalogs(BIOS), FIXED_RULES, DAY)
    assert standings[0].signature == standings[1].signature and standings[0].route is standings[1].route
    (line,) = list_baseline([fold.placed for fold in fold_fleet(standings)])
    assert (line.fitted, line.target.version, line.servers, line.names) == (2, "1.2", 2, ("a", "b"))


versions = st.sampled_from(["0.9", "1.0", "1.05", "1.1", "1.15", "1.2", "1.3", "odd", ""])


@given(st.lists(st.tuples(versions, st.sampled_from([None, "1.1", "1.2"]), st.booleans()), min_size=1, max_size=30))
def test_the_arrays_agree_with_a_plain_loop(rows):
    parts = [component(f"s{i}", "bios", version or None, waiting) for i, (version, waiting, _) in enumerate(rows)]
    stranded = [lost for _, _, lost in rows]
    found = positions([BIOS], parts, ())
    result = judge(build_columns(found, stranded))
    for (version, waiting, lost), verdict, behind in zip(rows, result.verdict, result.behind, strict=True):
        assert Verdict(int(verdict)) is plainly(version, waiting, lost)
        key = BIOS.key(version)
        expected = sum(1 for r in BIOS.ordered if key is not None and BIOS.key(r.version) > key)
        assert int(behind) == (expected if version and key is not None else 0)


def plainly(version: str, waiting: str | None, lost: bool) -> Verdict:
    """The precedence, read out loud."""
    if not version:
        return Verdict.UNREAD
    key = BIOS.key(version)
    if waiting and waiting != version:
        return Verdict.PENDING
    if key is None:
        return Verdict.UNORDERED
    if key == BIOS.key("1.2"):
        return Verdict.LEVEL
    if key > BIOS.key("1.2"):
        return Verdict.AHEAD
    if lost:
        return Verdict.STRANDED
    return Verdict.EXPOSED if key < BIOS.key("1.1") else Verdict.BEHIND
