"""Service partitions of a server's own flash store: set up anew, and what is left when that is cut off."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ordnung.standins.parts import Part, Task

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware

SECONDS = 24.0
"""How long it takes to set one up."""


def begin(device: Hardware, part: Part, path: str) -> Task:
    """Set a partition up anew; what was on it is gone from this moment on."""
    device.task_count += 1
    shown = {"HttpOperation": "POST", "TargetUri": path, "JsonBody": "{}"}
    task = Task(
        id=str(device.task_count), slots=[part.slot], payload=shown, started=device.now(), name=f"Set up {part.name}",
        phase="set up", phase_since=device.now(), phase_seconds=SECONDS,
    )  # fmt: skip
    task.stalls = device.take_fault("task stalls", part.slot) is not None
    device.note("set-up begun", slots=[part.slot], task=task.id, was=part.store)
    part.store, part.version = "damaged", ""
    device.tasks.append(task)
    return task


def advance(device: Hardware, task: Task, gone: float) -> None:
    """Bring a set-up that runs up to the present."""
    part = _part(device, task)
    task.percent = min(99, int(100 * gone / task.phase_seconds))
    if task.stalls:
        task.percent = min(task.percent, 47)
    elif gone >= task.phase_seconds / 2 and device.take_fault("set-up fails", part.slot):
        task.messages.append(("StorageDevice.1.2.VolumeFailure", [part.name]))
        _end(device, task, "Exception", "Critical")
        device.note("set-up failed", slots=task.slots, task=task.id)
    elif gone >= task.phase_seconds:
        part.store, task.percent = "empty", 100
        _end(device, task, "Completed", "OK")
        device.note("set up", slots=task.slots, task=task.id)


def cut(device: Hardware, task: Task) -> None:
    """A reset came while it ran: the partition stays damaged."""
    device.note("set-up cut off", slots=task.slots, task=task.id)


def _part(device: Hardware, task: Task) -> Part:
    part = device.part(task.slots[0])
    assert part is not None
    return part


def _end(device: Hardware, task: Task, state: str, status: str) -> None:
    task.state, task.status, task.ended = state, status, device.now()
