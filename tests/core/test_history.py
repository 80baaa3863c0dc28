"""What changed between two readings, and what a host report adds: tables and properties."""

from __future__ import annotations

import dataclasses
import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.components import Component, Server
from ordnung.core.history import CHANGES, compare_readings
from ordnung.core.merge import HostDevice, HostReport, merge_host_report

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)


def part(slot, version="1.0", **facts):
    return Component(**{"slot": slot, "kind": "nic", "name": "Q25", "version": version, **facts})


def server(*parts, **facts):
    return Server(name="surge-07", model="Reed 14", serial="CRV14-0007", components=parts, **facts)


def tell(before, after):
    return [(c.what, c.slot, c.before, c.after) for c in compare_readings(server(*before), server(*after))]


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        ([part("a")], [part("a")], []),
        ([part("a"), part("b")], [part("a")], [("vanished", "b", "1.0", None)]),
        ([part("a")], [part("a"), part("b", None)], [("appeared", "b", None, "unread")]),
        ([part("a")], [part("a", "2.0")], [("version", "a", "1.0", "2.0")]),
        ([part("a", waiting="2.0")], [part("a", "2.0")], [("version", "a", "1.0", "2.0"), ("waiting", "a", "2.0", None)]),
        ([part("a", waiting="1.0")], [part("a")], []),
        ([part("a", serial="X")], [part("a", serial="Y")], [("exchanged", "a", "Q25 X", "Q25 Y")]),
        ([part("a", serial="X", pci="1")], [part("a", serial="X", pci="2")], []),
        ([part("a", pci="1")], [part("a", pci="2")], [("exchanged", "a", "Q25 1.0", "Q25 1.0")]),
        ([part("a", pci=None)], [part("a", pci="2")], []),
        ([part("a", state=None)], [part("a", None, state="damaged")], [("version", "a", "1.0", None), ("state", "a", None, "damaged")]),
        ([part("a", health="OK")], [part("a", health="Critical")], [("health", "a", "OK", "Critical")]),
    ],
)  # fmt: skip
def test_differences_of_two_readings(before, after, told):
    assert tell(before, after) == told


parts = st.lists(
    st.builds(
        part,
        slot=st.sampled_from("abcdef"),
        version=st.sampled_from([None, "1.0", "2.0"]),
        serial=st.sampled_from([None, "X", "Y"]),
    ),
    max_size=5,
    unique_by=lambda c: c.slot,
)


@given(parts, parts)
def test_changes_there_and_back_mirror_each_other(before, after):
    there, back = tell(before, after), tell(after, before)
    mirror = {"vanished": "appeared", "appeared": "vanished"}
    assert sorted((mirror.get(w, w), s) for w, s, _, _ in there) == sorted((w, s) for w, s, _, _ in back)
    assert [CHANGES.index(w) for w, *_ in there] == sorted(CHANGES.index(w) for w, *_ in there)
    assert tell(before, before) == []


# Host reports


def report(*devices, **facts):
    return HostReport(**{"taken_at": NOW, "host": "h", "serial": "CRV14-0007", "devices": devices, **facts})


def card(**facts):
    return HostDevice(**{"kind": "nic", "name": "card", **facts})


def merged(components, *devices):
    return merge_host_report(server(*components), report(*devices)).components


def test_a_device_is_matched_by_serial_whatever_it_is_called():
    (found,) = merged([part("nic-1", serial="S1")], card(name="other", serial=" s1 ", version="1.0"))
    assert (found.slot, found.origin, found.reported, found.version) == ("nic-1", "both", None, "1.0")


def test_a_conflict_is_shown_and_the_controllers_word_stays():
    (found,) = merged([part("nic-1", serial="S1")], card(serial="S1", version="1.1"))
    assert (found.version, found.reported, found.origin) == ("1.0", "1.1", "both")


def test_what_the_controller_could_not_read_is_taken_from_the_report():
    (found,) = merged([part("nic-1", None, serial="S1")], card(serial="S1", version="1.1"))
    assert (found.version, found.reported) == ("1.1", None)
    assert found.untold and found.updateable is False, "whether something was written could not be seen"


def test_equal_cards_without_serials_are_matched_only_when_as_many_are_on_either_side():
    pair = [part("nic-1", pci="a:b:c:d"), part("nic-2", pci="a:b:c:d")]
    alike = [card(pci="a:b:c:d", version="1.0"), card(pci="a:b:c:d", version="1.0")]
    assert [c.origin for c in merged(pair, *alike)] == ["both", "both"]
    assert [c.origin for c in merged(pair, alike[0])] == ["controller", "controller", "host report"]


def test_what_nobody_else_sees_is_added_with_its_origin():
    found = merged([part("nic-1", pci="1:1:1:1")], card(pci="9:9:9:9", address="0000:3b:00.0", version="3.14"))
    assert [(c.slot, c.origin, c.version) for c in found] == [("nic-1", "controller", "1.0"), ("0000:3b:00.0", "host report", "3.14")]  # fmt: skip
    assert [c.updateable for c in found] == [None, False], "nothing can be brought to what its controller does not list"


def test_two_drives_with_unlike_serials_are_two_drives():
    found = merged([part("d", kind="drive", serial="A")], HostDevice(kind="drive", name="Q25", serial="B"))
    assert [c.origin for c in found] == ["controller", "host report"]


@given(parts, st.lists(st.builds(card, serial=st.sampled_from([None, "X", "Y", "Z"]), pci=st.sampled_from([None, "1:2:3:4"]), version=st.sampled_from([None, "1.0", "3.0"])), max_size=4))  # fmt: skip
def test_merging_loses_nothing_and_resolves_nothing_silently(components, devices):
    found = merged(components, *devices)
    assert len({c.slot for c in found}) == len(found)
    for old in components:
        new = next(c for c in found if c.slot == old.slot)
        assert new.version == old.version or old.version is None
        assert new.reported is None or new.reported != new.version
    matched = sum(c.origin == "both" for c in found)
    assert matched + sum(c.origin == "host report" for c in found) == len(devices)
    assert len(found) == len(components) + len(devices) - matched


def test_a_report_belongs_to_a_server_by_uuid_or_serial_only():
    one = dataclasses.replace(server(), uuid="AB-1")
    assert report(serial=None, uuid="ab-1").is_of(one) and report(serial="crv14-0007 ").is_of(one)
    assert not report(serial="other", uuid=None, host="surge-07").is_of(one)
