"""Where a server starts from, and the links of its cards."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Part
from ordnung.standins.redfish.partitions import STORE, has_volumes
from ordnung.standins.redfish.tree import OK, V1, Resource, collection, link, resource
from ordnung.standins.surroundings import BOOT_OPTIONS

PORTS = ("1", "2")
BOOTABLE = {"Boot0010": "store-diag", "Boot0011": "store-tools"}
"""The service partitions that a server can be started from, by the references of their boot options; the order of
its starts has none of them.
"""


def boot_order(device: Hardware) -> Resource:
    """What the system's ``Boot`` says of its order; the oldest generation tells none."""
    if device.generation == "oldest":
        return {}
    order = list(device.surroundings.boot_order)
    return {"BootOrder": order, "BootOptions": link(f"{V1}/Systems/1/BootOptions")}


def partition_of(device: Hardware, option: str) -> Part | None:
    """The service partition that a boot option starts from, if it is one and something is on it."""
    slot = BOOTABLE.get(option)
    return next((part for part in device.seen if part.slot == slot and part.store == "ready"), None)


def device_path(option: str) -> str:
    """The UEFI device path of a boot option of the flash store (made up, as everything of it)."""
    return f"PciRoot(0x0)/Pci(0x14,0x0)/USB(0x7,0x0)/HD({int(option[-2:]) - 9},GPT)"


collection("Systems/1/BootOptions", "BootOption")(
    lambda device: (
        None
        if device.generation == "oldest"
        else [*sorted(BOOT_OPTIONS), *(option for option in BOOTABLE if partition_of(device, option))]
    )
)


@resource("Systems/1/BootOptions/{option}", "BootOption", "v1_0_4")
def boot_option(device: Hardware, option: str) -> Resource | None:
    if device.generation == "oldest":
        return None
    told: Resource = {"BootOptionReference": option, "BootOptionEnabled": True}
    if (part := partition_of(device, option)) is not None:
        on = (
            f"{STORE}/Volumes/{part.slot}"
            if has_volumes(device)
            else f"{V1}/UpdateService/SoftwareInventory/{part.slot}"
        )
        related = {"RelatedItem": [link(on)], "RelatedItem@odata.count": 1, "UefiDevicePath": device_path(option)}
        return {"Name": part.name, "DisplayName": part.name, **told, **related}
    name = BOOT_OPTIONS.get(option)
    return None if name is None else {"Name": name, "DisplayName": name, **told}


def _nic(device: Hardware, slot: str) -> Part | None:
    return next((part for part in device.seen if part.kind == "nic" and part.slot == slot), None)


def _has_ports(device: Hardware) -> bool:
    """The older shapes tell links of interfaces, the poor ones none."""
    return not {"old shapes", "no optional"} & device.quirks


def ports_link(device: Hardware, slot: str) -> Resource:
    """What a card says of where its ports are told."""
    return {"Ports": link(f"{V1}/Chassis/1/NetworkAdapters/{slot}/Ports")} if _has_ports(device) else {}


collection("Chassis/1/NetworkAdapters/{slot}/Ports", "Port")(
    lambda device, slot: PORTS if _has_ports(device) and _nic(device, slot) else None
)


@resource("Chassis/1/NetworkAdapters/{slot}/Ports/{port}", "Port", "v1_9_0")
def port(device: Hardware, slot: str, number: str) -> Resource | None:
    part = _nic(device, slot)
    if part is None or number not in PORTS or not _has_ports(device):
        return None
    is_up = device.surroundings.has_link(part, int(number), device.now())
    return {"Name": f"Port {number}", "LinkStatus": "LinkUp" if is_up else "LinkDown", "Status": OK}


collection("Systems/1/EthernetInterfaces", "EthernetInterface")(
    lambda device: [part.slot for part in device.seen if part.kind == "nic"] if "old shapes" in device.quirks else None
)


@resource("Systems/1/EthernetInterfaces/{slot}", "EthernetInterface", "v1_9_0")
def ethernet_interface(device: Hardware, slot: str) -> Resource | None:
    part = _nic(device, slot)
    if part is None or "old shapes" not in device.quirks:
        return None
    is_up = device.surroundings.has_link(part, 1, device.now())
    return {"Name": part.name, "LinkStatus": "LinkUp" if is_up else "NoLink", "Status": OK}
