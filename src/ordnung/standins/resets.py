"""What a stand-in's resets do: writes are cut, the controller is away, the server starts, images become active."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ordnung.standins import partitions, staging, starts, virtual_host
from ordnung.standins.faults import CHANGING

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware

HANGING = 10.0**8
"""A start that takes so long never ends by itself."""
UP = "system up"
"""What comes when a start has ended and the server's own system runs."""
LATE_S = 90.0
"""After this a controller comes to a reset that it has taken on, where it does not at once."""


def ask(device: Hardware, act: str) -> None:
    """One of ``RESETS`` is asked for: at once, or when this controller comes to it."""
    if "resets late" in device.quirks:
        device.schedule(device.now() + LATE_S, act)
    else:
        RESETS[act](device)


def restart_controller(device: Hardware) -> None:
    """Manager.Reset: the controller is away for a time, sessions are gone."""
    if device.take_fault("restart ignored"):
        device.note("restart ignored")
        return
    for system in (device, device.beside):
        if system is not None:
            _cut_writes(system, "controller restart")
    _controller_dies(device)
    device.faults = [fault for fault in device.faults if fault.kind != "wants a restart"]
    device.note("reset", kind="controller restart")
    device.schedule(device.away_until - 1, "controller restart")


def restart_by_itself(device: Hardware) -> None:
    """The controller starts with its new image, unasked; what it knew of tasks is gone."""
    _controller_dies(device)
    device.tasks.clear()
    device.note("restarted itself")
    device.schedule(device.away_until - 1, "controller restart")


def reboot(device: Hardware) -> None:
    """ComputerSystem.Reset: new BIOS and cards come up with the next start."""
    _cut_writes(device, "server reboot")
    _reboot(device)
    device.note("reset", kind="server reboot")


def reboot_by_itself(device: Hardware) -> None:
    """The server is rebooted with its new image, unasked."""
    _reboot(device)
    device.note("rebooted itself")


def _reboot(device: Hardware) -> None:
    _server_starts(device, device.now(), staging.begin(device, "server reboot", device.now()))
    device.schedule(device.now() + device.reboot_seconds * 0.6, "server reboot")


def cycle_power(device: Hardware) -> None:
    """Chassis.Reset PowerCycle: everything goes dark, the controller too."""
    _go_dark(device, "power cycle")


def cut_power(device: Hardware) -> None:
    """The feed fails: as a power cycle, but nobody asked for it."""
    _go_dark(device, "power cut")


RESETS: dict[str, Callable[[Hardware], None]] = {
    "restart the controller": restart_controller,
    "reboot": reboot,
    "cycle the power": cycle_power,
}
"""By the name under which one of them is asked for."""


def _go_dark(device: Hardware, what: str) -> None:
    _cut_writes(device, what)
    if not device.is_second:
        _controller_dies(device)
    dark = max(device.now(), device.away_until)
    _server_starts(device, dark, staging.begin(device, "power cycle", dark))
    device.system_reset_at = device.now()
    device.note("reset", kind=what)
    device.schedule(max(device.now(), device.away_until - 1), "power cycle")


def _controller_dies(device: Hardware) -> None:
    longer = device.take_fault("stays away")
    device.away_until = device.now() + device.restart_seconds + (longer.seconds if longer else 0.0)
    device.controller_reset_at = device.away_until
    device.sessions.clear()
    device.subscriptions = {k: s for k, s in device.subscriptions.items() if s["SubscriptionType"] != "SSE"}
    if device.take_fault("task vanishes"):
        device.tasks.clear()


def _server_starts(device: Hardware, at: float, longer: float) -> None:
    """The server starts ``at`` a time; what its devices write meanwhile makes that so many seconds ``longer``."""
    virtual_host.goes_down(device)
    lasts = 10 * HANGING if device.take_fault("boot hangs") else device.reboot_seconds + longer
    device.boot_until, device.system_reset_at = at + lasts, at
    device.coming = [(when, kind) for when, kind in device.coming if kind != UP]
    device.schedule(device.boot_until, UP)
    _change_surroundings(device)
    starts.follow_override(device)


def _change_surroundings(device: Hardware) -> None:
    """What a start does to other things than firmware, as the faults that are set say."""
    gone = device.take_fault("part gone")
    lost = device.part(gone.slot or "") if gone is not None else None
    if lost is not None:
        lost.gone = True
        device.note("part gone", slot=lost.slot)
    device.surroundings.start()
    for fault in [taken for kind in CHANGING if (taken := device.take_fault(kind)) is not None]:
        device.surroundings.change(fault, device.boot_until)
        device.note(fault.kind)


def _cut_writes(device: Hardware, by: str) -> None:
    task = device.running_task()
    if task is None:
        return
    task.state, task.status, task.ended = "Exception", "Critical", device.now()
    if task.phase == "set up":
        partitions.cut(device, task)
    if task.phase == "write":
        for slot in task.slots:
            part = device.part(slot)
            assert part is not None
            part.dead = True
        device.note("killed a write", slots=task.slots, by=by)
