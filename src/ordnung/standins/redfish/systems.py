"""Systems: the server itself, its BIOS, storage, boot and virtual media."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware, moment
from ordnung.standins.parts import Part
from ordnung.standins.redfish import enclosure
from ordnung.standins.redfish.boot import boot_order
from ordnung.standins.redfish.enclosure import links_around
from ordnung.standins.redfish.member_ids import STANDBY, member_path
from ordnung.standins.redfish.seen import find_part, parts_of
from ordnung.standins.redfish.tree import OK, V1, Resource, collection, link, resource

SYSTEM_RESET = f"{V1}/Systems/1/Actions/ComputerSystem.Reset"


def reset_types(device: Hardware) -> list[str]:
    """What may be asked of the system."""
    cycle = ["PowerCycle"] if "power cycle on system" in device.quirks else []
    return ["On", "ForceOff", "GracefulRestart", "ForceRestart", "PushPowerButton", *cycle]


BOOT_TARGETS = ["None", "Pxe", "Cd", "Usb", "Hdd", "BiosSetup", "UefiShell", "UefiHttp", "UefiTarget", "UefiBootNext"]


def boot_targets(device: Hardware) -> list[str]:
    """Where the next start may be sent."""
    return [target for target in BOOT_TARGETS if target != "UefiBootNext" or "starts by path" not in device.quirks]


def has_old_shapes(device: Hardware) -> bool:
    """Whether the older resources are told instead of the newer ones."""
    return "old shapes" in device.quirks


collection("Systems", "ComputerSystem")(lambda device: ["1"])


def _power(device: Hardware) -> str:
    is_starting = device.now() < device.boot_until
    return "PoweringOn" if is_starting and "power in steps" in device.quirks else "On"


@resource("Systems/1", "ComputerSystem", "v1_20_0")
def system(device: Hardware) -> Resource:
    bios = parts_of(device, "bios")
    is_sent_once = "one other start" in device.quirks
    body: Resource = {
        "Name": device.name,
        "SystemType": "Physical",
        "Model": device.model,
        "Manufacturer": device.model.split()[0],
        "SerialNumber": device.serial,
        "AssetTag": device.asset_tag,
        "UUID": device.uuid,
        "HostName": device.name,
        "PowerState": _power(device),
        "BiosVersion": device.shown_version(bios[0]) if bios else None,
        "BootProgress": {"LastState": device.boot_state},
        "LastResetTime": moment(device.system_reset_at),
        "Status": {**OK, "HealthRollup": health(device)},
        "Boot": {
            "BootSourceOverrideEnabled": "Disabled",
            "BootSourceOverrideTarget": "None",
            "BootSourceOverrideTarget@Redfish.AllowableValues": boot_targets(device),
            "BootSourceOverrideMode": "UEFI",
            **({"BootSourceOverrideEnabled@Redfish.AllowableValues": ["Disabled", "Once"]} if is_sent_once else {}),
            **boot_order(device),
        },
        "Bios": link(f"{V1}/Systems/1/Bios"),
        "Storage": link(f"{V1}/Systems/1/Storage"),
        **media_link(device, older=False),
        "Links": {
            "Chassis": [*links_around(device, enclosure.CHASSIS), link(f"{V1}/Chassis/1")],
            "ManagedBy": [*links_around(device, enclosure.MANAGER), link(f"{V1}/Managers/1")],
        },
        "Actions": {
            "#ComputerSystem.Reset": {"target": SYSTEM_RESET, "ResetType@Redfish.AllowableValues": reset_types(device)}
        },
    }
    if has_old_shapes(device):
        body["NetworkInterfaces"] = link(f"{V1}/Systems/1/NetworkInterfaces")
        body["EthernetInterfaces"] = link(f"{V1}/Systems/1/EthernetInterfaces")
    return body


def media_link(device: Hardware, *, older: bool) -> Resource:
    """Where its virtual media are told: with the system, or with its manager as in older services."""
    is_older = "media at manager" in device.quirks
    return {"VirtualMedia": link(f"{V1}/Systems/1/VirtualMedia")} if is_older is older else {}


@resource("Systems/1/ResetActionInfo", "ActionInfo", "v1_4_0", "Reset")
def reset_info(device: Hardware) -> Resource | None:
    return action_info(device, reset_types(device))


def action_info(device: Hardware, types: list[str]) -> Resource | None:
    """What a reset action takes, for those that tell it this way."""
    if "action info" not in device.quirks:
        return None
    return {
        "Parameters": [{"Name": "ResetType", "Required": True, "DataType": "String", "AllowableValues": types}]
    }  # fmt: skip


def health(device: Hardware) -> str:
    """The worst of its components."""
    if any(part.dead for part in device.seen):
        return "Critical"
    is_poor = device.surroundings.is_degraded(device.now()) or any(
        map(device.has_fault, ("array rebuilding", "feed lost"))
    )
    return "Warning" if is_poor else "OK"


def bank_links(device: Hardware, part: Part) -> Resource:
    """Which image is active and which there are."""
    images = [link(member_path(device, part))]
    if part.spare is not None:
        images.append(link(member_path(device, part, STANDBY)))
    active = images[-1] if part.next_bank else images[0]
    if "two images" in device.quirks and part.in_second:
        images.reverse()
    return {"ActiveSoftwareImage": active, "SoftwareImages": images, "SoftwareImages@odata.count": len(images)}


@resource("Systems/1/Bios", "Bios", "v1_2_0", "BIOS")
def bios(device: Hardware) -> Resource:
    body: Resource = {"Links": bank_links(device, parts_of(device, "bios")[0])}
    if device.generation != "oldest":
        body["Attributes"] = dict(device.surroundings.settings)
        body["@Redfish.Settings"] = {
            "@odata.type": "#Settings.v1_3_5.Settings", "SettingsObject": link(f"{V1}/Systems/1/Bios/Settings"),
        }  # fmt: skip
    return body


@resource("Systems/1/Bios/Settings", "Bios", "v1_2_0", "BIOS, from its next start on")
def staged_bios(device: Hardware) -> Resource | None:
    """What somebody has changed and the next start makes active; only that."""
    return {"Attributes": dict(device.surroundings.staged)} if device.generation != "oldest" else None


@collection("Systems/1/Storage", "Storage")
def storages(device: Hardware) -> list[str]:
    own = ["1"] if parts_of(device, "raid", "drive") else []
    return own + (["flash"] if parts_of(device, "store") else [])


@resource("Systems/1/Storage/{storage}", "Storage", "v1_15_0")
def storage(device: Hardware, name: str) -> Resource | None:
    base = f"{V1}/Systems/1/Storage/{name}"
    if name != "1" or not parts_of(device, "raid", "drive"):
        return None
    drives = [link(f"{base}/Drives/{part.slot}") for part in parts_of(device, "drive")]
    body: Resource = {"Name": "Storage", "Status": OK, "Drives": drives, "Drives@odata.count": len(drives)}
    if has_old_shapes(device):
        body["StorageControllers"] = [
            {
                "@odata.id": f"{base}#/StorageControllers/{number}",
                "MemberId": part.slot,
                "Name": part.name,
                **facts_of(device, part),
                "Links": {"PCIeFunctions": _functions(device, part)},
            }
            for number, part in enumerate(parts_of(device, "raid"))
        ]
    else:
        body["Controllers"] = link(f"{base}/Controllers")
    if device.generation != "oldest":
        body["Volumes"] = link(f"{base}/Volumes")
    return body


collection("Systems/1/Storage/1/Controllers", "StorageController")(
    lambda device: None if has_old_shapes(device) else [part.slot for part in parts_of(device, "raid")]
)


@resource("Systems/1/Storage/1/Controllers/{slot}", "StorageController", "v1_7_0")
def storage_controller(device: Hardware, slot: str) -> Resource | None:
    part = find_part(device, slot, "raid")
    if part is None or has_old_shapes(device):
        return None
    return {"Name": part.name, **facts_of(device, part), "Links": {"PCIeFunctions": _functions(device, part)}}


def _functions(device: Hardware, part: Part) -> list[Resource]:
    shown = part.pci and "no optional" not in device.quirks
    return [link(f"{V1}/Chassis/1/PCIeDevices/{part.slot}/PCIeFunctions/1")] if shown else []


@resource("Systems/1/Storage/1/Drives/{slot}", "Drive", "v1_17_0")
def drive(device: Hardware, slot: str) -> Resource | None:
    part = find_part(device, slot, "drive")
    if part is None:
        return None
    return {
        "Name": part.name,
        "Model": part.name,
        "PartNumber": part.number,
        "SerialNumber": part.serial,
        "Revision": device.shown_version(part),
        "Status": status_of(device, part),
    }


collection("Systems/1/Storage/1/Volumes", "Volume")(
    lambda device: ["1"] if device.generation != "oldest" and parts_of(device, "drive") else None
)


@resource("Systems/1/Storage/1/Volumes/1", "Volume", "v1_9_0", "Volume 1")
def volume(device: Hardware) -> Resource | None:
    if device.generation == "oldest" or not parts_of(device, "drive"):
        return None
    if device.surroundings.is_degraded(device.now()):
        return {"Status": {"State": "Degraded", "Health": "Warning"}, "Operations": []}
    if not device.has_fault("array rebuilding"):
        return {"Status": OK, "Operations": []}
    work = {"OperationName": "Rebuild", "PercentageComplete": 37}
    return {"Status": {"State": "Enabled", "Health": "Warning"}, "Operations": [work]}


collection("Systems/1/NetworkInterfaces", "NetworkInterface")(
    lambda device: [part.slot for part in parts_of(device, "nic")] if has_old_shapes(device) else None
)


@resource("Systems/1/NetworkInterfaces/{slot}", "NetworkInterface", "v1_2_0")
def network_interface(device: Hardware, slot: str) -> Resource | None:
    part = find_part(device, slot, "nic")
    if part is None or not has_old_shapes(device):
        return None
    links = {"NetworkAdapter": link(f"{V1}/Chassis/1/NetworkAdapters/{slot}")}
    return {"Name": part.name, "Status": status_of(device, part), "Links": links}


collection("Systems/1/VirtualMedia", "VirtualMedia")(lambda device: ["CD1"])


@resource("Systems/1/VirtualMedia/CD1", "VirtualMedia", "v1_6_0", "Virtual disc")
def virtual_media(device: Hardware) -> Resource:
    base = f"{V1}/Systems/1/VirtualMedia/CD1/Actions"
    image = device.media.get("Image")
    return {
        "MediaTypes": ["CD", "DVD"],
        "Image": image,
        "ImageName": str(image).rsplit("/", 1)[-1] if image else None,
        "Inserted": image is not None,
        "ConnectedVia": "URI" if image else "NotConnected",
        "WriteProtected": True,
        "TransferMethod": "Stream" if image else None,
        "Actions": {}
        if "media by change" in device.quirks
        else {
            "#VirtualMedia.InsertMedia": {"target": f"{base}/VirtualMedia.InsertMedia"},
            "#VirtualMedia.EjectMedia": {"target": f"{base}/VirtualMedia.EjectMedia"},
        },
    }


def facts_of(device: Hardware, part: Part) -> Resource:
    """What a device tells of itself."""
    return {
        "Model": part.name,
        "PartNumber": part.number,
        "SerialNumber": part.serial,
        "FirmwareVersion": device.shown_version(part),
        "Status": status_of(device, part),
    }


def status_of(device: Hardware, part: Part) -> Resource:
    """Enabled and well, starting, or dead."""
    if device.now() < part.away_until:
        return {"State": "Starting", "Health": "Warning"}
    return {"State": "Enabled", "Health": "Critical"} if part.dead else dict(OK)
