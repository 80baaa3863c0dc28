"""Chassis: cards, PCIe and power."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Part
from ordnung.standins.redfish import enclosure
from ordnung.standins.redfish.boot import ports_link
from ordnung.standins.redfish.enclosure import TOGETHER, around, is_enclosed, tell_enclosure
from ordnung.standins.redfish.seen import find_part, parts_of
from ordnung.standins.redfish.systems import action_info, facts_of, has_old_shapes, status_of
from ordnung.standins.redfish.tree import OK, V1, Resource, collection, link, resource

CHASSIS_RESET = f"{V1}/Chassis/1/Actions/Chassis.Reset"
TWIN = "cards"
"""The chassis that lists every card a second time, where a controller does that."""


def _has_twin(device: Hardware) -> bool:
    return "nic twice" in device.quirks


def _is_plain(device: Hardware) -> bool:
    return "no optional" in device.quirks


collection("Chassis", "Chassis")(
    lambda device: [*around(device), "1", TWIN] if _has_twin(device) else [*around(device), "1"]
)


@resource("Chassis/1", "Chassis", "v1_23_0")
def chassis(device: Hardware) -> Resource:
    base = f"{V1}/Chassis/1"
    body: Resource = {
        "Name": device.name,
        "ChassisType": "Sled" if is_enclosed(device) else "RackMount",
        "Model": device.model,
        "SerialNumber": device.serial,
        "AssetTag": device.asset_tag,
        "PowerState": "On",
        "Status": OK,
        "NetworkAdapters": link(f"{base}/NetworkAdapters"),
        "Links": {"ComputerSystems": [link(f"{V1}/Systems/1")], "ManagedBy": [link(f"{V1}/Managers/1")]},
        "Actions": {"#Chassis.Reset": {"target": CHASSIS_RESET, "ResetType@Redfish.AllowableValues": ["PowerCycle"]}},
    }
    if {"power cycle on system", TOGETHER} & device.quirks:
        del body["Actions"]
    if not _is_plain(device):
        body["PCIeDevices"] = link(f"{base}/PCIeDevices")
    if is_enclosed(device):
        body["Links"]["ContainedBy"] = link(enclosure.CHASSIS)
        return body
    return body | _power_link(device)


@resource("Chassis/enclosure", "Chassis", "v1_23_0", "Enclosure")
def around_it(device: Hardware) -> Resource | None:
    """What it is plugged into: with the power supplies, and a reset for all servers in it."""
    return {**tell_enclosure(), **_power_link(device)} if is_enclosed(device) else None


def _power_link(device: Hardware) -> Resource:
    power = "Power" if has_old_shapes(device) else "PowerSubsystem"
    return {} if _is_plain(device) else {power: link(f"{V1}/Chassis/1/{power}")}


@resource("Chassis/1/ResetActionInfo", "ActionInfo", "v1_4_0", "Reset")
def reset_info(device: Hardware) -> Resource | None:
    return action_info(device, ["PowerCycle"])


@resource("Chassis/cards", "Chassis", "v1_23_0", "Card cage")
def card_cage(device: Hardware) -> Resource | None:
    if not _has_twin(device):
        return None
    base = f"{V1}/Chassis/{TWIN}"
    return {"ChassisType": "Module", "Status": OK, "NetworkAdapters": link(f"{base}/NetworkAdapters")}


@collection("Chassis/{chassis}/NetworkAdapters", "NetworkAdapter")
def adapters(device: Hardware, name: str) -> list[str] | None:
    if name != "1" and not (name == TWIN and _has_twin(device)):
        return None
    return [part.slot for part in parts_of(device, "nic")]


@resource("Chassis/{chassis}/NetworkAdapters/{slot}", "NetworkAdapter", "v1_9_0")
def adapter(device: Hardware, name: str, slot: str) -> Resource | None:
    part = find_part(device, slot, "nic")
    if part is None or (name != "1" and not (name == TWIN and _has_twin(device))):
        return None
    cards = [] if _is_plain(device) or not part.pci else [link(f"{V1}/Chassis/1/PCIeDevices/{slot}")]
    return {
        "Name": part.name,
        "Model": part.name,
        "PartNumber": part.number,
        "SerialNumber": part.serial,
        "Status": status_of(device, part),
        **ports_link(device, slot),
        "Controllers": [{"FirmwarePackageVersion": device.shown_version(part), "Links": {"PCIeDevices": cards}}],
    }


def _cards(device: Hardware) -> list[Part]:
    return [] if _is_plain(device) else [part for part in device.seen if part.pci]


def _card(device: Hardware, slot: str) -> Part | None:
    return next((part for part in _cards(device) if part.slot == slot), None)


collection("Chassis/1/PCIeDevices", "PCIeDevice")(
    lambda device: None if _is_plain(device) else [part.slot for part in _cards(device)]
)


@resource("Chassis/1/PCIeDevices/{slot}", "PCIeDevice", "v1_12_0")
def pcie_device(device: Hardware, slot: str) -> Resource | None:
    part = _card(device, slot)
    if part is None:
        return None
    functions = link(f"{V1}/Chassis/1/PCIeDevices/{slot}/PCIeFunctions")
    return {"Name": part.name, **facts_of(device, part), "PCIeFunctions": functions}


collection("Chassis/1/PCIeDevices/{slot}/PCIeFunctions", "PCIeFunction")(
    lambda device, slot: ["1"] if _card(device, slot) else None
)


@resource("Chassis/1/PCIeDevices/{slot}/PCIeFunctions/1", "PCIeFunction", "v1_5_0")
def pcie_function(device: Hardware, slot: str) -> Resource | None:
    part = _card(device, slot)
    if part is None or not part.pci:
        return None
    names = ("VendorId", "DeviceId", "SubsystemVendorId", "SubsystemId")
    ids = {name: f"0x{piece}" for name, piece in zip(names, part.pci.split(":"), strict=True)}
    return {"Name": part.name, **ids}


@resource("Chassis/1/PowerSubsystem", "PowerSubsystem", "v1_1_0", "Power")
def power_subsystem(device: Hardware) -> Resource | None:
    if has_old_shapes(device) or _is_plain(device):
        return None
    return {"Status": OK, "PowerSupplies": link(f"{V1}/Chassis/1/PowerSubsystem/PowerSupplies")}


collection("Chassis/1/PowerSubsystem/PowerSupplies", "PowerSupply")(
    lambda device: (
        None if has_old_shapes(device) or _is_plain(device) else [part.slot for part in parts_of(device, "power")]
    )
)


@resource("Chassis/1/PowerSubsystem/PowerSupplies/{slot}", "PowerSupply", "v1_5_0")
def power_supply(device: Hardware, slot: str) -> Resource | None:
    part = find_part(device, slot, "power")
    if part is None or has_old_shapes(device) or _is_plain(device):
        return None
    return {"Name": part.name, **_supply_facts(device, part)}


@resource("Chassis/1/Power", "Power", "v1_7_0", "Power")
def power(device: Hardware) -> Resource | None:
    if not has_old_shapes(device) or _is_plain(device):
        return None
    base = f"{V1}/Chassis/1/Power#/PowerSupplies"
    supplies = [
        {"@odata.id": f"{base}/{n}", "MemberId": part.slot, "Name": part.name, **_supply_facts(device, part)}
        for n, part in enumerate(parts_of(device, "power"))
    ]
    return {"PowerSupplies": supplies, "PowerSupplies@odata.count": len(supplies)}


def _supply_facts(device: Hardware, part: Part) -> Resource:
    lost = device.has_fault("feed lost") and part is parts_of(device, "power")[-1]
    facts = {**facts_of(device, part), "LineInputStatus": "LossOfInput" if lost else "Normal"}
    if lost:
        facts["Status"] = {"State": "UnavailableOffline", "Health": "Critical"}
    return facts
