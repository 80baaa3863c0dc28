"""Ranges of versions against their plain meaning; statuses; which servers are affected and what ends it."""

from __future__ import annotations

import datetime
import fnmatch

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.advisories import Advisory, Range, Statement, _fits, _pieces, assess, status_of
from ordnung.core.assessment import assess_fleet
from ordnung.core.components import Server
from ordnung.core.folds import fold_fleet
from ordnung.core.rules import FIXED_RULES, Rule
from tests.core.houses import DAY, catalogs, component, product, release

BIOS = product("bios", *map(release, ("1.0", "2.0", "3.0", "4.0")))


def spell(text: str) -> Range:
    from ordnung.formats.csaf import parse_range

    found = parse_range(text)
    assert found is not None
    return found


@pytest.mark.parametrize(
    ("text", "inside", "outside"),
    [
        ("*", "0.1 9.9", ""),
        ("2.0", "2.0 2.0.0", "2.1 1.9"),
        ("<3.0", "1.0 2.9", "3.0 3.1"),
        ("<=3.0", "3.0", "3.0.1"),
        (">1.0|<3.0", "1.5 2.9", "1.0 3.0 0.5"),
        (">=1.0|<=1.5|>=3.0|<4.0", "1.0 1.5 3.9", "0.9 2.0 4.0"),
        ("<1.0|>=3.0|<4.0", "0.5 3.0", "1.0 2.0 4.0"),
        (">=3.0", "3.0 99.0", "2.9"),
        (">=1.0|!=2.0|<3.0", "1.0 2.1", "2.0 3.0"),
        ("!=2.0", "1.0 9.0", "2.0"),
        ("1.0|2.0|>=4.0", "1.0 2.0 4.0 5.0", "1.5 3.0"),
    ],
)
def test_ranges(text, inside, outside):
    found = spell(text)
    assert [v for v in inside.split() if found.holds(BIOS, v) is not True] == []
    assert [v for v in outside.split() if found.holds(BIOS, v) is not False] == []


def test_what_cannot_be_ordered_is_not_guessed():
    assert spell("<3.0").holds(BIOS, "odd") is None and spell("<odd").holds(BIOS, "1.0") is None
    assert spell("odd").holds(BIOS, "odd") is True


@given(st.lists(st.integers(0, 20), min_size=2, max_size=6, unique=True).map(sorted), st.integers(0, 20))
def test_intervals_against_their_plain_meaning(edges, version):
    edges = edges[: len(edges) // 2 * 2]
    pairs = list(zip(edges[::2], edges[1::2], strict=True))
    text = "|".join(f">={low}.0|<{high}.0" for low, high in pairs)
    assert spell(text).holds(BIOS, f"{version}.0") is any(low <= version < high for low, high in pairs)


def says(status: str, text: str, name="bios", **facts) -> Statement:
    return Statement(name=name, versions=spell(text), status=status, **facts)


def advisory(*statements: Statement) -> Advisory:
    day = datetime.datetime(2026, 10, 7, tzinfo=datetime.UTC)
    return Advisory(
        id="SA-1", publisher="Corvane", title="t", version="1", released=day, score=8.1, statements=statements
    )


@pytest.mark.parametrize(
    ("statements", "version", "status"),
    [
        ([says("affected", "<3.0"), says("fixed", ">=3.0")], "2.0", "affected"),
        ([says("affected", "<3.0"), says("fixed", ">=3.0")], "3.0", "fixed"),
        ([says("affected", "<3.0"), says("fixed", "<4.0")], "2.0", "affected"),
        ([says("affected", "2.0"), says("fixed", "3.0")], "1.0", "unknown"),
        ([says("affected", "2.0"), says("fixed", "3.0")], "4.0", "fixed"),
        ([says("affected", "<3.0")], "odd", "unknown"),
        ([says("open", "*")], "1.0", "open"),
        ([says("not affected", "*")], "1.0", "not affected"),
    ],
)
def test_the_gravest_status_that_holds_counts(statements, version, status):
    assert status_of(statements, BIOS, version) == status


def house(*versions: str, rules=FIXED_RULES):
    shop = catalogs(BIOS)
    servers = [Server(name=f"s{n}", model="m", components=(component("b", "bios", v),)) for n, v in enumerate(versions)]
    return fold_fleet(assess_fleet(servers, shop, rules, DAY)), shop


def test_who_is_affected_and_which_release_ends_it():
    folds, shop = house("1.0", "1.0", "3.0", "odd")
    told = assess(advisory(says("affected", "<3.0"), says("fixed", ">=3.0")), folds, shop)
    assert told.affected == ("s0", "s1", "s3") and told.reason == ""
    by_version = {c.version: c for c in told.concerns}
    assert (by_version["1.0"].ends, by_version["1.0"].within, by_version["1.0"].components) == ("3.0", True, 2)
    assert (by_version["odd"].status, by_version["odd"].ends, by_version["3.0"].status) == ("unknown", None, "fixed")


def test_a_baseline_below_the_end_is_told():
    folds, shop = house("1.0", rules=(Rule(do="pin", version="2.0"),))
    (concern,) = assess(advisory(says("affected", "<3.0"), says("fixed", ">=3.0")), folds, shop).concerns
    assert (concern.ends, concern.within) == ("3.0", False)


@pytest.mark.parametrize(
    ("statement", "matches"),
    [
        (says("affected", "*", name="BIOS"), True),
        (says("affected", "*", name="Corvane bios"), True),
        (says("affected", "*", name="bios", vendor="Corvane"), True),
        (says("affected", "*", name="bios", vendor="Tessaly"), False),
        (says("affected", "*", name="something", identifiers=("https://corvane.example/products/BIOS",)), True),
        (says("affected", "*", name="something", identifiers=("else",)), False),
    ],
)
def test_a_product_is_told_by_identifier_or_by_vendor_and_name(statement, matches):
    folds, shop = house("1.0")
    told = assess(advisory(statement), folds, shop)
    assert bool(told.concerns) is matches
    assert matches or told.reason == f"no catalog here lists {statement.name}"


def test_an_advisory_for_what_is_not_fitted_is_kept_with_the_reason():
    told = assess(advisory(says("affected", "*")), (), catalogs(BIOS))
    assert told.concerns == () and told.reason == "bios: in a catalog here, but fitted in no server"


@pytest.mark.parametrize(
    ("identifier", "status"),
    [
        ("BIO?", "affected"),
        ("*I*O*", "affected"),
        ("bios*", "affected"),
        ("?????", None),
        ("*x*", None),
        ("B*", "affected"),
        ("*", "affected"),
        ("R1?-X", None),
        ("BIO\\?", "unlisted"),
    ],
)
def test_a_model_number_with_marks_names_what_fits_it_and_is_no_all_clear_where_nothing_does(identifier, status):
    folds, shop = house("1.0")
    told = assess(advisory(says("affected", "*", name="unknown", identifiers=(identifier,))), folds, shop)
    if status == "affected":
        assert [c.status for c in told.concerns] == ["affected"] and not told.undecided
    else:
        assert told.concerns == () and told.undecided is (status is None)
        assert ("which no catalog here tells" in told.reason) is (status is None)


@given(st.text("ab*?", max_size=8), st.text("ab", max_size=8))
def test_marks_mean_what_they_mean_in_file_names(pattern, text):
    assert _fits(_pieces(pattern), text) is fnmatch.fnmatchcase(text, pattern)


def test_many_marks_cost_no_more_than_their_number():
    assert not _fits(_pieces("*a" * 60 + "x"), "a" * 200)
