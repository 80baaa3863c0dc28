"""What the standard allows and real controllers do to their resources; see ``faults.QUIRKS``."""

from __future__ import annotations

from typing import Any

from ordnung.standins.hardware import Hardware

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
    if "trailing blanks" in device.quirks:
        _walk(body, _pad)
    if "numbers as strings" in device.quirks:
        _walk(body, _spell)
    return body


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
