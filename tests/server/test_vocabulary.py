"""What the page is built with: every verdict, kind and cause that there is has its words."""

from __future__ import annotations

from ordnung.controllers.errors import CAUSES
from ordnung.core.components import KINDS
from ordnung.core.drift import OFF_BASELINE, Verdict
from ordnung.server.vocabulary import vocabulary


def test_nothing_is_left_out():
    words = vocabulary()
    assert {v["word"] for v in words["verdicts"]} == {verdict.word for verdict in Verdict}
    assert {k["kind"] for k in words["kinds"]} == set(KINDS)
    assert words["causes"].keys() == CAUSES.keys()
    assert all(v["says"] for v in words["verdicts"]) and all(k["letter"] and k["name"] for k in words["kinds"])


def test_what_is_off_is_what_the_core_counts_and_the_worst_stands_last():
    words = vocabulary()["verdicts"]
    assert {v["word"] for v in words if v["off"]} == {verdict.word for verdict in OFF_BASELINE}
    assert (words[0]["word"], words[-1]["word"]) == ("level", "exposed")
