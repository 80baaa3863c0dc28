"""Whether what answers is the server that is known."""

from __future__ import annotations

import uuid
from typing import NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.same_server import FILLERS, PLACEHOLDERS, Likeness, compare, is_same_uuid


class Told(NamedTuple):
    uuid: str | None = None
    serial: str | None = None


ONE, TWO = "a1b2c3d4-e5f6-4789-8abc-def012345678", "11111111-e5f6-4789-8abc-def012345678"
SWAPPED = "d4c3b2a1-f6e5-8947-8abc-def012345678"


@pytest.mark.parametrize(
    ("known", "told", "likeness", "how"),
    [
        (Told(ONE, "S1"), Told(ONE.upper(), " s1 "), "same", ""),
        (Told(ONE, "S1"), Told(None, "S1"), "same", ""),
        (Told(ONE, "S1"), Told(ONE, None), "same", ""),
        (Told(ONE), Told(SWAPPED), "same", ""),
        (Told(ONE, "S1"), Told(TWO, "S1"), "other", f"UUID {TWO}, known is {ONE}"),
        (Told(ONE, "S1"), Told(ONE, "S2"), "other", "serial S2, known is S1"),
        (Told(ONE), Told(TWO), "other", f"UUID {TWO}, known is {ONE}"),
        (Told("a-1"), Told("1-a"), "other", "UUID 1-a, known is a-1"),
        (Told(ONE, "S1"), Told(), "untold", ""),
        (Told(ONE), Told(None, "S1"), "untold", ""),
        (Told(), Told(ONE, "S1"), "untold", ""),
    ],
)
def test_by_uuid_and_serial_and_by_nothing_else(known, told, likeness, how):
    assert compare(known, told) == (likeness, how)


@pytest.mark.parametrize("word", [*FILLERS, "", "   ", "00000000", "XXXX"])
@pytest.mark.parametrize("number", [*sorted(PLACEHOLDERS), "00000000-0000-0000-0000-000000000000", "", None])
def test_what_factories_ship_tells_nothing(number, word):
    assert compare(Told(number, word), Told(ONE, "S1")) == (Likeness.UNTOLD, "")
    assert compare(Told(number, word), Told(number, word)) == (Likeness.UNTOLD, "")


@given(st.uuids())
def test_the_other_byte_order_of_smbios_is_the_same_uuid_and_no_more(number):
    little = str(uuid.UUID(bytes=number.bytes_le))
    assert is_same_uuid(str(number), little) and is_same_uuid(little, str(number))
    other = uuid.UUID(int=number.int ^ 1)
    assert not is_same_uuid(str(number), str(other))
