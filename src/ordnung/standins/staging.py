"""Images that a stand-in keeps and writes with the reset they need, and tasks that are open until that."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ordnung.standins.parts import Task

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware

RESETS = ("server reboot", "power cycle")
"""What an image can be kept for; a controller's own is written at once."""


def is_kept(device: Hardware, task: Task) -> bool:
    """Whether an image is written by the reset it needs: as the device has it, or as its client asked."""
    is_asked = '"OnReset"' in str(task.payload.get("JsonBody", ""))
    return task.activation in RESETS and ("writes at reset" in device.quirks or is_asked)


def keep(device: Hardware, task: Task) -> None:
    """The image was looked at and waits; nothing is written."""
    task.state, task.phase, task.percent = "Pending", "kept", 0
    device.note("kept for the reset", slots=task.slots, version=task.version, task=task.id)


def begin(device: Hardware, kind: str, at: float) -> float:
    """Write what was kept for this reset, one after the other; by how many seconds the start is longer for it."""
    due = [t for t in device.tasks if t.phase == "kept" and kind in ("power cycle", t.activation)]
    for task in due:
        task.state, task.phase, task.at_reset = "Running", "queued", True
    if due:
        _write(device, due[0], at)
    return sum(task.phase_seconds for task in due)


def _write(device: Hardware, task: Task, at: float) -> None:
    task.phase, task.phase_since = "write", at
    device.note("write begun", slots=task.slots, version=task.version, task=task.id)


def go_on(device: Hardware, task: Task) -> None:
    """One of them is written: it is active, and the next is written."""
    queued = next((other for other in device.tasks if other.phase == "queued"), None)
    if queued is not None:
        _write(device, queued, task.phase_since + task.phase_seconds)


def leave_open(device: Hardware, task: Task) -> None:
    """It is written, and its task is open until that is active."""
    task.state, task.phase, task.ended = "Suspended", "written", None


def close(device: Hardware) -> None:
    """What was open and is active now has ended."""
    waiting = {part.slot for part in device.parts if part.waiting is not None}
    for task in device.tasks:
        if task.phase == "written" and task.state == "Suspended" and not waiting & set(task.slots):
            task.state, task.ended = "Completed", device.now()
            task.messages.append(("Update.1.0.UpdateSuccessful", [", ".join(task.slots), task.version]))
