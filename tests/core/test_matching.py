"""Which product, which issue: what each model follows, joined products, conflicts, ties, coverage."""

from __future__ import annotations

import dataclasses
import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.assessment import assess_fleet
from ordnung.core.catalog import Issue, Payload, Product
from ordnung.core.components import Component, Server
from ordnung.core.coverage import list_unlisted, tell_coverage
from ordnung.core.folds import fold_fleet
from ordnung.core.matching import Catalogs, find_ties
from ordnung.core.releases import compare_issues, find_conflicts, join_products
from ordnung.core.rules import FIXED_RULES
from tests.core.houses import DAY, component, product, release

NEW, OLD = "Reed 14", "Reed 12"


def issue(name: str, month: int, *products: Product, models=(), catalog="servers", maker="Corvane", signed="") -> Issue:
    day = datetime.date(2026, month, 1)
    return Issue(
        maker=maker, catalog=catalog, issue=name, issued=day, models=models, products=products, signed_by=signed
    )


SEPTEMBER = issue("9", 9, product("bios", release("1.0"), release("2.0")), models=(OLD, NEW))
NOVEMBER = issue("11", 11, product("bios", release("2.0"), release("3.0")), models=(NEW,))
CARDS = issue("6", 6, product("nic", release("1.0")), maker="Quorrin", catalog="cards")
ALL = (SEPTEMBER, NOVEMBER, CARDS)


def names(catalogs: Catalogs, model: str) -> list[str]:
    return [i.issue for i in catalogs.for_model(model)]


def test_each_model_follows_the_last_issue_that_covers_it():
    assert names(Catalogs(ALL), OLD) == ["9", "6"] and names(Catalogs(ALL), NEW) == ["11", "6"]


@pytest.mark.parametrize(
    ("chosen", "followed"),
    [("9", "9"), ("11", "11"), ("7", "11")],
    ids=["an older one", "the newest", "one that is not here"],
)
def test_a_chosen_issue_is_followed_if_it_is_here(chosen, followed):
    catalogs = Catalogs(ALL, {(NEW, "Corvane", "servers"): chosen, ("", "Quorrin", "cards"): "6"})
    assert names(catalogs, NEW) == [followed, "6"]


def test_what_was_decided_is_not_moved_by_a_catalog_that_comes_later():
    decided = Catalogs((SEPTEMBER, CARDS)).freeze([OLD, NEW, "Marsh 20"])
    assert decided["Marsh 20", "", ""] == ""
    drives = issue("10", 10, product("drive", release("1.0")), maker="Brevik", catalog="drives")
    marsh = issue("12", 12, models=("Marsh 20",), maker="Corvane", catalog="marsh")
    later = Catalogs((*ALL, drives, marsh), decided)
    assert names(later, NEW) == ["9", "6"] and names(later, "Marsh 20") == ["6"]
    assert names(later, "a model that came later") == ["6"]
    assert names(Catalogs((*ALL, marsh), {("x", "Corvane", "servers"): "9"}), "Marsh 20") == ["12"]


issue_names = st.sampled_from(["9", "11", "6"])


@given(
    st.dictionaries(
        st.sampled_from([(OLD, "Corvane", "servers"), (NEW, "Corvane", "servers"), ("", "Quorrin", "cards")]),
        issue_names,
    )
)
def test_freezing_changes_nothing_now_and_is_stable(follows):
    catalogs = Catalogs(ALL, follows)
    frozen = Catalogs(ALL, catalogs.freeze([OLD, NEW]))
    for model in (OLD, NEW):
        assert names(frozen, model) == names(catalogs, model)
    assert frozen.freeze([OLD, NEW]) == frozen.follows


def test_a_release_in_two_issues_is_one_and_keeps_its_place():
    joined = Catalogs(ALL).by_id["bios"]
    assert joined.listed == ("1.0", "2.0", "3.0")
    listed = [
        Product("d", "d", "drive", "listed", (), tuple(map(release, v)))
        for v in (["GX02", "GX04"], ["GX01", "GX02", "GX03"])
    ]
    assert join_products(listed).listed == ("GX01", "GX02", "GX03", "GX04")


versions = st.lists(st.integers(0, 9).map(lambda n: f"1.{n}"), unique=True).map(sorted)


@given(st.lists(versions, min_size=1, max_size=4))
def test_joining_keeps_order_and_loses_and_doubles_nothing(lists):
    parts = [product("p", *map(release, found)) for found in lists]
    joined = join_products(parts)
    assert list(joined.listed) == sorted({v for found in lists for v in found})
    assert joined.ordered == joined.releases


def with_payload(version: str, digit: str, **facts):
    return release(version, payload=Payload(path="a", size=1, sha256=digit * 64), **facts)


def test_a_release_that_changed_under_its_version_is_a_named_conflict():
    old = issue("9", 9, product("bios", with_payload("2.0", "a", notes="first")))
    noted = issue("10", 10, product("bios", with_payload("2.0.0", "a", notes="put right")))
    changed = issue("11", 11, product("bios", with_payload("2.0", "b", floor_after="1.0")))
    assert find_conflicts([old, noted]) == ()
    (found,) = find_conflicts([changed, old, noted])
    assert (found.product, found.older, found.newer, found.fields) == (
        "bios",
        "Corvane 10",
        "Corvane 11",
        ("payload", "floor_after"),
    )


def test_two_issues_are_compared_by_models_products_and_releases():
    told = [(c.what, c.change, c.name) for c in compare_issues(SEPTEMBER, NOVEMBER)]
    assert told == [("model", "dropped", OLD), ("release", "dropped", "bios 1.0"), ("release", "added", "bios 3.0")]
    assert compare_issues(NOVEMBER, NOVEMBER) == ()
    gone = compare_issues(NOVEMBER, dataclasses.replace(NOVEMBER, products=()))
    assert [(c.what, c.change) for c in gone] == [("product", "dropped")]


@pytest.mark.parametrize(
    ("one", "other", "ties"),
    [
        ({"software_id": "X"}, {"software_id": "X"}, True),
        ({"software_id": "X"}, {"software_id": "Y"}, False),
        ({"software_id": "X"}, {"software_id": "X", "model": "m"}, False),
        ({"pci": "ffe3:0025:*:*"}, {"pci": "FFE3:*:ffe3:0002"}, True),
        ({"pci": "ffe3:0025:*:*"}, {"pci": "ffe3:0100:*:*"}, False),
        ({"pci": "ffe3:*:*:*", "part": "a"}, {"pci": "ffe3:*:*:*", "part": "b"}, False),
    ],
)
def test_a_tie_is_found_before_any_component_meets_it(one, other, ties):
    found = find_ties(
        issue("1", 1, Product("a", "a", "nic", "dotted", (one,)), Product("b", "b", "nic", "dotted", (other,)))
    )
    assert [(t.one, t.other) for t in found] == ([("a", "b")] if ties else [])


hexes = st.sampled_from(["ffe3", "0025", "*"])
entries = st.tuples(hexes, hexes, hexes, hexes).map(":".join)
keys = st.sampled_from([{}, {"software_id": "X"}, {"software_id": "Y"}, {"model": "m"}])


@given(keys, entries, entries, st.tuples(*[st.sampled_from(["ffe3", "0025"])] * 4).map(":".join), st.sampled_from("XY"))
def test_no_component_ties_over_the_same_keys_where_no_tie_was_found(more, one, other, pci, software):
    fits = [({**more, "pci": one},), ({**more, "pci": other},)]
    both = issue("1", 1, Product("a", "a", "nic", "dotted", fits[0]), Product("b", "b", "nic", "dotted", fits[1]))
    card = Component(slot="n", kind="nic", name="n", version="1", software_id=software, pci=pci)
    if "equally well" in Catalogs((both,)).match("m", card).reason:
        assert find_ties(both)


def judged(*servers: Server):
    return fold_fleet(assess_fleet(servers, Catalogs(ALL), FIXED_RULES, DAY))


def test_coverage_names_the_dropped_the_uncovered_and_the_lists_for_all():
    lines = tell_coverage(
        {OLD: 3, NEW: 5, "Pellam 1160": 2},
        Catalogs(ALL, {(NEW, "Corvane", "servers"): "9", ("", "Quorrin", "cards"): "6"}),
    )
    told = {line.model: line for line in lines}
    assert (told[OLD].covered, told[OLD].followed, told[OLD].dropped_after) == (("9",), "9", "9")
    assert (told[NEW].covered, told[NEW].followed, told[NEW].chosen, told[NEW].dropped_after) == (
        ("9", "11"),
        "9",
        True,
        None,
    )
    assert (told[NEW].newest, told["Pellam 1160"].covered, told["Pellam 1160"].followed) == ("11", (), None)
    assert (told[""].maker, told[""].servers, told[""].followed) == ("Quorrin", 10, "6")


def test_what_no_catalog_lists_is_counted_by_kind():
    stray = Component(slot="n2", kind="nic", name="Stray", version="1", software_id="Z")
    folds = judged(
        *(Server(name=f"s{n}", model=NEW, components=(component("b", "bios", "3.0"), stray)) for n in range(3))
    )
    (line,) = list_unlisted(folds)
    assert (line.name, line.components, line.servers, line.reason) == (
        "Stray",
        3,
        ("s0", "s1", "s2"),
        "no catalog lists it",
    )


def test_equal_servers_fold_and_unread_ones_stay_alone():
    parts = (component("b", "bios", "2.0"),)
    folds = judged(
        Server(name="a", model=NEW, components=parts), Server(name="b", model=NEW, unread="refused"),
        Server(name="c", model=NEW, components=parts), Server(name="d", model=NEW, unread="refused"),
    )  # fmt: skip
    assert [fold.names for fold in folds] == [("a", "c"), ("b",), ("d",)]


def a_list(maker, issued, *products, signed_by="", catalog="list"):
    return Issue(
        maker=maker, catalog=catalog, issue=issued, issued=datetime.date.fromisoformat(issued), products=products,
        signed_by=signed_by,
    )  # fmt: skip


@pytest.mark.parametrize(
    ("first", "second", "owner"),
    [
        (a_list("Corvane", "2026-01-01"), a_list("Other", "2026-02-01"), "Corvane"),
        (a_list("Corvane", "2026-03-01", signed_by="k"), a_list("Other", "2020-01-01"), "Corvane"),
        (a_list("Corvane", "2026-01-01"), a_list("Other", "2026-01-01", catalog="x"), "Corvane"),
    ],
)
def test_a_product_is_its_makers_and_no_other_catalog_adds_to_it(first, second, owner):
    """An unsigned catalog of another maker once decided which bytes were sent."""
    mine = product("raid", release("1.0"), release("1.1"))
    theirs = product("raid", release("1.0"), release("1.1"), release("6.6.6"))
    first = dataclasses.replace(first, products=(mine,))
    second = dataclasses.replace(second, products=(theirs,))
    for issues in ((first, second), (second, first)):
        found = Catalogs(issues)
        assert found.owners == {"raid": owner}
        assert [r.version for r in found.by_id["raid"].releases] == ["1.0", "1.1"]
        match = found.match("m", component("r", "raid", "1.0"))
        assert match.issue is not None and match.issue.maker == owner


def test_what_a_house_follows_stays_the_owner_whatever_comes_later():
    mine = dataclasses.replace(a_list("Corvane", "2026-01-01"), products=(product("raid", release("1.0")),))
    later = a_list("Raidmaker", "2020-01-01", signed_by="key")
    later = dataclasses.replace(later, products=(product("raid", release("9.9")),))
    found = Catalogs((mine, later), {("", "Corvane", "list"): "2026-01-01"})
    assert found.owners == {"raid": "Corvane"}
