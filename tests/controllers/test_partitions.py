"""Setting up a service partition (N4.8): which volume it is, and that nothing else is ever set up."""

from __future__ import annotations

import pytest

from ordnung.controllers import ControllerError
from ordnung.standins.redfish.partitions import STORE
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.lines import controller_of

ENTRY = "/redfish/v1/UpdateService/SoftwareInventory/store-drivers"
OTHER = "/redfish/v1/UpdateService/SoftwareInventory/store-diag"
VOLUME = f"{STORE}/Volumes/store-drivers"


def damaged():
    now = 1_795_000_000.0
    return demo_hardware(lambda: now, [next(place for place in PLACES if place.name == "watch-07")])[0]


async def set_up(device):
    return await controller_of(device).set_up("store-drivers")


def begun(device):
    return [entry["slots"] for entry in device.log if entry["what"] == "set-up begun"]


async def test_the_volume_that_it_lies_on_is_set_up():
    device = damaged()
    taken = await set_up(device)
    assert taken.task and taken.monitor and begun(device) == [["store-drivers"]]


@pytest.mark.parametrize(
    ("path", "told", "why"),
    [
        (VOLUME, {"RAIDType": "RAID1"}, "is left alone: it is part of an array"),
        (STORE, {"Drives": [{"@odata.id": "/redfish/v1/Systems/1/Storage/1/Drives/drive-01"}]}, "drives of this server"),
        (VOLUME, {"Links": {"Drives": [{"@odata.id": "/redfish/v1/x"}]}}, "drives of this server"),
        (ENTRY, {"RelatedItem": []}, "does not say on which volume"),
        (ENTRY, {"RelatedItem": [{"@odata.id": VOLUME}, {"@odata.id": f"{STORE}/Volumes/store-diag"}]}, "on which volume"),
        (ENTRY, {"RelatedItem": [{"@odata.id": f"{STORE}/Volumes/gone"}]}, "does not say on which volume"),
        (ENTRY, {"RelatedItem": "no list"}, "does not say on which volume"),
        (ENTRY, {"RelatedItem": [{"@odata.id": f"{STORE}/Volumes/gone"}, {"@odata.id": VOLUME}]}, "on which volume"),
        (ENTRY, {"RelatedItem": [{"@odata.id": "/redfish/v1/Systems/1/Storage/1/Volumes/1"}]}, "drives of this server"),
        (OTHER, {"RelatedItem": [{"@odata.id": f"{VOLUME}/"}]}, "store-diag lies on it as well"),
        (VOLUME, {"Actions": {"#Volume.Initialize": {"target": None}}}, "does not let the partition store-drivers be set up"),
        (VOLUME, {"Actions": []}, "does not let the partition store-drivers be set up"),
    ],
)  # fmt: skip
async def test_what_could_be_anything_else_is_left_alone(path, told, why):
    device = damaged()
    device.patched[path] = told
    with pytest.raises(ControllerError, match=why):
        await set_up(device)
    assert not begun(device)


@pytest.mark.parametrize(
    ("offered", "asked"), [(["Slow"], "Slow"), (["Slow", "Fast"], "Fast"), ([], "Fast"), ("odd", "Fast"), ([7], "Fast")]
)
async def test_it_is_asked_for_the_quickest_way_that_is_offered(offered, asked):
    device = damaged()
    seen = []
    device.patched[VOLUME] = {"Actions": {"#Volume.Initialize": {"InitializeType@Redfish.AllowableValues": offered}}}
    controller = controller_of(device)
    act = controller._session.act

    async def listen(path, body, *more):
        seen.append(body)
        return await act(path, body, *more)

    controller._session.act = listen
    await controller.set_up("store-drivers")
    assert seen == [{"InitializeType": asked}]


async def test_a_fault_of_the_request_is_answered_by_the_stand_in():
    device = damaged()
    device.patched[VOLUME] = {"Actions": {"#Volume.Initialize": {"InitializeType@Redfish.AllowableValues": ["Odd"]}}}
    with pytest.raises(ControllerError, match="InitializeType"):
        await set_up(device)
    await set_up(damaged())
    busy = damaged()
    await set_up(busy)
    with pytest.raises(ControllerError) as caught:
        await set_up(busy)
    assert caught.value.cause == "busy" and len(begun(busy)) == 1


async def test_a_volume_of_whose_storage_nothing_is_told_is_left_alone():
    device = damaged()
    controller = controller_of(device)
    find = controller._session.find

    async def lose(path):
        return None if path == STORE else await find(path)

    controller._session.find = lose
    with pytest.raises(ControllerError, match="nothing is told of the storage that it is on"):
        await controller.set_up("store-drivers")
    assert not begun(device)
