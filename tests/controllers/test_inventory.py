"""Whose images the members of an inventory are, and how they are called: of an Id the standard says next to nothing."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.controllers.inventory import find_entry, fold, join, name_slots
from ordnung.controllers.tree import Fitted

BMC, CARD = "/redfish/v1/Managers/1", "/redfish/v1/Chassis/1/NetworkAdapters/1"


def member(name, version="1.0", state="Enabled", on=None, software=None):
    related = {"RelatedItem": [{"@odata.id": on}]} if on else {}
    return {
        "@odata.id": f"/fw/{name}", "Id": name, "Name": name, "Version": version, "SoftwareId": software,
        "Status": {"State": state}, **related,
    }  # fmt: skip


def controller(*images, active=None, version=None):
    paths = tuple(f"/fw/{image}" for image in images)
    return Fitted("1", "controller", "BMC", version, (BMC,), active=active and f"/fw/{active}", images=paths)


def told(entries, parts=()):
    return [(f.slot, f.entry["Id"], f.waiting, tuple(f.standby.values())) for f in fold(entries, parts)]


NAMES = {
    "with their versions": ([("bios-2.4.1", "2.4.1"), ("nic-24_1", "24.1")], ["bios", "nic"]),
    "the version first": ([("2-4-1-bios", "2.4.1"), ("GX04__drive", "GX04")], ["bios", "drive"]),
    "a version inside": ([("fw-2.4.1-bios", "2.4.1")], ["fw-bios"]),
    "two that would be one": ([("nic-1.0", "1.0"), ("nic-2.0", "2.0"), ("bios-3.1", "3.1")], ["nic-1.0", "nic-2.0", "bios"]),
    "a port that is called like its version": ([("port-1.4", "1.4"), ("bios", "2"), ("bmc", "3")], ["port-1.4", "bios", "bmc"]),
    "a number that is no version": ([("drive-1", "1"), ("drive-2", "1")], ["drive-1", "drive-2"]),
    "part of a longer number": ([("bios-12.4.1", "2.4.1")], ["bios-12.4.1"]),
    "nothing but the version": ([("2.4.1", "2.4.1")], ["2.4.1"]),
    "no version": ([("bios", None), ("bmc", "")], ["bios", "bmc"]),
}  # fmt: skip


@pytest.mark.parametrize(("members", "slots"), list(NAMES.values()), ids=list(NAMES))
def test_a_slot_is_named_by_what_stays(members, slots):
    assert name_slots([member(*one) for one in members]) == slots


@given(
    st.lists(st.sampled_from(["bios", "bmc", "nic-1", "nic-2"]), unique=True, min_size=1),
    st.sampled_from(["{0}-{1}", "{1}.{0}", "x-{0}_{1}"]),
    st.data(),
)
def test_an_update_renames_no_slot(parts, scheme, data):
    version = st.from_regex(r"[1-9][0-9]?\.[0-9]{1,2}\.[0-9]{1,2}", fullmatch=True)

    def read():
        return name_slots([member(scheme.format(part, v), v) for part in parts for v in [data.draw(version)]])

    assert read() == read()
    assert len(set(read())) == len(parts)


def test_an_image_that_waits_or_stands_by_is_no_component():
    entries = [
        member("bmc", "2.0", on=BMC), member("bmc.standby", "1.0", "StandbyOffline"),
        member("upload-7", "3.0", "StandbySpare", on=BMC),
    ]  # fmt: skip
    assert told(entries) == [("bmc", "bmc", "3.0", ("1.0",))]


def test_a_dotted_id_belongs_to_the_longest_that_it_begins_with():
    entries = [member("nic", "1.0"), member("nic.1", "2.0"), member("nic.1.standby", "1.5", "StandbyOffline")]
    assert told(entries) == [("nic", "nic", None, ()), ("nic.1", "nic.1", None, ("1.5",))]


@pytest.mark.parametrize("first", ["a", "b"])
@pytest.mark.parametrize("standby", ["StandbyOffline", "Enabled"])
def test_two_images_are_one_component_by_one_name_whichever_runs(first, standby):
    """Both shown as enabled they were two components, and the one that does not run was planned to be updated."""
    states = {name: "Enabled" if name == first else standby for name in "ab"}
    entries = [member(name, {"a": "1.0", "b": "2.0"}[name], states[name], on=BMC) for name in "ab"]
    parts = [controller("b", "a", active=first)]
    (found,) = fold(entries, parts)
    assert (found.slot, found.entry["Id"]) == ("a", first)
    assert list(found.standby.values()) == ["2.0" if first == "a" else "1.0"]
    join([found], parts)
    assert found.fitted is parts[0]


def test_the_image_that_the_next_start_goes_to_is_not_the_one_that_runs():
    entries = [member("a", "1.0", on=BMC), member("b", "2.0", on=BMC)]
    (found,) = fold(entries, [controller("a", "b", active="b", version="1.0")])
    assert found.entry["Id"] == "a" and found.standby == {"/fw/b": "2.0"}


def test_one_that_is_being_written_is_still_there():
    """The standard lets a component say *Updating* of itself: it was gone from its server for as long."""
    assert told([member("nic", "1.0", "Updating", on=CARD)]) == [("nic", "nic", None, ())]
    entries = [member("nic", "1.0", on=CARD), member("nic-new", "2.0", "Updating", on=CARD)]
    assert told(entries) == [("nic", "nic", None, ())], "an image of one that runs is none of its own"


def test_one_that_does_not_run_is_no_image_of_another():
    """A card may stand by while its server is off; an image of nothing that is known is left out."""
    entries = [member("nic", "1.0", "StandbyOffline", on=CARD), member("old", "1.0", "StandbyOffline")]
    assert told(entries) == [("nic", "nic", None, ())]


def test_what_belongs_to_the_same_resource_is_told_apart_by_its_software():
    entries = [
        member("plane", "1.0", on=CARD, software="P"), member("logic", "2.0", on=CARD, software="L"),
        member("logic-new", "3.0", "StandbySpare", on=CARD, software="L"),
    ]  # fmt: skip
    assert [(slot, waits) for slot, _, waits, _ in told(entries)] == [("plane", None), ("logic", "3.0")]


def test_a_member_is_found_by_its_slot():
    entries = [member("nic-1.0", "1.0"), member("previous-nic-0.9", "0.9", "StandbyOffline")]
    assert find_entry(entries, "nic") is entries[0]
    assert find_entry(entries, "nic-1.0") is entries[0], "by the end of its path"
    assert find_entry(entries, "previous-nic") is entries[1], "an image, where nothing that runs is called so"
    assert find_entry(entries, "bios") is None
