"""Starting once from a service partition: read, chosen and taken back in whatever way a service offers (N4.8)."""

from __future__ import annotations

import datetime

import pytest

from ordnung.controllers import ControllerError
from ordnung.controllers.starts import start_of
from ordnung.core.components import Start
from ordnung.standins.redfish.boot import device_path
from ordnung.standins.resets import reboot
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.lines import controller_of
from tests.simulation.world import VirtualClock

NOW = datetime.datetime(2026, 11, 27, tzinfo=datetime.UTC)
SYSTEM, BLANK = "watch-03", "watch-05"
ENTRY = {"@odata.id": "/inventory/diag/", "RelatedItem": [{"@odata.id": "/store/Volumes/diag"}]}
OPTION = {
    "BootOptionReference": "Boot0010",
    "UefiDevicePath": "HD(1)",
    "RelatedItem": [{"@odata.id": "/store/Volumes/diag/"}],
}
BOOT = {"BootSourceOverrideEnabled": "Disabled"}
TARGETS, ENABLED = (
    "BootSourceOverrideTarget@Redfish.AllowableValues",
    "BootSourceOverrideEnabled@Redfish.AllowableValues",
)
HERE = {"BootSourceOverrideTarget": "UefiBootNext", "BootNext": "Boot0010"}


def device(name=SYSTEM, *quirks, seconds=NOW.timestamp):
    (found,) = demo_hardware(seconds, [next(place for place in PLACES if place.name == name)])
    found.quirks |= set(quirks)
    return found


async def starts(of) -> dict[str, Start | None]:
    read = await controller_of(of).read(lambda: NOW)
    return {c.slot: c.start for c in read.components if c.kind == "store"}


@pytest.mark.parametrize(
    ("boot", "override", "options", "expected"),
    [
        (BOOT, {}, [OPTION], Start.POSSIBLE),
        (BOOT, HERE, [OPTION], Start.NEXT),
        (BOOT, {"BootSourceOverrideTarget": "UefiTarget", "UefiTargetBootSourceOverride": "HD(1)"}, [OPTION], Start.NEXT),
        (BOOT, {**HERE, "BootNext": "Boot0001"}, [OPTION], Start.POSSIBLE),
        (BOOT, {"BootSourceOverrideTarget": "Pxe"}, [OPTION], Start.POSSIBLE),
        (BOOT, {**HERE, "BootNext": None}, [{**OPTION, "BootOptionReference": None}], Start.POSSIBLE),
        (BOOT, {}, [{**OPTION, "RelatedItem": [{"@odata.id": "/inventory/diag"}]}], Start.POSSIBLE),
        (BOOT, {}, [], None),
        (BOOT, {}, [{**OPTION, "RelatedItem": [{"@odata.id": "/store/Volumes/tools"}]}], None),
        (BOOT, {}, [{**OPTION, "RelatedItem": "odd"}], None),
        (BOOT, {}, [OPTION, {**OPTION, "BootOptionReference": "Boot0011"}], None),
        (BOOT, {}, [{**OPTION, "BootOptionEnabled": False}], None),
        ({**BOOT, ENABLED: ["Disabled", "Continuous"]}, {}, [OPTION], None),
        ({**BOOT, TARGETS: ["None", "Pxe"]}, {}, [OPTION], None),
        ({**BOOT, TARGETS: ["None", "UefiTarget"]}, {}, [OPTION], Start.POSSIBLE),
        ({**BOOT, TARGETS: ["None", "UefiTarget"]}, {}, [{**OPTION, "UefiDevicePath": None}], None),
        ({}, {}, [OPTION], None),
        ("odd", {}, [OPTION], None),
    ],
    ids=[
        "possible", "chosen", "chosen by its path", "another one is chosen", "something else is chosen", "no reference",
        "its entry is named", "no option", "another partition's", "odd links", "two that start from it", "switched off",
        "only for good", "not to one option", "by its path alone", "no path", "what is chosen is not shown", "odd",
    ],
)  # fmt: skip
def test_whether_it_can_be_started_from_is_told_by_its_boot_options(boot, override, options, expected):
    assert start_of({"Boot": boot}, override, options, ENTRY) == expected


@pytest.mark.parametrize("quirks", [(), ("starts by path",), ("no partition volumes",)], ids=str)
async def test_the_next_start_goes_there_once_and_is_taken_back(quirks):
    found = device(SYSTEM, *quirks)
    assert await starts(found) == {"store-diag": "possible", "store-drivers": None, "store-tools": "possible"}
    controller = controller_of(found)
    for _ in range(2):  # asked for twice it is the same
        await controller.choose_start("store-tools")
    assert await starts(found) == {"store-diag": "possible", "store-drivers": None, "store-tools": "next"}
    facts = (await controller.read(lambda: NOW)).facts
    assert (facts.next_start, facts.next_start_stays) == ("the boot option Service partition: update tools", False)
    await controller.start_as_before()
    assert (await starts(found))["store-tools"] == "possible" and not [e for e in found.log if e["what"] == "reset"]


@pytest.mark.parametrize("quirks", [(), ("starts by path",)], ids=str)
async def test_restarted_it_starts_from_there_and_the_time_after_as_usual(quirks):
    clock = VirtualClock()
    found = device(SYSTEM, *quirks, seconds=clock.seconds)
    await controller_of(found).choose_start("store-diag")
    for _ in range(2):
        reboot(found)
        clock.t += 1000
        found.advance()
    option = device_path("Boot0010") if quirks else "Boot0010"
    assert [e.get("option") for e in found.log if e["what"] == "other start"] == [option]
    assert found.boot_state == "OSRunning"


@pytest.mark.parametrize(
    ("name", "slot", "quirks"),
    [(SYSTEM, "store-drivers", ()), (SYSTEM, "bios", ()), (BLANK, "store-diag", ()), (SYSTEM, "store-diag", ("no related items",))],
    ids=["nothing starts from it", "no partition", "nothing is on it", "no links"],
)  # fmt: skip
async def test_what_it_can_t_be_started_from_is_refused_and_nothing_changed(name, slot, quirks):
    found = device(name, *quirks)
    if quirks:
        found.patched["/redfish/v1/Systems/1/BootOptions/Boot0010"] = {"RelatedItem": []}
    with pytest.raises(ControllerError, match=f"can't be told to start from {slot}"):
        await controller_of(found).choose_start(slot)
    assert not [e for e in found.log if e["what"] == "changed"]


async def test_one_that_does_not_show_what_was_chosen_is_not_offered():
    assert set((await starts(device(SYSTEM, "starts untold"))).values()) == {None}


async def test_an_option_that_is_called_like_a_disc_is_none():
    found = device()
    found.patched["/redfish/v1/Systems/1/BootOptions/Boot0010"] = {"DisplayName": "Cd"}
    await controller_of(found).choose_start("store-diag")
    assert (await controller_of(found).read(lambda: NOW)).facts.next_start == "the boot option Cd"
