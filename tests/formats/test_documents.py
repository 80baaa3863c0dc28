"""Our JSON formats: strict, with the place of every fault; round trips; hostile files."""

from __future__ import annotations

import datetime
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.catalog import Fix, Issue, Need, Payload, Product, Release
from ordnung.core.components import Component, Server
from ordnung.formats.catalog import parse_catalog, write_catalog
from ordnung.formats.errors import FormatError
from ordnung.formats.readings import parse_readings, write_readings
from ordnung.formats.rules import parse_rules
from ordnung.formats.siteclock import SiteClock, parse_clock

SMALL = {
    "format": "ordnung.catalog/1", "maker": "Corvane", "catalog": "c", "issue": "2026-11", "issued": "2026-11-04",
    "products": [{"id": "p", "name": "P", "kind": "bios", "scheme": "dotted", "releases": [{"version": "1.0"}]}],
}  # fmt: skip


def spoiled(**changes) -> bytes:
    return json.dumps({**SMALL, **changes}).encode()


def with_product(**changes) -> bytes:
    return spoiled(products=[{**SMALL["products"][0], **changes}])


def test_what_is_absent_is_unknown_not_zero():
    release = parse_catalog(json.dumps(SMALL).encode()).products[0].releases[0]
    assert (release.write_seconds, release.activation, release.payload, release.released) == (None,) * 4


@pytest.mark.parametrize(
    ("raw", "told"),
    [
        (b"", "cut short"),
        (json.dumps(SMALL).encode()[:120], "cut short"),
        (b"\xff\xfe", "not UTF-8"),
        (b"[]", "not a JSON object"),
        (b"{]", "not JSON"),
        (b'{"a": 1, "a": 2}', "a name stands twice"),
        (b"[" * 5000 + b"]" * 5000, "nested too deeply"),
        (spoiled(format="ordnung.catalog/2"), "ordnung.catalog/2"),
        (spoiled(issued="2026-02-30"), "is not a date"),
        (spoiled(surprise=1), "surprise"),
        (with_product(scheme="roman"), "roman"),
        (with_product(releases=[{"version": "1.0"}, {"version": "1.0.0"}]), "equals 1.0"),
        (with_product(releases=[{"version": "1", "payload": {"path": "../x", "size": 1, "sha256": "0" * 64}}]), "path"),
        (with_product(releases=[{"version": "1", "payload": {"path": "x", "size": -1, "sha256": "0" * 64}}]), "size"),
        (spoiled(products=SMALL["products"] * 2), "stands twice"),
    ],
)
def test_a_bad_catalog_is_refused_with_its_place(raw, told):
    with pytest.raises(FormatError, match=r"november\.json") as caught:
        parse_catalog(raw, "november.json")
    assert told in str(caught.value)


@given(st.integers(0, 100_000))
def test_a_catalog_cut_anywhere_is_refused(length):
    raw = json.dumps(SMALL).encode()
    if length < len(raw):
        with pytest.raises(FormatError):
            parse_catalog(raw[:length])


names = st.text(min_size=1, max_size=12)
releases = st.builds(
    Release,
    version=st.integers(1, 10**6).map(str),
    released=st.none() | st.dates(datetime.date(2020, 1, 1)),
    importance=st.sampled_from([None, "security", "routine"]),
    fixes=st.lists(
        st.builds(Fix, id=names, score=st.none() | st.floats(0, 10), title=st.text(max_size=9)), max_size=2
    ).map(tuple),
    payload=st.none()
    | st.builds(Payload, path=st.just("a/b-1.pldm"), size=st.integers(1, 10**9), sha256=st.just("a" * 64)),
    direct_from=st.none() | names,
    needs=st.lists(st.builds(Need, product=names, at_least=names), max_size=2).map(tuple),
    activation=st.sampled_from([None, "at once", "server reboot"]),
    write_seconds=st.none() | st.integers(0, 900),
    alone=st.booleans(),
    floor_after=st.none() | names,
    notes=st.text(max_size=30),
    hands_before=st.sampled_from(["", "pull feed A"]),
    hands_after=st.sampled_from(["", "press F"]),
)
products = st.builds(
    Product, names, names, st.sampled_from(["bios", "nic"]), st.just("dotted"),
    names.map(lambda name: ({"software_id": name, "pci": "ffe3:*:*:*"},)),
    st.lists(releases, max_size=4, unique_by=lambda r: r.version).map(tuple),
)  # fmt: skip
issues = st.builds(
    Issue, maker=names, catalog=names, issue=names, issued=st.dates(), base=st.text(max_size=10),
    models=st.lists(names, max_size=3).map(tuple),
    products=st.lists(products, max_size=3, unique_by=(lambda p: p.id, lambda p: p.fits[0]["software_id"])).map(tuple),
)  # fmt: skip


@given(issues)
def test_catalogs_round_trip_and_have_one_spelling(issue):
    raw = write_catalog(issue)
    assert parse_catalog(raw) == issue
    assert write_catalog(parse_catalog(raw)) == raw


components = st.builds(
    Component, slot=names, kind=st.sampled_from(["bios", "drive", "other"]), name=names,
    software_id=st.none() | names, version=st.none() | names.filter(str.strip), waiting=st.none() | names,
    banks=st.lists(names, max_size=2).map(tuple), updateable=st.sampled_from([None, True, False]),
)  # fmt: skip
servers = st.builds(
    Server, name=names, model=names, serial=st.none() | names, group=st.none() | names,
    read_at=st.none() | st.datetimes(timezones=st.just(datetime.UTC)),
    components=st.lists(components, max_size=4, unique_by=lambda c: c.slot).map(tuple),
)  # fmt: skip


@given(st.lists(servers, max_size=3))
def test_readings_round_trip(found):
    assert parse_readings(write_readings(found)) == tuple(found)


def test_r21_one_slot_twice_is_refused():
    part = Component(slot="x", kind="bios", name="x", version="1")
    with pytest.raises(FormatError, match="slot x stands twice"):
        parse_readings(write_readings([Server(name="s", model="m", components=(part, part))]))


def test_rules_are_read_and_unknown_keys_refused():
    raw = {"format": "ordnung.rules/1", "rules": [{"do": "hold", "where": {"kind": "power"}, "until": "2027-03-01"}]}
    (rule,) = parse_rules(json.dumps(raw).encode())
    assert rule.where == {"kind": ("power",)} and rule.until == datetime.date(2027, 3, 1)
    raw["rules"][0]["where"] = {"room": "Kelp"}
    with pytest.raises(FormatError, match=r"rules\.0\.where"):
        parse_rules(json.dumps(raw).encode())
    with pytest.raises(FormatError, match="version"):
        parse_rules(b'{"format": "ordnung.rules/1", "rules": [{"do": "pin"}]}')


def test_the_clock_setting_makes_the_same_clock_elsewhere():
    clock = SiteClock(60.0, 100.5, 7.25)
    assert parse_clock(clock.setting()) == clock and parse_clock(None) == SiteClock()
    with pytest.raises(ValueError, match="RATE;REAL;CLOCK"):
        parse_clock("60;1")
