"""The state of a device that outlives its process: what it is at, its tasks, its log."""

from __future__ import annotations

from typing import Any

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Account, Part, Task
from ordnung.standins.surroundings import Surroundings


def dump(device: Hardware) -> dict[str, Any]:
    """The state that outlives the process, to be written as JSON at once: it shares what it shows with the device."""
    return {
        "parts": [vars(part) for part in device.parts],
        "tasks": [vars(task) for task in device.tasks],
        "log": device.log,
        "accounts": {number: vars(account) for number, account in device.accounts.items()},
        "task_count": device.task_count,
        "patched": device.patched,
        "coming": device.coming,
        "away_until": device.away_until,
        "boot_until": device.boot_until,
        "controller_reset_at": device.controller_reset_at,
        "system_reset_at": device.system_reset_at,
        "surroundings": vars(device.surroundings),
        "media": device.media,
        "starts_disc": device.starts_disc,
        "runs_disc": device.runs_disc,
    }


def load(device: Hardware, state: dict[str, Any]) -> None:
    """Take a kept state on again."""
    device.parts = [Part(**{**part, "listed": tuple(part["listed"])}) for part in state["parts"]]
    device.tasks = [
        Task(**{**task, "messages": [(m, list(a)) for m, a in task["messages"]]}) for task in state["tasks"]
    ]
    device.log, device.patched, device.task_count = state["log"], state["patched"], state["task_count"]
    device.accounts = {number: Account(**account) for number, account in state["accounts"].items()}
    device.coming = [(at, kind) for at, kind in state["coming"]]
    device.away_until, device.boot_until = state["away_until"], state["boot_until"]
    device.surroundings = Surroundings(**state["surroundings"])
    device.controller_reset_at, device.system_reset_at = (
        state["controller_reset_at"],
        state["system_reset_at"],
    )
    device.media = state["media"]
    device.starts_disc, device.runs_disc = state["starts_disc"], state["runs_disc"]
    for task in device.tasks:
        if task.state == "Running" and task.phase == "transfer":
            device.fail_task(task, "Update.1.0.TransferFailed", ["image", ", ".join(task.slots)], "cut off")
