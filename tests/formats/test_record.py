"""Records of runs as files: they come back as they went, and whatever is changed in one is seen."""

from __future__ import annotations

import dataclasses
import json

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from ordnung.formats.errors import FormatError
from ordnung.formats.record import check_record, parse_record, sign_record, write_record
from tests.core.records import a_record, a_server
from tests.fieldkit.test_commands import run

KEY = Ed25519PrivateKey.from_private_bytes(b"k" * 32)
OTHER = Ed25519PrivateKey.from_private_bytes(b"o" * 32)


def a_file():
    return sign_record("Lowmere", a_record(a_server("surge-01"), a_server("surge-02", "failed")), KEY)


def spoiled(change) -> bytes:
    document = json.loads(write_record(a_file()))
    change(document)
    return json.dumps(document).encode()


def test_a_record_comes_back_as_it_went_and_holds():
    file = a_file()
    assert parse_record(write_record(file)) == file
    assert check_record(file) == () and check_record(file, file.key) == ()
    assert write_record(file) == write_record(a_file()), "the same record, the same bytes"


def test_another_spelling_of_the_same_record_holds():
    document = json.loads(write_record(a_file()))
    turned = {name: document[name] for name in reversed(document)}
    assert check_record(parse_record(json.dumps(turned, indent=7).encode())) == ()


CHANGED = {
    "a result": lambda d: d["record"]["servers"][1].update(ended="level"),
    "a version": lambda d: d["record"]["servers"][0]["after"][0].update(version="9"),
    "a server is gone": lambda d: d["record"]["servers"].pop(),
    "who started it": lambda d: d["record"].update(started_by="nobody"),
    "a time": lambda d: d["record"].update(ended_at="2026-11-26T22:51:00Z"),
}


@pytest.mark.parametrize("change", CHANGED.values(), ids=CHANGED.keys())
def test_whatever_is_changed_is_seen(change):
    assert check_record(parse_record(spoiled(change))) == (
        "The record was changed after it was given out: its sum is another.",
    )


def test_a_new_sum_needs_the_site_s_key():
    def seal_anew(document):
        CHANGED["a result"](document)
        document["sha256"] = parse_record(json.dumps(document).encode()).found

    assert check_record(parse_record(spoiled(seal_anew))) == ("Its signature does not hold.",)
    forged = sign_record("Lowmere", a_record(), OTHER)
    assert check_record(forged) == () and check_record(forged, a_file().key) == (
        "It is signed by another key than the site's.",
    )
    assert check_record(dataclasses.replace(a_file(), site="Elsewhere")) == ("Its signature does not hold.",)


BAD = {
    "a field nobody knows": lambda d: d.update(more=1),
    "no signature": lambda d: d.pop("signature"),
    "a key that is none": lambda d: d.update(key="xy"),
    "a time that is none": lambda d: d["record"].update(started_at="yesterday"),
    "a time without a zone": lambda d: d["record"].update(started_at="2026-11-26T22:51:00"),
    "a number beyond all reason": lambda d: d["record"].update(number=2**60),
    "another format": lambda d: d.update(format="ordnung.record/2"),
}


@pytest.mark.parametrize("change", BAD.values(), ids=BAD.keys())
def test_what_is_no_record_is_refused_in_words(change):
    with pytest.raises(FormatError):
        parse_record(spoiled(change))


def test_the_command_tells_what_the_run_came_to_and_whether_it_holds(tmp_path):
    file, path = a_file(), tmp_path / "record.json"
    path.write_bytes(write_record(file))
    code, out, _ = run("record", "verify", path, "--key", file.key)
    assert code == 0 and "Lowmere, run 4: Thursday" in out and "surge-02 needs a person" in out
    assert "It is what the site gave out." in out and "key is the file's own" not in out
    assert "The key is the file's own" in run("record", "verify", path)[1]
    path.write_bytes(spoiled(CHANGED["a result"]))
    code, out, _ = run("record", "verify", path)
    assert code == 1 and "its sum is another" in out and "gave out." not in out
    code, out, _ = run("record", "verify", path, "--json")
    assert code == 1 and json.loads(out)["faults"]
    path.write_text("{}")
    code, _, err = run("record", "verify", path)
    assert code == 1 and "ordnung.record/1" in err
