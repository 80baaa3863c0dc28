"""Addresses, networks, lists of servers and host reports: tables, round trips, hostile input."""

from __future__ import annotations

import contextlib
import datetime
import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.merge import HostDevice, HostReport
from ordnung.formats.addresses import MOST, Address, parse_addresses, parse_networks
from ordnung.formats.errors import FormatError
from ordnung.formats.host_report import parse_host_report, write_host_report
from ordnung.formats.server_list import parse_server_list


@pytest.mark.parametrize(
    ("text", "urls"),
    [
        ("10.0.0.7", ["https://10.0.0.7"]),
        ("10.0.0.7:8443", ["https://10.0.0.7:8443"]),
        ("https://10.0.0.7:8443/", ["https://10.0.0.7:8443"]),
        ("10.0.0.7 - 10.0.0.9", [f"https://10.0.0.{n}" for n in (7, 8, 9)]),
        ("10.0.0.7–9:8443", [f"https://10.0.0.{n}:8443" for n in (7, 8, 9)]),
        ("10.0.0.254-10.0.1.1", ["https://10.0.0.254", "https://10.0.0.255", "https://10.0.1.0", "https://10.0.1.1"]),
        ("10.0.0.0/30", ["https://10.0.0.1", "https://10.0.0.2"]),
        ("10.0.0.9/32", ["https://10.0.0.9"]),
        ("10.0.0.0/30:8443", ["https://10.0.0.1:8443", "https://10.0.0.2:8443"]),
        ("fd00::1", ["https://[fd00::1]"]),
        ("[fd00::1]:8443", ["https://[fd00::1]:8443"]),
        ("fd00::1-fd00::2", ["https://[fd00::1]", "https://[fd00::2]"]),
        ("10.0.0.1, 10.0.0.1\n10.0.0.2;", ["https://10.0.0.1", "https://10.0.0.2"]),
        ("BMC-07.example:8443", ["https://bmc-07.example:8443"]),
        ("face-01, 10.0.0.1", ["https://face-01", "https://10.0.0.1"]),
        ("", []),
    ],
)
def test_addresses_as_people_write_them(text, urls):
    assert [a.url for a in parse_addresses(text)] == urls


@pytest.mark.parametrize(
    "text",
    ["server..example", "-server", "a b", "10.0.0", "10.0.0.9-10.0.0.7", "10.0.0.1-fd00::1", "10.0.0.0/8", "10.0.0.0/33", "10.0.0.1:0", "10.0.0.1:99999", "http://10.0.0.1", "https://10.0.0.1/redfish", "10.0.0.0-10.1.0.0", "fd00::/64", "-", "10.0.0.1-"],
)  # fmt: skip
def test_anything_else_is_refused_and_named(text):
    with pytest.raises(FormatError) as caught:
        parse_addresses(f"10.0.0.1\n{text}", "box")
    assert caught.value.place == text


@given(st.integers(0, 2**32 - 300), st.integers(0, 255))
def test_a_range_is_every_address_once(start, more):
    first, last = ipaddress.IPv4Address(start), ipaddress.IPv4Address(start + more)
    found = parse_addresses(f"{first}-{last}")
    assert [int(ipaddress.IPv4Address(a.host)) for a in found] == list(range(start, start + more + 1)) and more < MOST


@given(st.text(max_size=60))
def test_whatever_is_typed_is_addresses_or_a_format_error(text):
    with contextlib.suppress(FormatError):
        assert all(isinstance(a, Address) for a in parse_addresses(text))


def test_allowed_networks():
    networks = parse_networks("10.1.0.0/16, fd00::/8")
    assert networks.allows("10.1.255.1") and networks.allows("fd12::1")
    for host in ("10.2.0.1", "fe80::1", "localhost", "", "10.1.0.1.example"):
        assert not networks.allows(host)
    with pytest.raises(ValueError, match="does not appear"):
        parse_networks("everything")


HEAD = b"address,name,rack,unit,group,role,tags\n"


def rows(body: bytes, head: bytes = HEAD):
    return parse_server_list(head + body)


def test_a_list_is_read_row_by_row():
    (row,) = rows(b'10.0.0.1:8443,surge-01,K1,41,"surge ensemble, east",forecast,gpu big\n')
    assert (row.address.url, row.name, row.rack, row.unit) == ("https://10.0.0.1:8443", "surge-01", "K1", 41)
    assert (row.group, row.role, row.tags, row.faults, row.line) == ("surge ensemble, east", "forecast", ("gpu", "big"), (), 2)  # fmt: skip


def test_semicolons_other_spellings_a_mark_and_blank_lines_are_borne():
    found = parse_server_list("\ufeffURL;Server;U\r\n\r\n10.0.0.1;a;3\r\n".encode())
    assert [(r.address.host, r.name, r.unit) for r in found] == [("10.0.0.1", "a", 3)]


@pytest.mark.parametrize(
    "raw",
    [
        b"sep=;\naddress;name;unit\n10.0.0.1;a;3\n",
        b"sep=\t\naddress\tname\tunit\n10.0.0.1\ta\t3\n",
        b"address\tname\tunit\n10.0.0.1\ta\t3\n",
        b"\n\naddress,name,unit\n10.0.0.1,a,3\n",
        b"address,name,unit,,\n10.0.0.1,a,3,,\n",
        b"address,name,unit\r10.0.0.1,a,3\r",
    ],
    ids=["sep", "sep of a tab", "tabs", "blank first", "empty cells at the end", "old line ends"],
)
def test_what_spreadsheets_make_of_a_list_is_borne(raw):
    (row,) = parse_server_list(raw)
    assert (row.address.host, row.name, row.unit, row.faults) == ("10.0.0.1", "a", 3, ())


def test_a_row_is_named_by_the_line_on_which_it_begins():
    found = rows(b'10.0.0.1,a,,,"two\nlines",,\n,b,,,,,\n')
    assert [(row.line, bool(row.faults)) for row in found] == [(2, False), (4, True)]


def test_our_own_exported_list_is_a_list_of_servers_again():
    head = b"server,address,model,serial,room,rack,unit,group,role,tags,read_at,failure,slot,kind,component,version\n"
    body = b"".join(b"a,10.0.0.1:8443,M,S,Kelp,K1,3,g,r,t,,,%s,bios,B,1\n" % slot for slot in (b"bios", b"bmc"))
    found = parse_server_list(head + body + b"b,10.0.0.2,M,S,Kelp,K1,4,g,r,t,,,bios,bios,B,1\n")
    assert [(row.name, row.address.url, row.unit, row.faults) for row in found] == [
        ("a", "https://10.0.0.1:8443", 3, ()), ("b", "https://10.0.0.2", 4, ()),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("body", "fault"),
    [
        (b",a,,,,,\n", "the address is missing"),
        (b"10.0.0.0/24,a,,,,,\n", "one address a row"),
        (b"some where,a,,,,,\n", "not an address"),
        (b"10.0.0.1,bad name,,,,,\n", "is no name"),
        (b"10.0.0.1,a,,x,,,\n", "unit 'x' is not a number"),
        (b"10.0.0.1,a,,101,,,\n", "unit '101'"),
        (b"10.0.0.1,a,,,,,,more\n", "1 cells more"),
        (b"10.0.0.2,b,,,,,\n10.0.0.2,a,,,,,\n", "the same address as on line 2"),
        (b"10.0.0.2,a,,,,,\n10.0.0.3,a,,,,,\n", "the same name as on line 2"),
    ],
)
def test_a_wrong_row_says_why_and_disturbs_no_other(body, fault):
    found = rows(body + b"10.0.0.9,fine,,,,,\n")
    assert any(fault in told for told in found[-2].faults) and found[-1].faults == ()


@pytest.mark.parametrize(
    ("raw", "why"),
    [
        (b"", "empty"),
        (b"name,rack\nx,y\n", "column address is missing"),
        (b"address,colour\n", "no such column: colour"),
        (b"address,address\n", "stands twice"),
        (b"\xff\xfe\x00", "not UTF-8"),
        (b'address\n"10.0.0.1\n', "line 2"),
        (b"address\n" + b"10.0.0.1\n" * 10_002, "more than 10000 rows"),
    ],
)
def test_a_list_that_can_not_be_used_at_all_is_refused(raw, why):
    with pytest.raises(FormatError, match=why):
        parse_server_list(raw)


@given(st.binary(max_size=200))
def test_whatever_bytes_are_a_list_or_a_format_error(raw):
    for body in (raw, HEAD + raw):
        with contextlib.suppress(FormatError):
            parse_server_list(body)


texts = st.one_of(st.none(), st.text("abc019:.", min_size=1, max_size=8))
devices = st.builds(
    HostDevice, kind=st.sampled_from(["nic", "drive"]), name=st.text("ab c", min_size=1, max_size=6),
    version=texts, serial=texts, pci=texts, address=texts,
)  # fmt: skip
reports = st.builds(
    HostReport, taken_at=st.datetimes(timezones=st.just(datetime.UTC)), host=st.text(max_size=8),
    serial=st.text("abc", min_size=1, max_size=5), uuid=texts, devices=st.lists(devices, max_size=4).map(tuple),
)  # fmt: skip


@given(reports)
def test_a_host_report_survives_writing_and_reading(report):
    raw = write_host_report(report)
    assert parse_host_report(raw) == report and write_host_report(parse_host_report(raw)) == raw


@pytest.mark.parametrize(
    ("spoil", "why"),
    [
        (lambda raw: raw[: len(raw) // 2], "cut short"),
        (lambda raw: raw.replace(b'"serial": "S"', b'"serial": null'), "neither serial nor UUID"),
        (lambda raw: raw.replace(b"2026-11", b"2026-99"), "is not a time"),
        (lambda raw: raw.replace(b"host-report/1", b"host-report/2"), "is not ordnung.host-report/1"),
        (lambda raw: raw.replace(b'"nic"', b'"toaster"'), "toaster"),
    ],
)
def test_a_spoiled_host_report_is_refused(spoil, why):
    moment = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
    raw = write_host_report(
        HostReport(taken_at=moment, host="h", serial="S", devices=(HostDevice(kind="nic", name="n"),))
    )
    with pytest.raises(FormatError, match=why):
        parse_host_report(spoil(raw))
