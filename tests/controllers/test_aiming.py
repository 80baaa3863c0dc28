"""What an update names as what it is for: an inventory member, what it is the firmware of, or nothing."""

from __future__ import annotations

import datetime

import pytest

from ordnung.controllers import Aim, ControllerError, Reach, UnknownParameterError
from ordnung.controllers.answers import unknown_names
from ordnung.controllers.update_service import decides_by_image, read_targets
from ordnung.standins import makers as m
from ordnung.standins.hardware import Hardware
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.lines import controller_of

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
ROOT = "/redfish/v1"
MEMBER, ITSELF = f"{ROOT}/UpdateService/FirmwareInventory", f"{ROOT}/Systems/1/Storage/1/Drives"


def make(*manners: str, name: str = "surge-07") -> Hardware:
    (device,) = demo_hardware(lambda: 1.8e9, [place for place in PLACES if place.name == name])
    device.quirks = frozenset(manners)
    return device


async def aim_at(device: Hardware, slot: str, way: str = "pull over HTTPS") -> Aim:
    controller = controller_of(device)
    return await controller.aim(await controller.reach(), way, slot)


@pytest.mark.parametrize(
    ("manners", "way", "slot", "target", "is_sure"),
    [
        ((), "pull over HTTPS", "drive-03", f"{MEMBER}/drive-03", True),
        (("targets elsewhere",), "pull over HTTPS", "drive-03", f"{ITSELF}/drive-03", True),
        (("targets elsewhere",), "push", "drive-03", f"{ITSELF}/drive-03", True),
        (("targets elsewhere", "no optional"), "push", "psu-1", f"{ROOT}/Chassis/1", False),
        (("targets unknown", "action info"), "pull over HTTPS", "bios", "", False),
        (("targets unknown",), "pull over HTTPS", "bios", f"{MEMBER}/bios", True),
        (("plain push",), "push", "bmc", f"{MEMBER}/bmc", True),
        (("plain push",), "push", "bios", f"{MEMBER}/bios", False),
        (("plain push", "no related items"), "push", "bmc", f"{MEMBER}/bmc", False),
    ],
)
async def test_what_is_named_and_whether_nothing_else_can_be_meant(manners, way, slot, target, is_sure):
    assert await aim_at(make(*manners), slot, way) == Aim(target=target, is_sure=is_sure)


async def test_what_may_not_be_named_is_not_sent_to():
    device = make("targets elsewhere", "no related items")
    with pytest.raises(ControllerError, match="it lets no image be sent to bios"):
        await aim_at(device, "bios")


@pytest.mark.parametrize(
    ("told", "cause"),
    [({"HttpPushUriTargetsBusy": True}, "busy"), ({"HttpPushUriTargets": [f"{MEMBER}/bios"]}, "said no")],
)
async def test_a_push_that_another_client_has_set_to_go_elsewhere_is_left_alone(told, cause):
    """It was sent where that other client wanted its own image to go."""
    device = make("plain push")
    device.patched[f"{ROOT}/UpdateService"] = told
    with pytest.raises(ControllerError) as refused:
        await aim_at(device, "raid-1", "push")
    assert refused.value.cause == cause
    device.patched[f"{ROOT}/UpdateService"] = {"HttpPushUriTargets": [f"{MEMBER}/raid-1"]}
    assert (await aim_at(device, "raid-1", "push")).is_sure


async def test_a_push_that_waits_for_a_time_of_its_own_is_not_sent(tmp_path):
    device = make("plain push")
    options = {"HttpPushUriApplyTime": {"ApplyTime": "AtMaintenanceWindowStart"}}
    device.patched[f"{ROOT}/UpdateService"] = {"HttpPushUriOptions": options}
    image = tmp_path / "bios.pldm"
    image.write_bytes(b"image")
    controller = controller_of(device)
    with pytest.raises(ControllerError, match="only at times that are not waited for here"):
        await controller.push(await controller.reach(), "", image)
    assert not device.tasks


@pytest.mark.parametrize("manners", [(), ("action info",)])
async def test_a_request_that_names_what_is_not_known_is_its_own_error(manners, tmp_path):
    device = make("targets unknown", *manners)
    controller = controller_of(device)
    reach = await controller.reach()
    image = tmp_path / "nic.pldm"
    image.write_bytes(m.make_package(m.NIC_Q25, m.NIC_Q25.made("24.2.8")))
    for send in (controller.pull(reach, "/x/bios", "https://127.0.0.1/x"), controller.push(reach, "/x/bios", image)):
        with pytest.raises(UnknownParameterError) as refused:
            await send
        assert refused.value.cause == "said no" and refused.value.names == {"Targets"} and not device.tasks


@pytest.mark.parametrize(
    ("message", "names"),
    [
        ({"MessageId": "Base.1.18.ActionParameterUnknown", "MessageArgs": ["SimpleUpdate", "Targets"]}, {"Targets"}),
        ({"MessageId": "Base.1.0.ActionParameterNotSupported", "MessageArgs": ["Targets", "Update"]}, {"Targets"}),
        ({"MessageId": "Base.1.8.PropertyUnknown", "MessageArgs": ["#/Targets"]}, {"Targets"}),
        ({"MessageId": "Base.1.8.ActionParameterValueNotInList", "MessageArgs": ["/x", "Targets", "y"]}, set()),
        ({"MessageId": "Base.1.8.ActionParameterUnknown", "MessageArgs": ["SimpleUpdate"]}, set()),
        ({"MessageId": "Base.1.8.ActionParameterUnknown"}, set()),
        ({"MessageId": ["odd"], "MessageArgs": 7}, set()),
    ],
)
def test_what_a_refusal_does_not_know(message, names):
    assert unknown_names({"error": {"@Message.ExtendedInfo": [message]}}) == names


def service_of(*, push=None, raw=None, pull=None):
    actions = {"#UpdateService.SimpleUpdate": {"target": "/a", **pull}} if pull is not None else {}
    return {"MultipartHttpPushUri": push, "HttpPushUri": raw, "Actions": actions}


@pytest.mark.parametrize(
    ("offered", "described", "targets", "by_image"),
    [
        ({"push": "/p", "pull": {}}, [], None, False),
        ({"push": "/p"}, [], None, False),
        ({"raw": "/r"}, [], None, True),
        ({"pull": {}}, [], None, False),
        ({"pull": {}}, ["ImageURI"], (), True),
        ({"pull": {}}, ["ImageURI", "Targets"], None, False),
        ({"pull": {}, "push": "/p"}, ["ImageURI"], (), False),
        ({"pull": {"Targets@Redfish.AllowableValues": ["/a/", "/b"]}}, [], ("/a", "/b"), False),
        ({"pull": {"Targets@Redfish.AllowableValues": []}}, [], (), True),
        ({}, [], None, False),
    ],
)
async def test_whether_a_service_decides_by_the_image(offered, described, targets, by_image):
    async def find(path):
        return {"Parameters": [{"Name": name} for name in described]} if path else None

    offered = {name: value for name, value in offered.items() if value is not None}
    if described:
        offered["pull"] = {**offered["pull"], "@Redfish.ActionInfo": "/info"}
    service = service_of(**offered)
    assert await read_targets(find, service) == targets
    assert await decides_by_image(find, service) is by_image


def test_what_names_nothing_when_it_fetches_is_pushed_to_where_a_push_may_name():
    reach = Reach(push_uri="/push", pull_target="/pull", pulls=("HTTPS",), targets=())
    assert reach.way() == "push" and reach.way(spent={"push"}) == "pull over HTTPS"


@pytest.mark.parametrize(
    ("name", "manners", "push", "marked"),
    [
        ("surge-07", (), "any", False),
        ("surge-07", ("plain push",), "image", True),
        ("surge-07", ("targets unknown", "action info"), "any", False),
        ("sump-01", (), "own", True),
    ],
)
async def test_a_reading_tells_what_is_written_by_the_image_alone(name, manners, push, marked):
    reading = await controller_of(make(*manners, name=name)).read(lambda: NOW)
    assert reading.facts is not None and reading.facts.push == push
    assert {part.by_image for part in reading.components if part.kind != "controller"} == {marked}
    assert not any(part.by_image for part in reading.components if part.kind == "controller")
