"""What the standard allows and real controllers do to their resources; see ``faults.QUIRKS``."""

from __future__ import annotations

import datetime
from typing import Any

from ordnung.standins.hardware import Hardware, moment
from ordnung.standins.waking import is_waking

_VERSIONS = frozenset({"Version", "FirmwareVersion", "FirmwarePackageVersion", "Revision", "BiosVersion"})


def apply_quirks(device: Hardware, body: dict[str, Any]) -> dict[str, Any]:
    """The resource as this controller spells it."""
    if not device.quirks:
        return body
    kind = str(body.get("@odata.type", "")).lstrip("#").partition(".")[0]
    if "no drive revision" in device.quirks and kind == "Drive":
        body.pop("Revision", None)
    if "no related items" in device.quirks and kind == "SoftwareInventory":
        body.pop("RelatedItem", None)
        body.pop("RelatedItem@odata.count", None)
    if "dead links" in device.quirks and kind in ("ComputerSystem", "Chassis"):
        for name in ("Memory", "Processors", "NetworkInterfaces", "TrustedComponents", "Sensors"):
            body[name] = {"@odata.id": f"{body['@odata.id']}/{name}"}
    _leave_out(device, body, kind)
    if "LastResetTime" in body:
        body["LastResetTime"] = _told_reset(device, kind, body["LastResetTime"])
    if "zero uuid" in device.quirks and "UUID" in body:
        body["UUID"] = "00000000-0000-0000-0000-000000000000"
    if "trailing blanks" in device.quirks:
        _walk(body, _pad)
    if "numbers as strings" in device.quirks:
        _walk(body, _spell)
    return body


_LEFT_OUT: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "no reset time": (("ComputerSystem", "Manager"), ("LastResetTime",)),
    "no boot progress": (("ComputerSystem",), ("BootProgress",)),
    "no task state": (("Task",), ("TaskState", "TaskStatus", "PercentComplete", "EndTime")),
    "no task list": (("ServiceRoot",), ("Tasks", "JobService")),
    "jobs instead of tasks": (("ServiceRoot",), ("Tasks",)),
    "basic only": (("ServiceRoot",), ("SessionService",)),
    "no session context": (("Session",), ("Context",)),
}
"""By manner: the kinds of resources and what they don't tell."""


_RESET = ("ComputerSystem", "Manager", "Chassis")


def _leave_out(device: Hardware, body: dict[str, Any], kind: str) -> None:
    for quirk, (kinds, names) in _LEFT_OUT.items():
        if quirk in device.quirks and kind in kinds:
            for name in names:
                body.pop(name, None)
    if "starts untold" in device.quirks and kind == "ComputerSystem":
        for name in ("BootSourceOverrideEnabled", "BootSourceOverrideTarget"):
            body["Boot"].pop(name, None)
    if "start told in its words" in device.quirks and "BootProgress" in body:
        body["BootProgress"] = {"LastState": "OEM", "OemLastState": f"step {body['BootProgress']['LastState']}"}
    if kind in _RESET and is_waking(device, "resets untold"):
        body.pop("Actions", None)
    if "inline members" in device.quirks and kind == "PowerSupply":
        body.pop("@odata.id", None)
    if kind == "ServiceRoot":
        if "basic only" in device.quirks:
            body.pop("Links", None)
        if "sessions elsewhere" in device.quirks:
            body["Links"] = {"Sessions": {"@odata.id": ELSEWHERE}}
    if "action info" in device.quirks and isinstance(body.get("Actions"), dict):
        for name, action in body["Actions"].items():
            if name.endswith(".Reset") and action.pop("ResetType@Redfish.AllowableValues", None):
                action["@Redfish.ActionInfo"] = f"{body['@odata.id']}/ResetActionInfo"
            if name.endswith(".SimpleUpdate") and action.pop("TransferProtocol@Redfish.AllowableValues", None):
                action["@Redfish.ActionInfo"] = f"{body['@odata.id']}/SimpleUpdateActionInfo"


_POWER_CAME = "2026-05-04T06:12:00Z"


def _told_reset(device: Hardware, kind: str, true: str) -> str:
    """When a resource says that what it stands for was reset last."""
    if "reset times in 1970" in device.quirks:
        return "1970-01-01T00:00:07Z"
    if "restarts not counted" in device.quirks and kind == "ComputerSystem":
        cycles = [e["at"] for e in device.log if e["what"] == "reset" and e["kind"] in ("power cycle", "power cut")]
        return moment(cycles[-1]) if cycles else _POWER_CAME
    if "reset times reckoned" in device.quirks:
        when = datetime.datetime.fromisoformat(true) + datetime.timedelta(seconds=int(device.now()) % 3)
        return when.isoformat()
    return true


ELSEWHERE = "/redfish/v1/Sessions"
"""Where the sessions are of a controller that has them elsewhere."""


def _walk(value: Any, change: Any) -> None:
    if isinstance(value, dict):
        for key, inner in value.items():
            if isinstance(inner, dict | list):
                _walk(inner, change)
            else:
                value[key] = change(key, inner)
    elif isinstance(value, list):
        for inner in value:
            _walk(inner, change)


def _pad(key: str, value: Any) -> Any:
    return f"{value}  " if key in _VERSIONS and isinstance(value, str) and value else value


def _spell(key: str, value: Any) -> Any:
    return str(value).lower() if isinstance(value, int | float) else value
