"""Run sheets as files: the sum, who approved what, and what an approval still covers (P4)."""

from __future__ import annotations

import dataclasses
import json

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from hypothesis import given, settings
from hypothesis import strategies as st

from ordnung.core.night.limits import NightLimits
from ordnung.core.run_sheet import compare_sheets, only_leaves_out
from ordnung.formats.errors import FormatError
from ordnung.formats.sheet import Approval, SheetFile, approval_bytes, check_sheet, parse_sheet, sheet_sum, write_sheet
from tests.core.sheets import CHANGES, HANDS, NIGHT, a_server, a_sheet
from tests.fieldkit.test_commands import run

SITE_KEY = Ed25519PrivateKey.from_private_bytes(b"k" * 32)
KEY = SITE_KEY.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw).hex()


def approved(sheet, by="approver", key=SITE_KEY, was=None):
    of = sheet_sum(was or sheet)
    signature = key.sign(approval_bytes(of, by, NIGHT)).hex()
    public = key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw).hex()
    return Approval(by=by, at=NIGHT, sha256=of, key=public, signature=signature, sheet=was)


def a_file(sheet, *approvals):
    return SheetFile(
        site="Lowmere",
        number=4,
        name="Thursday",
        drafted_by="lead",
        sheet=sheet,
        sha256=sheet_sum(sheet),
        approvals=approvals,
    )


@pytest.mark.parametrize("change", CHANGES.values(), ids=CHANGES.keys())
def test_any_change_is_seen_told_and_ends_the_approval(change):
    sheet = a_sheet()
    changed = change(sheet)
    assert sheet_sum(changed) != sheet_sum(sheet)
    assert [d for d in compare_sheets(sheet, changed) if d.before != d.after]
    assert not only_leaves_out(sheet, changed)
    file = dataclasses.replace(a_file(changed), approvals=(approved(sheet),))
    assert check_sheet(file, KEY) == ("The approval of approver: given for another sheet.",)
    forged = dataclasses.replace(a_file(changed), approvals=(approved(sheet, was=sheet),))
    assert "more was changed" in check_sheet(forged, KEY)[0]


def test_leaving_servers_out_keeps_the_approval_and_the_file_shows_from_what():
    sheet = a_sheet()
    fewer = dataclasses.replace(sheet, servers=sheet.servers[:1])
    assert only_leaves_out(sheet, fewer) and not only_leaves_out(fewer, sheet)
    assert not only_leaves_out(sheet, dataclasses.replace(sheet, servers=()))
    assert [(d.server, d.what, d.after) for d in compare_sheets(sheet, fewer)] == [("b", "server", "not on it")]
    assert [(d.server, d.before) for d in compare_sheets(fewer, sheet)] == [("b", "not on it")]
    read = parse_sheet(write_sheet(a_file(fewer, approved(fewer, was=sheet))))
    assert check_sheet(read, KEY) == () and read.approvals[0].sheet == sheet


def test_an_approval_is_held_to_who_signed_it_who_drafted_it_and_the_very_sheet():
    sheet = a_sheet()
    assert check_sheet(a_file(sheet), KEY) == ("Nobody has approved it.",)
    assert check_sheet(a_file(sheet, approved(sheet)), KEY) == check_sheet(a_file(sheet, approved(sheet))) == ()
    stranger = Ed25519PrivateKey.from_private_bytes(b"x" * 32)
    assert "another key" in check_sheet(a_file(sheet, approved(sheet, key=stranger)), KEY)[0]
    assert "can't approve" in check_sheet(a_file(sheet, approved(sheet, by="lead")), KEY)[0]
    taken = dataclasses.replace(approved(sheet), by="somebody")
    assert "signature does not hold" in check_sheet(a_file(sheet, taken), KEY)[0]
    altered = dataclasses.replace(a_file(sheet, approved(sheet)), sha256="0" * 64)
    assert "changed after it was given out" in check_sheet(altered, KEY)[0]


names = st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), min_size=1, max_size=12)


@given(st.lists(names, unique=True, min_size=1, max_size=4), st.randoms(use_true_random=False), names)
@settings(max_examples=60, deadline=None)
def test_a_sheet_is_the_same_when_it_comes_back_and_in_whatever_order_it_came_about(found, dice, word):
    servers = [a_server(name, group=word, overrides={word: word}, back={word: "1"}, hands=(HANDS,)) for name in found]
    sheet = a_sheet(*servers, limits=NightLimits(racks={word: 2, "z": 1}))
    dice.shuffle(servers)
    shuffled = a_sheet(*servers, limits=NightLimits(racks={"z": 1, word: 2}))
    assert sheet_sum(shuffled) == sheet_sum(sheet)
    read = parse_sheet(write_sheet(a_file(sheet, approved(sheet))))
    assert sheet_sum(read.sheet) == read.sha256 and compare_sheets(read.sheet, sheet) == ()


def test_a_file_that_is_no_sheet_is_refused_with_its_place():
    body = json.loads(write_sheet(a_file(a_sheet())))
    for change, place in (
        (lambda b: b["sheet"]["servers"][0].update(surprise=1), "sheet"),
        (lambda b: b["sheet"]["servers"][0].update(not_before="tonight"), "not_before"),
        (lambda b: b["sheet"]["servers"][0].update(not_before="0001-01-01T00:00:00+14:00"), "not_before"),
        (lambda b: b["sheet"]["windows"][0].update(start="2026-11-26T22:00:00"), "windows"),
        (lambda b: b.update(sha256="short"), "sha256"),
    ):
        broken = json.loads(json.dumps(body))
        change(broken)
        with pytest.raises(FormatError) as refused:
            parse_sheet(json.dumps(broken).encode())
        assert place in str(refused.value)


def test_the_command_says_who_approved_it_or_what_speaks_against_it(tmp_path):
    sheet, path = a_sheet(), tmp_path / "sheet.json"
    path.write_bytes(write_sheet(a_file(sheet, approved(sheet)), {"timetable": {}, "forecast": None}))
    code, out, _ = run("sheet", "check", path, "--key", KEY)
    assert code == 0 and "Approved by approver, 2026-11-26 22:00 UTC." in out and "compare it" not in out
    code, out, _ = run("sheet", "check", path)
    assert code == 0 and f"The key is the file's own, {KEY}" in out
    path.write_bytes(write_sheet(a_file(sheet)))
    code, out, _ = run("sheet", "check", path, "--json")
    assert code == 1 and json.loads(out)["faults"] == ["Nobody has approved it."]
    code, out, _ = run("sheet", "check", path)
    assert code == 1 and "Nobody has approved it." in out
    path.write_text("{}")
    assert run("sheet", "check", path)[0] == 1
