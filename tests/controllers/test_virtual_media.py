"""A disc in virtual media, and starts that go there, on services that tell of both in their own ways."""

from __future__ import annotations

import datetime

import pytest

from ordnung.controllers import ControllerError
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.lines import controller_of

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
SYSTEM, MEDIA = "/redfish/v1/Systems/1", "/redfish/v1/Systems/1/VirtualMedia/CD1"
URIS = {"HTTPS": "https://ordnung.example/t/ordnung-run-7.iso", "HTTP": "http://ordnung.example/t/ordnung-run-7.iso"}
INSERT = "#VirtualMedia.InsertMedia"


@pytest.fixture
def device():
    (found,) = demo_hardware(NOW.timestamp, [next(place for place in PLACES if place.name == "surge-02")])
    return found


def boot(device):
    found = device.patched.get(SYSTEM, {}).get("Boot", {})
    return found.get("BootSourceOverrideEnabled", "Disabled"), found.get("BootSourceOverrideTarget", "None")


@pytest.mark.parametrize("quirks", [(), ("media plain",), ("media by change",), ("media by change", "wants its tag")])
async def test_it_goes_in_and_out_and_twice_is_the_same(device, quirks):
    device.quirks |= set(quirks)
    controller = controller_of(device)
    assert await controller.has_disc(URIS) == (False, False)
    for _ in range(2):
        assert (await controller.insert_disc(URIS)).finished
        assert device.media == {"Image": URIS["HTTPS"]} and boot(device) == ("Continuous", "Cd")
        assert await controller.has_disc(URIS) == (True, True)
    for _ in range(2):
        assert (await controller.eject_disc(URIS)).finished
        assert not device.media and boot(device) == ("Disabled", "None")
        assert await controller.has_disc(URIS) == (False, False)
    assert [entry["what"] for entry in device.log].count("media inserted") == 1


@pytest.mark.parametrize(
    ("told", "taken"),
    [
        ({"MediaTypes": []}, "HTTPS"),
        ({"MediaTypes": None}, "HTTPS"),
        ({"MediaTypes": ["DVD", "USBStick"]}, "HTTPS"),
        ({"Actions": {INSERT: {"TransferProtocolType@Redfish.AllowableValues": ["HTTP", "NFS"]}}}, "HTTP"),
        ({"Actions": {INSERT: {"TransferProtocolType@Redfish.AllowableValues": ["HTTP", "HTTPS"]}}}, "HTTPS"),
    ],
    ids=["no kinds", "kinds untold", "more kinds", "plain only", "both"],
)
async def test_what_a_service_tells_of_its_media_is_borne(device, told, taken):
    device.patched[MEDIA] = told
    await controller_of(device).insert_disc(URIS)
    assert device.media == {"Image": URIS[taken]}


@pytest.mark.parametrize(
    ("path", "told", "why"),
    [
        (MEDIA, {"MediaTypes": ["USBStick", "Floppy"]}, "it has no virtual media for a disc"),
        (MEDIA, {"Inserted": True, "Image": "https://depot.example/tools.iso"}, "another disc is in its virtual media"),
        (MEDIA, {"Inserted": True, "Image": None, "ImageName": "tools.iso"}, "another disc is in its virtual media"),
        (MEDIA, {"Actions": {INSERT: {"TransferProtocolType@Redfish.AllowableValues": ["CIFS"]}}}, "over nothing"),
        (MEDIA, {"Actions": {INSERT: {"target": None}}}, "it lets no disc be inserted"),
        (SYSTEM, {"Boot": {"BootSourceOverrideTarget@Redfish.AllowableValues": ["Pxe", "Hdd"]}}, "from a disc"),
        (SYSTEM, {"Boot": {"BootSourceOverrideEnabled@Redfish.AllowableValues": ["Once"]}}, "more than once"),
    ],
    ids=["sticks alone", "a foreign disc", "a foreign name", "other protocols", "no action", "no start", "once alone"],
)
async def test_what_does_not_let_it_is_said_and_nothing_is_inserted(device, path, told, why):
    device.patched[path] = told
    with pytest.raises(ControllerError, match=why):
        await controller_of(device).insert_disc(URIS)
    assert "media inserted" not in [entry["what"] for entry in device.log]


async def test_a_disc_of_somebody_else_stays_in_and_so_does_a_start_that_goes_elsewhere(device):
    device.patched[MEDIA] = {"Inserted": True, "Image": "https://depot.example/tools.iso"}
    device.patched[SYSTEM] = {"Boot": {"BootSourceOverrideEnabled": "Once", "BootSourceOverrideTarget": "Pxe"}}
    assert (await controller_of(device).eject_disc(URIS)).finished
    assert boot(device) == ("Once", "Pxe") and "media ejected" not in [entry["what"] for entry in device.log]


async def test_one_whose_address_is_kept_secret_is_known_by_its_name(device):
    controller = controller_of(device)
    await controller.insert_disc(URIS)
    device.patched[MEDIA] = {"Image": None, "ImageName": "ordnung-run-7.iso"}
    assert await controller.has_disc(URIS) == (True, True)
    device.patched[MEDIA] = {"Image": None, "ImageName": "ordnung-run-8.iso"}
    assert (await controller.has_disc(URIS))[0] is False


@pytest.mark.parametrize(
    ("image", "is_ours"),
    [
        ("https://ordnung.example:9443/t/ordnung-run-7.iso", True),
        ("HTTPS://ORDNUNG.example/t/ordnung-run-7.iso", True),
        ("https://ordnung.example/u/ordnung-run-7.iso", False),
        ("//[odd", False),
    ],
    ids=["another port since", "spelled otherwise", "another server's", "a broken address"],
)
async def test_ours_is_known_by_its_path(device, image, is_ours):
    device.patched[MEDIA] = {"Inserted": True, "Image": image}
    assert (await controller_of(device).has_disc(URIS))[0] is is_ours


async def test_a_kit_that_could_not_sign_in_is_not_started(device):
    device.quirks |= {"no user handed out"}
    with pytest.raises(ControllerError, match="hands out no user"):
        await controller_of(device).insert_disc(URIS)
    assert device.log == []
    device.patched["/redfish/v1/Managers/1/HostInterfaces/1"] = {"CredentialBootstrapping": None}
    assert (await controller_of(device).insert_disc(URIS)).finished, "untold is not refused"


async def test_a_service_without_virtual_media_says_so(device):
    device.patched[SYSTEM] = {"VirtualMedia": None}
    with pytest.raises(ControllerError, match="no virtual media for a disc"):
        await controller_of(device).insert_disc(URIS)
