"""The enclosure that a server is plugged into, as its own controller tells of it: what is done to it, is done to all.

It stands before the server's own chassis, and its manager before the server's own; both may be reset from here.
"""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.redfish.tree import OK, V1, Resource, link, resource

CHASSIS, MANAGER = f"{V1}/Chassis/enclosure", f"{V1}/Managers/enclosure"
CHASSIS_RESET, MANAGER_RESET = f"{CHASSIS}/Actions/Chassis.Reset", f"{MANAGER}/Actions/Manager.Reset"
TOGETHER = "cycled together"
"""The manner of a server that can't be power-cycled alone."""


def is_enclosed(device: Hardware) -> bool:
    """Whether the server is plugged into an enclosure with others."""
    return bool({"in an enclosure", TOGETHER} & device.quirks)


def around(device: Hardware) -> list[str]:
    """The enclosure's own member of ``Chassis`` and of ``Managers``, where there is one; a second system adds none."""
    return ["enclosure"] if is_enclosed(device) and not device.is_second else []


def links_around(device: Hardware, path: str) -> list[dict[str, str]]:
    """What a server's system names before its own: the enclosure (``CHASSIS``) or its ``MANAGER``."""
    return [link(path)] if is_enclosed(device) else []


def tell_enclosure() -> Resource:
    """The enclosure's chassis, without what is fitted in it."""
    return {
        "ChassisType": "Enclosure",
        "PowerState": "On",
        "Status": OK,
        "Links": {"Contains": [link(f"{V1}/Chassis/1")], "ManagedBy": [link(MANAGER)]},
        "Actions": {"#Chassis.Reset": {"target": CHASSIS_RESET, "ResetType@Redfish.AllowableValues": ["PowerCycle"]}},
    }


@resource("Managers/enclosure", "Manager", "v1_17_0", "Enclosure manager")
def enclosure_manager(device: Hardware) -> Resource | None:
    if not is_enclosed(device):
        return None
    types = ["GracefulRestart", "ForceRestart"]
    return {
        "ManagerType": "EnclosureManager",
        "FirmwareVersion": "3.2",
        "Status": OK,
        "Links": {"ManagerForChassis": [link(CHASSIS)]},
        "Actions": {"#Manager.Reset": {"target": MANAGER_RESET, "ResetType@Redfish.AllowableValues": types}},
    }
