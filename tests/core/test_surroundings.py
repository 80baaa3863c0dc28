"""What is otherwise around the firmware, and what of it matters: a table of pairs of readings."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.components import Component, Server
from ordnung.core.facts import Facts
from ordnung.core.surroundings import find_changes_around


def server(card: str | None = None, **facts) -> Server:
    nic = Component(slot="nic-1", kind="nic", name="A card", version="1", health=card)
    return Server(name="surge-01", model="Reed", components=(nic,), facts=Facts(**facts) if facts else None)


ORDER = {"boot_order": ("Volume 1", "Network")}
TURNED = {"boot_order": ("Network", "Volume 1")}

STORIES = [
    # what, before, after, announced, sentences
    ("the same", {"health": "OK", **ORDER}, {"health": "OK", **ORDER}, (), []),
    ("health is better", {"power": "On", "health": "Warning"}, {"power": "On", "health": "OK"}, (), []),
    ("an input is lost", {"feeds_lost": ()}, {"feeds_lost": ("psu-2",)}, (), ["psu-2 has no input any more"]),
    ("an input was lost before", {"feeds_lost": ("psu-2",)}, {"feeds_lost": ("psu-2",)}, (), []),
    (
        "a volume is degraded",
        {"volumes": (("V1", "OK"),)}, {"volumes": (("V1", "Degraded"),)}, (), ["V1 was OK and is Degraded"],
    ),
    ("a volume is gone", {"volumes": (("V1", "OK"), ("V2", "OK"))}, {"volumes": (("V2", "OK"),)}, (), ["V1 is gone"]),
    ("it was degraded before", {"volumes": (("V1", "Degraded"),)}, {"volumes": (("V1", "Warning"),)}, (), []),
    ("volumes are told no more", {"volumes": (("V1", "OK"),)}, {"power": "On"}, (), []),
    ("a link is gone", {"links": (("p1", "up"),)}, {"links": (("p1", "down"),)}, (), ["p1 has no link any more"]),
    ("a link has come", {"links": (("p1", "down"),)}, {"links": (("p1", "up"),)}, (), []),
    ("links are announced", {"links": (("p1", "up"),)}, {"links": (("p1", "down"),)}, ("links",), []),
    ("another order", ORDER, TURNED, (), ["it started from Volume 1, then Network; now from Network, then Volume 1"]),
    ("an order that is announced", ORDER, TURNED, ("boot order",), []),
    ("no order is told", ORDER, {"power": "On"}, (), []),
    ("a setting", {"settings": (("A", "1"),)}, {"settings": (("A", "2"),)}, (), ["the setting A was 1 and is 2"]),
    ("a setting that is announced", {"settings": (("A", "1"),)}, {"settings": (("A", "2"),)}, ("setting A",), []),
    (
        "a setting that waited", {"settings": (("A", "1"),), "settings_waiting": (("A", "2"),)},
        {"settings": (("A", "2"),)}, (), [],
    ),
    (
        "a setting that waited for something else", {"settings": (("A", "1"),), "settings_waiting": (("A", "3"),)},
        {"settings": (("A", "2"),)}, (), ["the setting A was 1 and is 2"],
    ),
    ("a new setting", {"settings": ()}, {"settings": (("A", "2"),)}, (), []),
    ("a setting told no more", {"settings": (("A", "1"),)}, {"settings": ()}, (), []),
]  # fmt: skip


@pytest.mark.parametrize(("what", "before", "after", "announced", "told"), STORIES, ids=[s[0] for s in STORIES])
def test_what_matters_is_told(what, before, after, announced, told):
    assert find_changes_around(server(**before), server(**after), frozenset(announced)) == told


def test_a_component_that_is_worse_explains_the_servers_health():
    before, after = server("OK", health="OK"), server("Critical", health="Critical")
    assert find_changes_around(before, after) == ["the health of A card in nic-1 was OK and is Critical"]
    assert find_changes_around(server(health="OK"), server(health="Critical")) == [
        "the health of the server was OK and is Critical"
    ]


def test_who_tells_nothing_is_held_to_nothing():
    assert find_changes_around(server("OK"), server("OK", health="Critical")) == []
    assert find_changes_around(server(health="OK"), server(None)) == []


pairs = st.dictionaries(st.sampled_from("abc"), st.sampled_from(("up", "down", "OK", "x"))).map(
    lambda told: tuple(told.items())
)
facts = st.builds(
    Facts,
    health=st.sampled_from((None, "OK", "Warning", "Critical", "?")),
    volumes=pairs, links=pairs, settings=pairs,
    boot_order=st.lists(st.sampled_from("abc"), unique=True).map(tuple),
    feeds_lost=st.lists(st.sampled_from("ab"), unique=True).map(tuple),
)  # fmt: skip


@given(facts)
def test_nothing_is_otherwise_than_itself(told):
    one = Server(name="x", model="", facts=told)
    assert find_changes_around(one, one) == []
