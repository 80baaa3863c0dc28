"""What is left out of a repository, what that saves, and what it costs the servers."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.assessment import assess_fleet
from ordnung.core.components import Server
from ordnung.core.media import BLOCK, MEDIA, TooLargeError, spread
from ordnung.core.packing import Trim, kept, offer_trims, plan_packing
from ordnung.core.rules import FIXED_RULES
from ordnung.core.trimmed import find_losses
from ordnung.core.way_back import after_updates, list_ways_back
from tests.core.houses import DAY, catalogs, component, product, release

BIOS = product(
    "bios", release("2.1.0"), release("2.4.1"), release("3.2.0", direct_from="2.4.1", needs={"bmc": "5.30.0"})
)
BMC = product("bmc", release("5.10.0"), release("5.30.0"), kind="controller")
RAID = product("raid", release("7.1"), release("7.2"), kind="raid")


def house(*models: str):
    """One server of each model, all behind with everything."""
    servers = [
        Server(
            name=f"s-{model}", model=model,
            components=(component("b", "bios", "2.1.0"), component("m", "bmc", "5.10.0"), component("r", "raid", "7.1")),
        )
        for model in models
    ]  # fmt: skip
    return assess_fleet(servers, catalogs(BIOS, BMC, RAID), FIXED_RULES, DAY)


def names(lines):
    return {line.name for line in lines}


def losses(standings, *trims):
    return [(x.what, x.product, x.version) for x in find_losses(standings, plan_packing(standings, trims))]


def test_a_trim_by_kind_leaves_out_and_is_named_on_the_line():
    kind = Trim(by="kind", value=RAID.kind)
    lines = plan_packing(house("one"), [kind])
    assert {line.trimmed for line in lines} == {(), (kind,)}
    assert all(line.trimmed for line in lines if line.product.kind == RAID.kind)


def test_a_trim_by_model_leaves_what_other_models_need():
    standings = house("one", "two")
    assert names(kept(plan_packing(standings, [Trim(by="model", value="one")]))) == names(plan_packing(standings))
    assert all(line.servers == ("s-two",) for line in kept(plan_packing(standings, [Trim(by="model", value="one")])))
    both = [Trim(by="model", value=m) for m in ("one", "two")]
    assert kept(plan_packing(standings, both)) == ()


def test_ways_back_can_be_left_out_and_are_missed():
    standings = house("one")
    back = Trim(by="reason", value="way back")
    assert ("bios", "2.1.0") not in names(kept(plan_packing(standings, [back])))
    assert {what for what, _, _ in losses(standings, back)} == {"no way back"}


def test_what_needs_something_left_out_is_stranded_by_it():
    standings = house("one")
    told = losses(standings, Trim(by="payload", value="bmc 5.30.0"))
    assert ("stays", "bmc", "5.30.0") in told and ("stranded", "bios", "3.2.0") in told
    assert not any(product == "raid" for _, product, _ in told)


def test_a_must_stop_left_out_keeps_the_component_where_it_is():
    (one,) = find_losses(house("one"), plan_packing(house("one"), [Trim(by="payload", value="bios 2.4.1")]))
    assert (one.what, one.why, one.servers) == ("stays", "its must stop 2.4.1 is not packed", ("s-one",))


def test_nothing_left_out_costs_nothing():
    assert losses(house("one")) == []


def all_trims(standings):
    return [offer.trim for offer in offer_trims(plan_packing(standings), ())]


@given(st.data())
def test_savings_are_what_comes_back_when_the_trim_is_taken_away(data):
    """Against the plain way: pack with and without it, and compare the sums."""
    standings = house(*data.draw(st.lists(st.sampled_from(["one", "two", "three"]), unique=True, min_size=1)))
    every = all_trims(standings)
    trims = data.draw(st.lists(st.sampled_from(every), unique=True, max_size=3))
    for offer in offer_trims(plan_packing(standings, trims), trims):
        others = [t for t in trims if t != offer.trim]
        without, having = (names(kept(plan_packing(standings, t))) for t in (others, [*others, offer.trim]))
        assert offer.payloads == len(without - having) and offer.made == (offer.trim in trims)


@pytest.mark.exhaustive
@given(st.data())
def test_what_is_kept_is_needed_by_someone_and_the_rest_by_nobody(data):
    standings = house("one", "two")
    trims = data.draw(st.lists(st.sampled_from(all_trims(standings)), unique=True, max_size=4))
    for line in plan_packing(standings, trims):
        left = [need for need in line.needs if not any(need.is_trimmed(trim) for trim in trims)]
        assert bool(left) == (not line.trimmed)


# Media.

sizes = st.lists(st.integers(1, 900), max_size=12).map(
    lambda found: [(f"f{n}", size * BLOCK) for n, size in enumerate(found)]
)


@given(sizes, st.integers(900, 4000))
def test_no_medium_is_ever_overfull_and_few_are_used(files, blocks):
    capacity = blocks * BLOCK
    found = spread(files, capacity)
    used = dict.fromkeys(range(1, found.count + 1), 0)
    for name, size in files:
        used[found.places[name]] += size
    assert tuple(used.values()) == found.filled and max(found.filled, default=0) <= capacity
    total = sum(size for _, size in files)
    fewest = max(1, -(-total // capacity))
    assert fewest <= found.count <= fewest * 11 / 9 + 2


@pytest.mark.exhaustive
@given(st.lists(st.integers(1, 9), min_size=1, max_size=5))
def test_against_every_possible_spread(parts):
    """First-fit decreasing is within 11/9 of the best, found here by trying all."""
    files = [(f"f{n}", size * BLOCK) for n, size in enumerate(parts)]
    found = spread(files, 10 * BLOCK)
    best = min(
        len(set(choice))
        for choice in itertools.product(range(len(parts)), repeat=len(parts))
        if all(sum(p for p, c in zip(parts, choice, strict=True) if c == n) <= 10 for n in set(choice))
    )
    assert best <= found.count <= best * 11 / 9 + 6 / 9


def test_what_must_lie_everywhere_is_counted_on_each():
    found = spread([("a", 4 * BLOCK), ("b", 4 * BLOCK)], 10 * BLOCK, everywhere=4 * BLOCK)
    assert found.filled == (8 * BLOCK, 8 * BLOCK)
    with pytest.raises(TooLargeError, match="seal, packing list and catalogs"):
        spread([], BLOCK, everywhere=2 * BLOCK)
    with pytest.raises(TooLargeError, match=r"large has .* bytes"):
        spread([("large", 9 * BLOCK)], 10 * BLOCK, everywhere=2 * BLOCK)


def test_without_a_limit_all_goes_on_one():
    assert spread([("a", 1), ("b", 10**12)], None).count == 1
    assert spread([], None).filled == (0,) and spread([], 10**6).count == 1


def test_media_are_listed_by_size():
    assert [size for _, size in MEDIA] == sorted(size for _, size in MEDIA)
    assert all(size % BLOCK == 0 or "stick" in name for name, size in MEDIA)


# Ways back.


def back_of(installed: str, banks: tuple[str, ...] = (), *releases):
    found = product("bios", *(releases or (release("1.0"), release("2.0"), release("3.0", floor_after="2.0"))))
    server = Server(name="s", model="m", components=(component("b", "bios", installed, banks=banks),))
    (standing,) = assess_fleet([server], catalogs(found), FIXED_RULES, DAY)
    return [(w.version, w.in_bank, bool(w.barred)) for w in list_ways_back(standing.positions[0])]


def test_ways_back_are_older_and_told_with_what_bars_them():
    assert back_of("3.0") == [("2.0", False, False), ("1.0", False, True)]
    assert back_of("2.0") == [("1.0", False, False)] and back_of("1.0") == []


def test_a_second_bank_counts_even_when_no_catalog_knows_its_version():
    assert back_of("3.0", ("3.0", "2.5")) == [("2.5", True, False), ("2.0", False, False), ("1.0", False, True)]
    assert back_of("2.0", ("3.0",)) == [("1.0", False, False)], "a newer bank is no way back"


@pytest.mark.parametrize("installed", [None, "no number at all"])
def test_what_can_not_be_ordered_goes_back_to_its_other_bank_only(installed):
    assert back_of(installed, ("2.5",)) == [("2.5", True, False)]


def test_after_updates_nothing_waits_and_no_bank_is_claimed():
    found = product("bios", release("1.0"), release("2.0"), release("3.0", floor_after="2.0"))
    parts = (component("b", "bios", "1.0", waiting="2.0", banks=("1.0", "0.9")), component("c", "bios", "1.0"))
    server = Server(name="s", model="m", components=parts)
    (standing,) = assess_fleet([server], catalogs(found), FIXED_RULES, DAY)
    first, second = after_updates(standing.positions, {"b": "3.0"})
    assert (first.component.version, first.component.waiting, first.component.banks) == ("3.0", None, ())
    assert second is standing.positions[1]
    assert [(w.version, bool(w.barred)) for w in list_ways_back(first)] == [("2.0", False), ("1.0", True)]
