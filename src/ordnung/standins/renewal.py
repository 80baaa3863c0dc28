"""What some controllers make anew with their own new image, so that nobody who knew them is let in."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware

PASSWORD_DELIVERED = "as it was delivered"  # noqa: S105  # a stand-in's


def make_anew(device: Hardware) -> None:
    """Its certificate, its accounts, or both, as its manners say."""
    if "certificate anew" in device.quirks:
        device.certificates += 1
        device.note("certificate made anew")
        if device.show_certificate is not None:
            device.show_certificate(device)
    if "accounts anew" in device.quirks:
        device.password = PASSWORD_DELIVERED
        device.accounts["1"].change_required = True
        device.sessions.clear()
        device.note("accounts as delivered")
