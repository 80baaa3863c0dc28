"""What the core answers at its edges: nothing to name, nothing to order, twice the same question."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.core import catalog as catalog_module
from ordnung.core.advisories import assess
from ordnung.core.assessment import Memory, assess_fleet
from ordnung.core.away import Refusal
from ordnung.core.catalog import Payload
from ordnung.core.components import Server
from ordnung.core.drift_rows import drift_rows, total_rows
from ordnung.core.effect import CostMemory, compare_baselines
from ordnung.core.folds import fold_fleet
from ordnung.core.foresee import foresee
from ordnung.core.listing import list_baseline
from ordnung.core.matching import Catalogs
from ordnung.core.merge import HostDevice, HostReport, merge_host_report
from ordnung.core.packing import Trim, plan_packing
from ordnung.core.releases import compare_issues
from ordnung.core.route import Round, Write
from ordnung.core.rule_check import check_rules, fit_together
from ordnung.core.rules import FIXED_RULES, Rule, decide_target
from ordnung.core.sheet import has_outage, name_payloads
from ordnung.core.trimmed import find_losses
from tests.core.houses import DAY, REBOOT, catalogs, component, positions, product, release
from tests.core.test_advisories import advisory
from tests.core.test_matching import NOVEMBER, SEPTEMBER
from tests.core.test_packing_and_places import old_server

NOON = datetime.datetime(2026, 11, 23, 12, tzinfo=datetime.UTC)
PAYLOAD = Payload(path="bios-2", size=10, sha256="a" * 64)
BIOS = product("bios", release("1.0"), release("2.0", payload=PAYLOAD))


def servers(*versions: str, **facts) -> list[Server]:
    return [
        Server(name=f"s{n}", model="m", components=(component("bios", "bios", version),), **facts)
        for n, version in enumerate(versions)
    ]


def test_an_advisory_that_names_nothing_says_so():
    assert assess(advisory(), (), catalogs(BIOS)).reason == "it names no product"


def test_where_nobody_may_be_away_no_holder_is_named():
    refusal = Refusal(limit="rack", name="B07", allowed=0, holders=())
    assert str(refusal) == "nobody of rack B07 may be away"
    assert str(Refusal(limit="server", name="s1", allowed=1, holders=("s1",))) == "another run works on s1"


def test_a_catalog_remembers_only_so_many_versions_that_servers_told(monkeypatch):
    monkeypatch.setattr(catalog_module, "MANY_VERSIONS", 2)
    keys = [BIOS.key(f"1.{n}") for n in range(6)]
    assert keys == sorted(keys) and BIOS.key("1.0") == keys[0]


def test_a_component_is_found_by_its_slot():
    server = servers("1.0")[0]
    assert server.component("bios") is server.components[0] and server.component("fan") is None


def test_of_a_product_without_any_release_that_can_be_ordered_nothing_is_wanted_or_missed():
    odd = product("bios", release("spring"), release("summer"))
    (standing,) = assess_fleet(servers("1.0"), catalogs(odd), FIXED_RULES, DAY)
    (drift,) = standing.drift
    assert (drift.verdict.word, drift.target, drift.fixes_beyond) == ("unordered", None, ())
    target = decide_target(standing.server, odd, FIXED_RULES, DAY)
    assert (target.version, target.reason) == (None, "no release of this product can be ordered")
    rows = drift_rows(standing)
    assert rows[0]["since"] is None and total_rows(rows) == {"unordered": 1}


def test_the_same_effect_is_told_when_asked_again_of_the_same_house():
    folds = fold_fleet(assess_fleet(servers("1.0", "2.0"), catalogs(BIOS), FIXED_RULES, DAY))
    memory, hold = CostMemory(), (Rule(do="hold", where={"server": ("s0",)}),)
    first, again = (compare_baselines(folds, None, (catalogs(BIOS), hold), DAY, memory) for _ in range(2))
    assert first == again and first.before.off == 1 and first.after.held == 1
    assert {change.before for change in first.changes} == {"2.0"}


def test_what_no_catalog_lists_is_in_no_line_of_the_baseline_and_changes_in_no_effect():
    parts = (component("bios", "bios", "1.0"), component("card", "nobody-knows", "3", waiting="4"))
    folds = fold_fleet(assess_fleet([Server(name="s", model="m", components=parts)], catalogs(BIOS), (), DAY))
    effect = compare_baselines(folds, None, (catalogs(BIOS), (Rule(do="hold"),)), DAY, CostMemory())
    assert {change.product for change in effect.changes} == {"bios"}
    assert [line.product.id for line in list_baseline(effect.placed)] == ["bios"]
    chosen = catalogs(BIOS).following({("m", "Corvane", "c"): "1"})
    assert chosen.products() == catalogs(BIOS).products()


def test_servers_that_share_a_reading_fold_without_being_compared():
    standing = assess_fleet(servers("1.0"), catalogs(BIOS), FIXED_RULES, DAY)[0]
    twin = dataclasses.replace(standing, server=dataclasses.replace(standing.server, name="twin"))
    assert [fold.names for fold in fold_fleet([standing, twin, standing])] == [("s0", "twin", "s0")]
    apart = assess_fleet(servers("1.0"), catalogs(BIOS), FIXED_RULES, DAY)[0]
    assert apart.signature is not standing.signature
    assert [fold.names for fold in fold_fleet([standing, apart])] == [("s0", "s0")]


def test_parts_without_a_software_id_and_those_that_tell_a_state_are_not_guessed_at():
    controller = product("controller", release("1.0"), release("1.30"), kind="controller")
    card = dataclasses.replace(product("raid", release("7.1")), kind="raid", fits=({"part": "R-1"},))
    old = old_server()
    failed = dataclasses.replace(old.components[1], state="Failed")
    server = dataclasses.replace(old, components=(old.components[0], failed, *old.components[2:]))
    lists = catalogs(controller, BIOS, card)
    (standing,) = assess_fleet([server], lists, FIXED_RULES, DAY)
    later = foresee(server, standing.positions, lists)
    assert later is not None and later.component("b") == failed
    assert later.component("r").software_id is None and later.component("r").updateable


def test_a_host_report_adds_beside_what_another_report_told_and_keeps_serials_apart():
    told = dataclasses.replace(component("nic.1", "nic", "1.0", serial="A1"), kind="nic", name="NIC")
    before = Server(name="s", model="m", components=(told,))
    device = HostDevice(kind="nic", name="NIC", version="2.0", serial="B2")
    report = HostReport(taken_at=NOON, host="s", devices=(device,))
    after = merge_host_report(before, report)
    assert after.component("nic.1") == told and len(after.components) == 2
    again = merge_host_report(after, report)
    assert again.components[: len(after.components)] == after.components


def test_a_bios_is_the_servers_one_bios_whatever_either_side_calls_it():
    parts = (dataclasses.replace(component("bios", "bios", None), name="System ROM"),)
    device = HostDevice(kind="bios", name="Firmware of the board", version="2.0")
    report = HostReport(taken_at=NOON, host="s", devices=(device,))
    after = merge_host_report(Server(name="s", model="m", components=parts), report)
    assert [(part.slot, part.version) for part in after.components] == [("bios", "2.0")]


def test_issues_with_the_same_releases_differ_in_nothing():
    assert compare_issues(SEPTEMBER, SEPTEMBER) == ()
    changed = dataclasses.replace(NOVEMBER, products=(BIOS,))
    told = {(c.change, c.name, c.detail) for c in compare_issues(NOVEMBER, changed) if c.what == "release"}
    assert told == {("added", "bios 1.0", ""), ("changed", "bios 2.0", "payload"), ("dropped", "bios 3.0", "")}


def test_a_rule_for_what_is_not_fitted_finds_nothing():
    folds = fold_fleet(assess_fleet(servers("1.0"), catalogs(BIOS), FIXED_RULES, DAY))
    fittings = fit_together(folds, (), {})
    nobody = Rule(do="hold", where={"product": ("nic",)})
    (finding,) = check_rules(fittings, (nobody,), DAY)
    assert finding.matches == 0


WRITE = Write(slot="bios", product="bios", source="1.0", to="2.0", seconds=60)


@pytest.mark.parametrize(
    ("write", "digest"),
    [
        (WRITE, PAYLOAD.sha256),
        (dataclasses.replace(WRITE, to="1.0"), None),
        (dataclasses.replace(WRITE, product="nic"), None),
        (dataclasses.replace(WRITE, slot="fan"), None),
    ],
    ids=["as the issue lists it", "a release without bytes", "another product", "a slot that is not there"],
)
def test_a_write_names_the_bytes_of_the_issue_that_its_component_matched_or_none(write, digest):
    step = Round(writes=(write,), reset=REBOOT, reset_seconds=200)
    rounds = name_payloads([step], positions([BIOS], [component("bios", "bios", "1.0")]))
    payload = rounds[0].writes[0].payload
    assert (payload.sha256 if payload else None) == digest
    assert has_outage(rounds) and rounds[0].reset_seconds == 200
    assert not has_outage(name_payloads([dataclasses.replace(step, reset=None)], ()))


def test_what_could_not_move_before_is_not_lost_by_leaving_something_out():
    """Two equal servers whose NIC is stranded anyhow; leaving out the BIOS costs each its BIOS and no more."""
    nic = product("nic", release("1.0"), release("3.0", direct_from="2.0"), kind="nic")
    parts = (component("bios", "bios", "1.0"), component("nic", "nic", "1.0"))
    house = [Server(name=name, model="m", components=parts) for name in ("a", "b")]
    standings = assess_fleet(house, catalogs(BIOS, nic), FIXED_RULES, DAY)
    assert find_losses(standings, plan_packing(standings)) == ()
    lines = plan_packing(standings, [Trim(by="kind", value="bios"), Trim(by="reason", value="way back")])
    assert {(loss.what, loss.product, loss.servers) for loss in find_losses(standings, lines)} == {
        ("stays", "bios", ("a", "b"))
    }


def test_a_route_is_worked_out_once_for_all_that_are_in_one_state_whatever_the_day():
    catalogs, server = Catalogs(()), Server(name="s", model="m")
    memory = Memory()
    first = assess_fleet([server], catalogs, (), datetime.date(2026, 11, 1), memory)
    second = assess_fleet([server], catalogs, (), datetime.date(2026, 11, 2), memory)
    assert first[0].route is second[0].route and len(memory.routes) == 1 and len(memory.states) == 2
