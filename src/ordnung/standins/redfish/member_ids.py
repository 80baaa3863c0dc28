"""How the members of its firmware inventory are named: nothing in the standard says more than that each has an Id."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Part
from ordnung.standins.redfish.tree import V1

INVENTORY = f"{V1}/UpdateService/FirmwareInventory"
RUNNING, STANDBY, STAGED = "", "standby", "staged"


def member_id(device: Hardware, part: Part, image: str = RUNNING) -> str:
    """The Id of the member for one image of a part."""
    if "versions in ids" in device.quirks:
        word = {RUNNING: None, STANDBY: "previous", STAGED: "available"}[image]
        version = {RUNNING: device.shown_version(part), STANDBY: part.spare, STAGED: part.waiting}[image]
        return "-".join(filter(None, (word, part.slot, (version or "").replace(".", "_"))))
    if "two images" in device.quirks and image != STAGED:
        return f"{part.slot}-second" if part.in_second is (image == RUNNING) else part.slot
    return f"{part.slot}.{image}" if image else part.slot


def member_path(device: Hardware, part: Part, image: str = RUNNING) -> str:
    """Where that member is."""
    return f"{INVENTORY}/{member_id(device, part, image)}"


def images_of(device: Hardware, part: Part) -> list[str]:
    """Which images of a part are told: the one it runs, its other bank, and one that waits where that is told."""
    tells_waiting = part.waiting is not None and not {"waiting untold", "versions early"} & device.quirks
    return [RUNNING, *([STANDBY] if part.spare is not None else []), *([STAGED] if tells_waiting else [])]


def find_member(device: Hardware, parts: list[Part], name: str) -> tuple[Part, str] | None:
    """Of which part, and which of its images, a member is; None where there is none of that name."""
    pairs = ((part, image) for part in parts for image in images_of(device, part))
    return next(((part, image) for part, image in pairs if member_id(device, part, image) == name), None)
