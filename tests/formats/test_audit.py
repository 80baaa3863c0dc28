"""The audit trail: whatever is done to one that was given out is found, by its chain or by its heads."""

from __future__ import annotations

import dataclasses
import datetime
import json

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from hypothesis import given
from hypothesis import strategies as st

from ordnung.formats.audit import (
    BEGINNING,
    AuditEntry,
    Head,
    Trail,
    check_trail,
    head_bytes,
    link_of,
    parse_trail,
    write_trail,
)
from ordnung.formats.errors import FormatError

NOON = datetime.datetime(2026, 11, 23, 12, tzinfo=datetime.UTC)
KEY, OTHER = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()


def public(key: Ed25519PrivateKey) -> str:
    return key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw).hex()


def chain(count: int) -> tuple[AuditEntry, ...]:
    entries, before = [], BEGINNING
    for number in range(1, count + 1):
        entry = AuditEntry(
            number=number, at=NOON + datetime.timedelta(minutes=number), who="lead", where="10.0.0.7",
            command="start a run", on={"run": number}, asked={"x": [1, None, "²"]}, previous=before,
        )  # fmt: skip
        entry = dataclasses.replace(entry, link=link_of(entry))
        entries.append(entry)
        before = entry.link
    return tuple(entries)


def sign(entry: AuditEntry, key: Ed25519PrivateKey = KEY) -> Head:
    at = entry.at + datetime.timedelta(seconds=1)
    signature = key.sign(head_bytes(entry.number, at, entry.link)).hex()
    return Head(number=entry.number, at=at, link=entry.link, key=public(key), signature=signature)


ENTRIES = chain(6)
WHOLE = Trail(site="Lowmere", entries=ENTRIES, heads=(sign(ENTRIES[3]), sign(ENTRIES[5])))


def again(entries) -> tuple[AuditEntry, ...]:
    """The same entries with a chain that fits: what somebody does who can write the database."""
    made, before = [], BEGINNING
    for entry in entries:
        entry = dataclasses.replace(entry, previous=before)
        entry = dataclasses.replace(entry, link=link_of(entry))
        made.append(entry)
        before = entry.link
    return tuple(made)


def test_a_whole_trail_is_whole_and_survives_its_document():
    assert check_trail(WHOLE) == check_trail(WHOLE, public(KEY)) == ()
    assert parse_trail(write_trail(WHOLE)) == WHOLE and write_trail(parse_trail(write_trail(WHOLE))) == write_trail(
        WHOLE
    )


@pytest.mark.parametrize(
    ("entries", "number", "told"),
    [
        ((*ENTRIES[:2], dataclasses.replace(ENTRIES[2], who="nobody"), *ENTRIES[3:]), 3, "changed after it was written"),
        (ENTRIES[:2] + ENTRIES[3:], 4, "cut out or moved"),
        ((*ENTRIES[:1], ENTRIES[2], ENTRIES[1], *ENTRIES[3:]), 3, "cut out or moved"),
        (ENTRIES[:3], 4, "the trail was cut"),
        (again((*ENTRIES[:2], dataclasses.replace(ENTRIES[2], who="nobody"), *ENTRIES[3:])), 4, "not the entry that was signed"),
        ((dataclasses.replace(ENTRIES[0], previous="1" * 64), *ENTRIES[1:]), 1, "stood before the first"),
    ],
    ids=["edited", "taken out", "moved", "cut", "written anew", "something before"],
)  # fmt: skip
def test_what_is_done_to_a_trail_is_found_where_it_was_done(entries, number, told):
    faults = check_trail(dataclasses.replace(WHOLE, entries=tuple(entries)))
    assert any(fault.number == number and told in fault.what for fault in faults), faults


def test_a_head_that_another_key_made_or_that_was_given_out_and_is_gone_is_found():
    forged = dataclasses.replace(WHOLE, heads=(sign(ENTRIES[5], OTHER),))
    assert not check_trail(forged), "alone, it fits itself: that is why a key is given out"
    assert check_trail(forged, public(KEY)) and check_trail(forged, known=[sign(ENTRIES[3])])
    mixed = dataclasses.replace(WHOLE, heads=(sign(ENTRIES[3]), sign(ENTRIES[5], OTHER)))
    assert "different keys" in check_trail(mixed)[0].what
    shorter = dataclasses.replace(WHOLE, entries=ENTRIES[:3], heads=())
    assert "the trail was cut" in check_trail(shorter, known=[sign(ENTRIES[5])])[0].what
    assert "can't be read" in check_trail(WHOLE, "none")[0].what


def test_a_part_of_a_trail_is_checked_as_far_as_it_goes():
    assert check_trail(dataclasses.replace(WHOLE, entries=ENTRIES[4:])) == ()


@given(st.data())
def test_no_single_value_of_any_entry_can_be_changed_unseen(data):
    body = json.loads(write_trail(WHOLE))
    entry = data.draw(st.sampled_from(body["entries"]))
    name = data.draw(st.sampled_from(sorted(set(entry) - {"number", "at"})))
    before = entry[name]
    entry[name] = {"other": 1} if isinstance(before, dict) else "f" * 64 if len(str(before)) == 64 else "refused"
    assert entry[name] == before or check_trail(parse_trail(json.dumps(body).encode()))


@pytest.mark.parametrize(
    ("change", "place"),
    [
        (lambda b: b.update(format="ordnung.audit/2"), "format"),
        (lambda b: b["entries"][0].update(at="noon"), "entries.0.at"),
        (lambda b: b["entries"][0].update(at="2026-11-23T12:00:00"), "entries.0.at"),
        (lambda b: b["entries"][0].update(link="x"), "entries.0.link"),
        (lambda b: b["heads"][0].update(at="noon"), "heads"),
        (lambda b: b["heads"][0].pop("key"), "heads.0"),
    ],
)
def test_what_is_no_trail_is_refused_with_its_place(change, place):
    body = json.loads(write_trail(WHOLE))
    change(body)
    with pytest.raises(FormatError) as caught:
        parse_trail(json.dumps(body).encode())
    assert caught.value.place == place
