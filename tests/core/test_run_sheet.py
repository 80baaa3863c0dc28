"""In what two sheets differ, told in words, and what an approval still covers (P4)."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.run_sheet import compare_sheets, only_leaves_out
from tests.core.sheets import CHANGES, a_server, a_sheet


@pytest.mark.parametrize("change", CHANGES.values(), ids=CHANGES.keys())
def test_any_change_is_told_and_is_more_than_leaving_out(change):
    sheet = a_sheet()
    changed = change(sheet)
    found = compare_sheets(sheet, changed)
    assert found and all(d.before != d.after for d in found)
    assert compare_sheets(changed, changed) == () and not only_leaves_out(sheet, changed)


def test_who_was_left_out_or_came_is_told_and_leaving_out_is_all_that_an_approval_bears():
    sheet = a_sheet()
    fewer = dataclasses.replace(sheet, servers=sheet.servers[:1])
    assert only_leaves_out(sheet, fewer) and not only_leaves_out(fewer, sheet)
    assert only_leaves_out(sheet, sheet) and not only_leaves_out(sheet, dataclasses.replace(sheet, servers=()))
    assert [(d.server, d.what, d.after) for d in compare_sheets(sheet, fewer)] == [("b", "server", "not on it")]
    assert [(d.server, d.before) for d in compare_sheets(fewer, sheet)] == [("b", "not on it")]


def test_differences_are_told_in_the_words_of_the_page():
    sheet = a_sheet(a_server("a"), windows=None)
    told = {d.what: (d.before, d.after) for name, change in CHANGES.items() if name in ("wait", "at once", "speed")
            for d in compare_sheets(sheet, change(sheet))}  # fmt: skip
    assert told["waves"] == ("canary, then 1 min, then a person", "canary, then 1.01667 min, then a person")
    assert told["servers at once"] == ("8", "9")
    assert told["the link"] == ("4 transfers, not known", "4 transfers, 10 bytes a second")
