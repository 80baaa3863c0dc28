"""Where a start goes that was sent elsewhere than to the server's own system (ComputerSystem schema, Boot)."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware

_OPTIONS = {"UefiBootNext": "BootNext", "UefiTarget": "UefiTargetBootSourceOverride"}
"""For targets that are one boot option, which property says which."""


def follow_override(device: Hardware) -> None:
    """The server starts: where it was sent, and from then on as usual if that was for once."""
    boot = device.patched.get("/redfish/v1/Systems/1", {}).get("Boot", {})
    is_sent = boot.get("BootSourceOverrideEnabled", "Disabled") != "Disabled"
    target = boot.get("BootSourceOverrideTarget", "None") if is_sent else "None"
    device.starts_option = boot.get(_OPTIONS.get(target, ""))
    if target != "None":
        option = {"option": device.starts_option} if device.starts_option else {}
        device.note("other start", target=target, **option)
    device.starts_disc = target == "Cd" and bool(device.media) and not device.take_fault("boot order ignored")
    if boot.get("BootSourceOverrideEnabled") == "Once":
        boot.update({"BootSourceOverrideEnabled": "Disabled", "BootSourceOverrideTarget": "None"})
