"""The checks of a whole sheet as one list: of one server the weightiest counts, what blocks comes first."""

from __future__ import annotations

import datetime

from ordnung.core.checks import Before, Outside, Situation
from ordnung.core.components import Server
from ordnung.core.facts import Facts
from ordnung.core.sheet_checks import check_situations

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)


def a_situation(name, will_reset=True, barred=(), **facts):
    server = Server(name=name, model="m", components=(), facts=Facts(**facts))
    outside = Outside(barred=barred)
    return Situation(server=server, before=Before.SHEET, now=NOW, will_reset=will_reset, outside=outside)


def test_equal_findings_of_many_servers_are_one_row_and_the_weightiest_of_a_server_counts():
    found = check_situations(
        [
            a_situation("b", power="Off"),
            a_situation("a", power="Off"),
            a_situation("c", will_reset=False, rebuilding=("V1",)),
            a_situation("c", rebuilding=("V1",)),
            a_situation("a", power="Off", barred=("bios can't go back",)),
            a_situation("d"),
        ],
        {},
    )
    told = [(row.check, row.severity.value, [s.server for s in row.servers]) for row in found]
    assert told == [("power", "block", ["a", "b"]), ("array", "block", ["c"]), ("way back", "warn", ["a"])]


def test_what_a_person_has_overridden_only_warns_and_says_why():
    (row,) = check_situations([a_situation("c", rebuilding=("V1",))], {"c": {"array": "agreed (lead)"}})
    assert (row.severity.value, row.remedy) == ("warn", "Overridden: agreed (lead)")
