"""What a stand-in's server runs when it was started from a disc in its virtual media: a host that is played elsewhere.

The hardware tells it when it starts and when it goes down; what it does there, it does through the controller, as the
field kit on a real disc would.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware


class Host(Protocol):
    """Who plays what runs on the disc."""

    def start(self, device: Hardware, image: str) -> None:
        """The server has started from a disc."""
        ...

    def stop(self, device: Hardware) -> None:
        """Its system goes down, or has lost its disc: at once, whatever it was doing."""
        ...


def goes_down(device: Hardware) -> None:
    """The server is reset."""
    if device.runs_disc and device.host is not None:
        device.host.stop(device)
    device.runs_disc = False


def comes_up(device: Hardware) -> None:
    """The server's start has ended: from the disc, where that is chosen and there is one."""
    if not device.starts_disc:
        return
    device.starts_disc = False
    image = device.media.get("Image")
    if image is None:
        return
    device.runs_disc = True
    device.note("disc started", image=image)
    if device.host is not None:
        device.host.start(device, str(image))


def takes_disc(device: Hardware, image: str) -> None:
    """A disc is inserted."""
    device.media = {"Image": image}
    device.note("media inserted", image=image)


def gives_disc(device: Hardware) -> None:
    """It is taken out."""
    device.media = {}
    device.note("media ejected")


def loses_disc(device: Hardware) -> None:
    """The line to the image breaks: the disc is gone from under what runs on it."""
    device.media = {}
    device.note("media lost")
    if device.runs_disc and device.host is not None:
        device.host.stop(device)
