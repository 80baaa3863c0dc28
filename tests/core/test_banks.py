"""When a way back is by the other bank, and what such a write brings."""

from __future__ import annotations

import pytest

from ordnung.core.catalog import Payload
from ordnung.core.route import Round, Write
from ordnung.core.sheet import SWITCH_S, name_payloads
from tests.core.houses import component, positions, product, release

FILE = Payload(path="p", size=4, sha256="ab" * 32)
BIOS = product("bios", release("1.0", payload=FILE), release("1.5"), release("2.0", payload=FILE))
BACK = Round(writes=(Write(slot="bios", product="bios", source="2.0", to="1.0", seconds=300.0),), reset="server reboot")


def planned(*, by_bank: bool = True, step: Round = BACK, **facts):
    facts = {"banks": ("2.0", "1.0"), "can_switch": True, **facts}
    found = positions([BIOS], [component("bios", "bios", "2.0", **facts)])
    return name_payloads([step], found, by_bank=by_bank)[0].writes[0]


def test_a_bank_that_holds_the_version_is_switched_to_and_nothing_is_sent():
    write = planned()
    assert (write.bank, write.payload, write.write.seconds, write.brings) == (True, None, SWITCH_S, "bank 1.0")


@pytest.mark.parametrize(
    "otherwise",
    [{"by_bank": False}, {"can_switch": False}, {"banks": ("2.0",)}, {"banks": ("2.0", "2.0")}, {"banks": ("2.0", "1.5")}],
    ids=["on the way up", "it can't be", "one bank", "both the same", "another version"],
)  # fmt: skip
def test_else_it_is_written(otherwise):
    write = planned(**otherwise)
    assert not write.bank and write.brings == FILE.sha256 and write.write.seconds == 300.0


def test_after_a_first_step_its_banks_hold_something_else():
    later = Round(writes=(Write(slot="bios", product="bios", source="1.5", to="1.0", seconds=300.0),), reset=None)
    assert not planned(step=later).bank


def test_what_no_catalog_has_a_file_for_and_what_is_not_there_brings_nothing():
    unnamed = Round(writes=(Write(slot="bios", product="bios", source="2.0", to="1.5", seconds=None),), reset=None)
    assert planned(step=unnamed).brings == ""
    gone = Round(writes=(Write(slot="raid", product="raid", source="2.0", to="1.0", seconds=None),), reset=None)
    assert planned(step=gone).brings == "" and not planned(step=gone).bank
