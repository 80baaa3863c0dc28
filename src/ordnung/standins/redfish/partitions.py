"""The server's own flash store: a storage without drives, its service partitions, and the volumes that they lie on."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Part
from ordnung.standins.redfish.seen import find_part, parts_of
from ordnung.standins.redfish.tree import OK, V1, Resource, collection, link, resource

STORE = f"{V1}/Systems/1/Storage/flash"
KINDS = ("Fast", "Slow")
"""InitializeType (Volume schema)."""
_STATES = {
    "blank": ("Absent", "OK"), "empty": ("Absent", "OK"), "damaged": ("UnavailableOffline", "Critical"),
    "ready": ("Enabled", "OK"),
}  # fmt: skip
"""State and Health of a service partition (Resource schema, Status)."""


def has_volumes(device: Hardware) -> bool:
    """Whether its controller shows what the partitions lie on, and lets it be set up."""
    return "no partition volumes" not in device.quirks


def initialize_uri(slot: str) -> str:
    """Where the partition of a slot is set up anew."""
    return f"{STORE}/Volumes/{slot}/Actions/Volume.Initialize"


def _state(part: Part) -> Resource:
    state, health = _STATES[part.store or "ready"]
    return {"State": state, "Health": health}


@resource("Systems/1/Storage/flash", "Storage", "v1_15_0", "Flash store")
def store(device: Hardware) -> Resource | None:
    parts = parts_of(device, "store")
    if not parts:
        return None
    is_whole = all(part.store != "damaged" for part in parts)
    volumes = {"Volumes": link(f"{STORE}/Volumes")} if has_volumes(device) else {}
    return {"Status": {"State": "Enabled", "Health": "OK" if is_whole else "Critical"}, "Drives": [], **volumes}


collection("Systems/1/Storage/flash/Volumes", "Volume")(
    lambda device: [part.slot for part in parts_of(device, "store")] or None if has_volumes(device) else None
)


@resource("Systems/1/Storage/flash/Volumes/{slot}", "Volume", "v1_9_0")
def volume(device: Hardware, slot: str) -> Resource | None:
    part = find_part(device, slot, "store")
    if part is None or not has_volumes(device):
        return None
    is_whole = part.store in ("ready", "empty")
    kinds = {"InitializeType@Redfish.AllowableValues": list(KINDS)}
    return {
        "Name": part.name,
        "RAIDType": "None",
        "Status": dict(OK) if is_whole else {"State": "UnavailableOffline", "Health": "Critical"},
        "Actions": {"#Volume.Initialize": {"target": initialize_uri(slot), **kinds}},
    }


collection("UpdateService/SoftwareInventory", "SoftwareInventory")(
    lambda device: [part.slot for part in parts_of(device, "store")] or None
)


@resource("UpdateService/SoftwareInventory/{slot}", "SoftwareInventory", "v1_10_0")
def partition(device: Hardware, slot: str) -> Resource | None:
    """A service partition: one with nothing on it is Absent, a damaged one UnavailableOffline."""
    part = find_part(device, slot, "store")
    if part is None:
        return None
    return {
        "Name": part.name,
        "SoftwareId": part.software_id,
        "Version": part.version if part.store == "ready" else "",
        "Updateable": True,
        "Status": _state(part),
        "RelatedItem": [link(f"{STORE}/Volumes/{slot}" if has_volumes(device) else STORE)],
        "RelatedItem@odata.count": 1,
    }
