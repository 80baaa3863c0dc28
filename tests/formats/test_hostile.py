"""Whatever is done to a good file, a reader either reads it or refuses it with a place: nothing else escapes."""

from __future__ import annotations

import contextlib
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.formats.catalog import parse_catalog
from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import parse_package
from ordnung.formats.readings import parse_readings
from ordnung.formats.rules import parse_rules
from ordnung.standins import makers

GOOD = {
    "catalog": {
        "format": "ordnung.catalog/1", "maker": "C", "catalog": "c", "issue": "1", "issued": "2026-11-04", "models": ["m"],
        "products": [{"id": "p", "name": "P", "kind": "bios", "scheme": "dotted", "fits": [{"software_id": "X"}],
                      "releases": [{"version": "1.0", "needs": [{"product": "q", "at_least": "2"}], "write_seconds": 5}]}],
    },
    "readings": {"format": "ordnung.readings/1", "servers": [
        {"name": "s", "model": "m", "read_at": "2026-11-23T07:41:12Z",
         "components": [{"slot": "bios", "kind": "bios", "version": "1.0", "banks": ["1.0"]}]}]},
    "rules": {"format": "ordnung.rules/1", "rules": [{"do": "wait", "days": 3, "where": {"kind": ["nic"]}, "until": "2027-01-01"}]},
}  # fmt: skip
PARSERS = {"catalog": parse_catalog, "readings": parse_readings, "rules": parse_rules}
junk = (
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False)
    | st.text(max_size=5)
    | st.just([])
    | st.just({})
)


def places(value, path=()):
    yield path
    children = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, child in children:
        yield from places(child, (*path, key))


def replaced(value, path, new):
    if not path:
        return new
    copy = dict(value) if isinstance(value, dict) else list(value)
    copy[path[0]] = replaced(value[path[0]], path[1:], new)
    return copy


@pytest.mark.parametrize("name", GOOD)
def test_the_good_ones_are_good(name):
    PARSERS[name](json.dumps(GOOD[name]).encode())


@pytest.mark.parametrize("name", GOOD)
@given(data=st.data())
def test_one_value_exchanged_for_junk(name, data):
    path = data.draw(st.sampled_from(list(places(GOOD[name]))))
    raw = json.dumps(replaced(GOOD[name], path, data.draw(junk))).encode()
    with contextlib.suppress(FormatError):
        PARSERS[name](raw, "file")


@pytest.mark.parametrize("name", GOOD)
@given(raw=st.binary(max_size=200))
def test_bytes_that_are_no_document(name, raw):
    with pytest.raises(FormatError):
        PARSERS[name](raw, "file")


@given(raw=st.binary(max_size=400))
def test_bytes_that_are_no_package(raw):
    with pytest.raises(FormatError):
        parse_package(raw, "file")


PACKAGE = makers.make_package(makers.SUPPLY_800, makers.SUPPLY_800.releases[0])


@given(st.integers(0, 120), st.binary(min_size=1, max_size=4))
def test_a_header_altered_anywhere(place, value):
    raw = PACKAGE[:place] + value + PACKAGE[place + len(value) :]
    if raw != PACKAGE:
        with pytest.raises(FormatError):
            parse_package(raw, "file")
