"""What clients may change: PATCH property by property, accounts, subscriptions (DSP0266, data modification)."""

from __future__ import annotations

import copy
import functools
import re
import secrets
from collections.abc import Callable
from typing import Any

from ordnung.standins import banks, virtual_host
from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import PRIVILEGES, Account, Part
from ordnung.standins.redfish.member_ids import STANDBY, member_path
from ordnung.standins.redfish.registries import message
from ordnung.standins.redfish.systems import BOOT_TARGETS, boot_targets
from ordnung.standins.redfish.tree import V1, Resource, merge

Check = Callable[[Any], bool]


def _text(value: Any) -> bool:
    return isinstance(value, str) and len(value) <= 128


def _one_of(*names: str) -> Check:
    return lambda value: value in names


def _flag(value: Any) -> bool:
    return isinstance(value, bool)


_BOOT: dict[str, Check] = {
    "BootSourceOverrideEnabled": _one_of("Disabled", "Once", "Continuous"),
    "BootSourceOverrideTarget": _one_of(*BOOT_TARGETS),
    "BootSourceOverrideMode": _one_of("UEFI", "Legacy"),
    "BootNext": _text,
    "UefiTargetBootSourceOverride": _text,
}
_IMAGE = {"Links": {"ActiveSoftwareImage": lambda value: isinstance(value, dict) and _text(value.get("@odata.id"))}}
WRITABLE: tuple[tuple[str, dict[str, Any]], ...] = (
    ("Systems/1", {"AssetTag": _text, "Boot": _BOOT}),
    ("Systems/1/Bios", _IMAGE),
    ("Managers/1", _IMAGE),
    ("Systems/1/VirtualMedia/CD1", {"Image": lambda value: value is None or isinstance(value, str), "Inserted": _flag}),
    ("Chassis/1", {"AssetTag": _text}),
    ("SessionService", {"SessionTimeout": lambda v: isinstance(v, int) and 30 <= v <= 86400}),
    ("EventService/Subscriptions/[^/]+", {"Context": _text}),
    (
        "AccountService/Accounts/[^/]+",
        {
            "UserName": lambda v: _text(v) and bool(v),
            "Password": lambda v: _text(v) and len(v) >= 8,
            "RoleId": _one_of(*PRIVILEGES),
            "Enabled": _flag,
            "Locked": lambda v: v is False,
        },
    ),
)


@functools.lru_cache(maxsize=8192)
def writable(path: str) -> dict[str, Any] | None:
    """The properties that can be changed at a path with their checks, or None."""
    below = path.removeprefix(f"{V1}/")
    return next((checks for pattern, checks in WRITABLE if re.fullmatch(pattern, below)), None)


def sort_changes(
    present: Resource, asked: Resource, checks: dict[str, Any], prefix: str = ""
) -> tuple[Resource, list[Resource]]:
    """What of a PATCH can be done, and a message for each property that can't."""
    good: Resource = {}
    notes: list[Resource] = []
    for key, value in asked.items():
        at, check = f"{prefix}{key}", checks.get(key)
        if key.startswith("@") or "@odata" in key:
            continue
        if isinstance(check, dict) and isinstance(value, dict):
            inner, changes = sort_changes(present.get(key) or {}, value, check, f"{at}/")
            notes += changes
            if inner:
                good[key] = inner
        elif callable(check):
            if check(value):
                good[key] = value
            else:
                kind = "PropertyValueNotInList" if isinstance(value, str) else "PropertyValueTypeError"
                notes.append(message(kind, str(value) if key != "Password" else "******", at, related=at))
        else:
            notes.append(message("PropertyNotWritable" if key in present else "PropertyUnknown", at, related=at))
    return good, notes


_BANKED = {"Managers/1": "controller", "Systems/1/Bios": "bios"}


def object_to(device: Hardware, path: str, good: Resource) -> list[Resource]:
    """What speaks against the good part of a PATCH on this very device."""
    if path.endswith(_MEDIA) and "media by change" not in device.quirks:
        return [message("PropertyNotWritable", name, related=name) for name in good]
    target = good.get("Boot", {}).get("BootSourceOverrideTarget")
    if target is not None and target not in boot_targets(device):
        name = "BootSourceOverrideTarget"
        return [message("PropertyValueNotInList", target, name, related=f"Boot/{name}")]
    part, chosen = _banked(device, path), good.get("Links", {}).get("ActiveSoftwareImage", {}).get("@odata.id")
    if part is None or chosen is None:
        return []
    names = (member_path(device, part), member_path(device, part, STANDBY))
    if chosen in names and (chosen == names[0] or banks.objection_to(part) is None):
        return []
    return [message("PropertyValueNotInList", str(chosen), "ActiveSoftwareImage", related="Links/ActiveSoftwareImage")]


def _banked(device: Hardware, path: str) -> Part | None:
    kind = _BANKED.get(path.removeprefix(f"{V1}/"))
    return next((part for part in device.seen if part.kind == kind), None)


def change(device: Hardware, path: str, good: Resource) -> None:
    """Carry out the good part of a PATCH."""
    if (part := _banked(device, path)) is not None:
        chosen = good["Links"]["ActiveSoftwareImage"]["@odata.id"]
        banks.choose(part, chosen == member_path(device, part, STANDBY))
        device.note("bank chosen", slot=part.slot, version=part.spare if part.next_bank else part.version)
        return
    match path.removeprefix(f"{V1}/").split("/"):
        case ["AccountService", "Accounts", number]:
            _change_account(device, number, good)
        case ["EventService", "Subscriptions", number]:
            device.subscriptions[number].update(good)
        case ["Systems", "1", "VirtualMedia", _]:
            _change_media(device, good)
            return
        case ["Systems", "1"] if "AssetTag" in good:
            device.asset_tag = good.pop("AssetTag")
            merge(device.patched.setdefault(path, {}), copy.deepcopy(good))
        case _:
            merge(device.patched.setdefault(path, {}), copy.deepcopy(good))
    device.note("changed", path=path, names=sorted(good))


_MEDIA = "/VirtualMedia/CD1"


def _change_media(device: Hardware, good: Resource) -> None:
    """An image is inserted as it is set, unless it says that it is not to be."""
    if good.get("Image") and good.get("Inserted", True):
        virtual_host.takes_disc(device, good["Image"])
    elif device.media:
        virtual_host.gives_disc(device)


_FIELDS = {"UserName": "user", "Password": "password", "RoleId": "role", "Enabled": "enabled", "Locked": "locked"}


def _change_account(device: Hardware, number: str, good: Resource) -> None:
    account = device.accounts[number]
    for key, value in good.items():
        setattr(account, _FIELDS[key], value)
    if "Password" in good:
        account.change_required = False
    if {"Password", "Enabled", "UserName"} & set(good):
        device.sessions = {t: s for t, s in device.sessions.items() if s.account != number}


def add_account(device: Hardware, body: Resource) -> str | list[Resource]:
    """A new account's id, or why not."""
    _, notes = sort_changes({}, body, writable(f"{V1}/AccountService/Accounts/x") or {})
    notes += [
        message("PropertyMissing", name, related=name)
        for name in ("UserName", "Password", "RoleId")
        if name not in body
    ]
    if not notes and any(a.user == body["UserName"] for a in device.accounts.values()):
        notes.append(message("PropertyValueNotInList", str(body["UserName"]), "UserName", related="UserName"))
    if notes:
        return notes
    number = str(max(map(int, device.accounts)) + 1)
    device.accounts[number] = Account(
        body["UserName"], body["Password"], body["RoleId"], body.get("Enabled", True), body.get("Locked", False)
    )
    device.note("account added", user=body["UserName"])
    return number


def add_subscription(device: Hardware, body: Resource) -> str | list[Resource]:
    """A new subscription's id, or why not."""
    notes = [message("PropertyMissing", name, related=name) for name in ("Destination", "Protocol") if name not in body]
    if not notes and not re.match(r"^https?://[^/]+", str(body["Destination"])):
        notes.append(message("PropertyValueNotInList", str(body["Destination"]), "Destination", related="Destination"))
    if not notes and body["Protocol"] != "Redfish":
        notes.append(message("PropertyValueNotInList", str(body["Protocol"]), "Protocol", related="Protocol"))
    if notes:
        return notes
    number = secrets.token_hex(4)
    device.subscriptions[number] = {
        "Name": "Subscription",
        "Destination": body["Destination"],
        "Protocol": "Redfish",
        "Context": str(body.get("Context") or ""),
        "SubscriptionType": "RedfishEvent",
        "EventFormatType": "Event",
        "VerifyCertificate": bool(body.get("VerifyCertificate", True)),
        "DeliveryRetryPolicy": "TerminateAfterRetries",
        "Status": {"State": "Enabled", "Health": "OK"},
    }
    return number
