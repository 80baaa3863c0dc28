"""Version order: one sorted list a scheme, and the properties of a total order."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.versions import is_at_least, is_equal, version_key

DOTTED = (
    ["0"], ["1.0-alpha"], ["1.0-alpha.1"], ["1.0-alpha.beta"], ["1.0-beta"], ["1.0-beta.2"], ["1.0-beta.11"],
    ["1.0-rc.1"], ["1.0-rc10"], ["1.0-rc2", "1.0rc2"], ["1.0", "1", "v1.0.0", "V1", " 1.0 ", "1.0+b7"],
    ["1.2a", "1.2-a"], ["1.2", "1.2+b7", "01.02"], ["2.9"], ["2.10"], ["24.2", "24.02"], ["24.2.8"],
)  # fmt: skip
LETTER = (["A1", "a01"], ["A07", "A7"], ["A12"], ["B01"], ["B2"])
DATED = (["26.10"], ["20261031", "2026.10.31"], ["26.11"], ["20261101"], ["2026.11.07"], ["26.12"])


@pytest.mark.parametrize(("scheme", "ladder"), [("dotted", DOTTED), ("letter", LETTER), ("dated", DATED)])
def test_each_rung_is_equal_in_itself_and_below_the_next(scheme, ladder):
    for (low, lower), (high, higher) in itertools.combinations(enumerate(ladder), 2):
        assert low < high
        for one, other in itertools.product(lower, higher):
            assert version_key(scheme, one) < version_key(scheme, other), (one, other)
    for rung in ladder:
        assert len({version_key(scheme, name) for name in rung}) == 1


@pytest.mark.parametrize(
    ("scheme", "text"),
    [
        ("dotted", "1..2"), ("dotted", "1.2-"), ("dotted", "1.2+"), ("dotted", "1."), ("dotted", ""), ("dotted", "1 2"),
        ("dotted", "\u0661.2"), ("dotted", "x1"), ("dotted", "1.2_3"), ("letter", "A"), ("letter", "AB1"),
        ("letter", "A1b"), ("letter", "7"), ("dated", "2026.13.01"), ("dated", "20260230"), ("dated", "26.00"),
        ("dated", "2026.1.1"), ("dated", "20260100"), ("listed", "x"),
    ],
)  # fmt: skip
def test_what_does_not_parse_is_unordered(scheme, text):
    assert version_key(scheme, text, ("1", "2")) is None
    assert not is_at_least(scheme, text, "1.0", ("1", "2"))


def test_unordered_versions_are_equal_only_as_strings():
    assert is_equal("dotted", "weird one", "weird one ")
    assert not is_equal("dotted", "weird one", "weird-one")
    assert is_at_least("letter", "?", "?")


def test_listed_follows_the_list_alone():
    assert version_key("listed", "GX04", ("GX09", "GX04")) > version_key("listed", "GX09", ("GX09", "GX04"))


def test_an_unknown_scheme_is_an_error_not_a_guess():
    with pytest.raises(ValueError, match="unknown version scheme"):
        version_key("roman", "IV")


dotted = st.from_regex(
    r"[vV]?[0-9]{1,3}(\.[0-9]{1,3}){0,3}(-[0-9a-zA-Z]{1,3}(\.[0-9a-zA-Z]{1,3}){0,2})?(\+[0-9a-z]{1,3})?",
    fullmatch=True,
)


@given(dotted, dotted, dotted)
def test_dotted_is_a_total_order(one, two, three):
    a, b, c = (version_key("dotted", v) for v in (one, two, three))
    assert (a < b) + (a == b) + (a > b) == 1
    if a <= b and b <= c:
        assert a <= c


@given(st.text(max_size=12))
def test_no_text_makes_a_key_that_differs_when_trimmed(text):
    for scheme in ("dotted", "letter", "dated"):
        assert version_key(scheme, text) == version_key(scheme, f" {text}\t")
