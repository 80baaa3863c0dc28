"""Of a device's tasks, which are of this run: the one of a write, and those that it keeps for the reset. Pure."""

from __future__ import annotations

from ordnung.controllers import Outcome, TaskView
from ordnung.engine.tape_state import OpenWrite, TapeState


def find_task(tasks: list[TaskView], pending: OpenWrite) -> TaskView | None:
    """The task that was not there before and is for what the write is, or doesn't say for what it is."""
    for task in tasks:
        if task.uri not in pending.known_tasks and (
            not task.targets or any(_is_meant(t, pending) for t in task.targets)
        ):
            return task
    return None


def find_others(tasks: list[TaskView], state: TapeState) -> list[TaskView]:
    """The tasks that run, or will, and are not what we have left with the device for its reset.

    What an earlier run, or the field kit on a disc of ours, has left so is ours too.
    """
    ours = {write.slot for write in state.waiting} | (state.left_to_kit if state.in_disc else set())
    found = [find_task(tasks, pending) if pending.task is None else None for pending in state.staged]
    own = {pending.task for pending in state.staged} | {task.uri for task in found if task is not None}
    return [task for task in tasks if task.is_running and task.uri not in own and not _is_left(task, ours)]


def _is_left(task: TaskView, ours: set[str]) -> bool:
    """Whether it waits for a reset, and is for nothing but these slots."""
    waits = task.outcome is Outcome.STAGED or task.has_not_begun
    named = {target.rstrip("/").rsplit("/", 1)[-1] for target in task.targets}
    return waits and bool(named) and named <= ours


def _is_meant(target: str, pending: OpenWrite) -> bool:
    path = target.rstrip("/")
    return path == pending.target.rstrip("/") or path.rsplit("/", 1)[-1] == pending.planned.write.slot
