"""Orders behind a disc image: found, read, and taken for nothing where they are none."""

from __future__ import annotations

import io
import json
import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.formats.errors import FormatError
from ordnung.formats.order import MARK, SECTOR, Order, find_order, parse_order, tail_of, write_order
from ordnung.formats.rules import rules_document

RULES = rules_document(())
ORDER = Order(
    run="run 12 of Lowmere", server="surge-07", uuid="AA-BB", serial="S7", group="edge",
    writes=(("bios", "ab" * 32), ("store-tools", "set up anew")), rules=RULES, overrides={"array": "it is a test"},
)  # fmt: skip


def image(sectors=24) -> bytes:
    """As much of a disc image as is looked at: a primary volume descriptor that says how long the volume is."""
    raw = bytearray(sectors * SECTOR)
    raw[16 * SECTOR : 16 * SECTOR + 6] = b"\x01CD001"
    struct.pack_into("<I", raw, 16 * SECTOR + 80, sectors)
    return bytes(raw)


def test_what_is_written_is_read_back_from_behind_an_image():
    raw = write_order(ORDER)
    found = find_order(io.BytesIO(image() + tail_of(raw)))
    assert found == raw and parse_order(found) == ORDER
    assert len(tail_of(raw)) % SECTOR == 0, "a disc has whole sectors"


@given(st.binary(max_size=5 * SECTOR))
def test_whatever_else_lies_there_is_no_order(behind):
    if not behind.startswith(MARK):
        assert find_order(io.BytesIO(image() + behind)) is None


@pytest.mark.parametrize("disc", [b"", b"nothing", image()[: 17 * SECTOR], bytes(20 * SECTOR), image()])
def test_a_disc_without_one_has_none(disc):
    assert find_order(io.BytesIO(disc)) is None


def test_one_that_is_cut_short_or_too_long_is_not_taken():
    tail = tail_of(write_order(ORDER))
    with pytest.raises(FormatError, match="cut short"):
        find_order(io.BytesIO(image() + tail[:400]))
    assert find_order(io.BytesIO(image() + MARK + struct.pack("<I", 2**31))) is None
    with pytest.raises(ValueError, match="longer"):
        tail_of(bytes(2**20))


@pytest.mark.parametrize(
    ("uuid", "serial", "is_for"),
    [
        ("aa-bb", None, True),
        ("aa-bb", "other", False),
        (None, "s7", True),
        ("cc-dd", "S7", False),
        (None, None, False),
        ("0-0", "n/a", False),
    ],
)
def test_it_is_for_one_server_alone(uuid, serial, is_for):
    assert ORDER.is_for(uuid, serial) is is_for


@pytest.mark.parametrize(
    "change",
    [{"format": "ordnung.order/2"}, {"writes": []}, {"writes": [{"slot": "bios"}]}, {"server": {}}, {"user": "admin"}],
)
def test_what_is_no_order_is_refused(change):
    with pytest.raises(FormatError):
        parse_order(json.dumps({**json.loads(write_order(ORDER)), **change}).encode())
