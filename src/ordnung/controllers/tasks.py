"""Tasks as DSP0266 has them ("Asynchronous operations"): the task, its monitor, or neither; and jobs, as which some
services show the same (Job schema), or into which a task turns (``OperationTransitionedToJob``, Update registry).

A task is done only when the device says so: by a state of the task, or by the answer that its monitor gives at the
end. What is absent, unknown or vanished is told as untold; then the caller looks at what the device holds.
"""

from __future__ import annotations

import json

from ordnung.controllers.answers import Answer, Json, as_dict, as_list, as_number, as_path, as_text, link_of
from ordnung.controllers.session import ROOT, Session
from ordnung.controllers.types import Accepted, Outcome, TaskView

_OUTCOMES = {
    **dict.fromkeys(
        (
            "New", "Starting", "Running", "Suspended", "Interrupted", "Pending", "Stopping", "Cancelling", "Service",
            "UserIntervention", "Continue", "Validating",
        ),
        Outcome.RUNNING,
    ),
    "Completed": Outcome.DONE,
    **dict.fromkeys(("Killed", "Cancelled", "Exception", "Invalid"), Outcome.FAILED),
}  # fmt: skip
"""By TaskState (Task schema) or JobState (Job schema). Interrupted is expected to go on, so it is no end."""


def read_accepted(answer: Answer) -> Accepted:
    """What an answer to a request for an update says of how it can be followed.

    202 is under way whether or not it has a body; 200, 201 and 204 without a task that says otherwise are done, but for
    what was created (201) and is named: that is asked.
    """
    body = answer.body
    kind = as_text(body.get("@odata.type")) or ""
    is_task = _tells_state(body) or kind.endswith((".Task", ".Job")) or answer.status == 202
    task = as_path(link_of(body)) if is_task else None
    monitor = as_path(body.get("TaskMonitor")) if is_task else None
    location = as_path(answer.header("Location"))
    if answer.status == 202:
        return Accepted(task=task, monitor=monitor or location)
    view = view_task(task or "", body) if is_task else None
    if view is not None and view.outcome is not Outcome.DONE:
        return Accepted(task=task or location, monitor=monitor)
    if answer.status == 201 and location is not None and view is None:
        return Accepted(task=location)
    return Accepted(finished=True, message=view.message if view else "")


async def read_task(session: Session, task: str | None, monitor: str | None) -> TaskView | None:
    """How a piece of work stands, asked of its task and, where that does not settle it, of its monitor.

    Returns:
        None when the controller knows neither (any more).
    """
    body = await session.find(task)
    view = None if body is None or task is None else await _follow_job(session, view_task(task, body))
    if monitor is None or (view is not None and view.outcome is not Outcome.UNTOLD):
        return view
    seen = view_monitor(monitor, await session.look(monitor), view)
    return None if seen is None else await _follow_job(session, seen)


async def _follow_job(session: Session, view: TaskView) -> TaskView:
    """The job that a task has turned into, where it has: its own end tells nothing of the work."""
    if view.job is None:
        return view
    body = await session.find(view.job)
    return _with(view, Outcome.UNTOLD) if body is None else view_task(view.job, body)


def view_monitor(uri: str, answer: Answer, task: TaskView | None = None) -> TaskView | None:
    """What a task monitor's answer says: 202 while running, in the end what the operation would have answered."""
    body = answer.body
    shown = view_task(uri, body) if _tells_state(body) or "Messages" in body else task
    base = shown or TaskView(uri=uri, outcome=Outcome.UNTOLD)
    if answer.status in (404, 410):
        return task
    if answer.status == 202:
        return _with(base, Outcome.RUNNING)
    if answer.status in (200, 201, 204):
        outcome = base.outcome if base.state else Outcome.DONE
        return _with(base, outcome)
    if 400 <= answer.status < 500 and answer.status not in (401, 403, 408, 429):
        error = as_dict(body.get("error"))
        first = next(iter(as_list(error.get("@Message.ExtendedInfo"))), {})
        told_in = as_text(first.get("Message")) or as_text(error.get("message")) or f"it answered {answer.status}"
        return _with(base, Outcome.FAILED, base.message or told_in)
    return _with(base, Outcome.UNTOLD)


def _with(view: TaskView, outcome: Outcome, message: str | None = None) -> TaskView:
    return TaskView(
        uri=view.uri, outcome=outcome, state=view.state, name=view.name, percent=view.percent, phase=view.phase,
        targets=view.targets, message=view.message if message is None else message,
        transfer_failed=view.transfer_failed, is_update=view.is_update, job=view.job,
    )  # fmt: skip


async def list_tasks(session: Session) -> list[TaskView] | None:
    """All tasks and jobs the controller knows; None where it keeps no list of either. One that does not tell how it
    stands may have a monitor that does, whoever began it.
    """
    root = await session.get(ROOT)
    lists = [await _list_of(session, link_of(root.get(where)), name) for where, name in LISTS]
    kept = [listed for listed in lists if listed is not None]
    if not kept:
        return None
    return [await _listed(session, body) for listed in kept for body in await session.members(listed)]


LISTS = (("Tasks", "Tasks"), ("JobService", "Jobs"))
"""Where the service root leads to what is under way, and what that calls its list."""


async def _list_of(session: Session, service: str | None, name: str) -> str | None:
    listed = link_of((await session.find(service) or {}).get(name))
    return listed if listed is not None and await session.find(listed) is not None else None


async def _listed(session: Session, body: Json) -> TaskView:
    view, monitor = view_task(link_of(body) or "", body), as_path(body.get("TaskMonitor"))
    if monitor is None or view.outcome is not Outcome.UNTOLD or body.get("EndTime"):
        return view
    return view_monitor(monitor, await session.look(monitor), view) or view


def view_task(uri: str, task: Json) -> TaskView:
    """A task resource as we see it."""
    messages = as_list(task.get("Messages"))
    names = [as_text(message.get("MessageId")) or "" for message in messages]
    last = messages[-1] if messages else {}
    payload = as_dict(task.get("Payload"))
    state = as_text(task.get("TaskState")) or as_text(task.get("JobState")) or ""
    return TaskView(
        uri=uri,
        outcome=_outcome(state, task),
        state=state,
        name=as_text(task.get("Name")) or as_text(task.get("Id")) or "a task",
        percent=as_number(task.get("PercentComplete")),
        phase="writing" if any("InstallingOn" in name for name in names) else "staging",
        targets=_targets(payload),
        message=as_text(last.get("Message"), 400) or "",
        transfer_failed=any(name.endswith(".TransferFailed") for name in names),
        is_update="UpdateService" in (as_text(payload.get("TargetUri")) or "")
        or any(name.startswith("Update.") for name in names),
        job=_job_of(messages),
    )


def _tells_state(body: Json) -> bool:
    return "TaskState" in body or "JobState" in body


def _job_of(messages: list[Json]) -> str | None:
    """The job that it says it has turned into."""
    for message in messages:
        told = message.get("MessageArgs")
        if (as_text(message.get("MessageId")) or "").endswith(".OperationTransitionedToJob") and isinstance(told, list):
            return next((path for arg in told if (path := as_path(arg)) is not None), None)
    return None


def is_scheduled(job: Json) -> bool:
    """Whether a job comes by the clock, again and again: until it begins, it is nobody's work under way."""
    return bool(as_dict(job.get("Schedule"))) and (as_text(job.get("JobState")) in ("New", "Pending"))


def _outcome(state: str, task: Json) -> Outcome:
    known = _OUTCOMES.get(state, Outcome.UNTOLD)
    if known is Outcome.RUNNING and _awaits_reset(task):
        return Outcome.STAGED
    if is_scheduled(task):
        return Outcome.UNTOLD
    if known is Outcome.DONE and as_text(task.get("TaskStatus") or task.get("JobStatus")) == "Critical":
        return Outcome.UNTOLD  # it contradicts itself
    if known is Outcome.UNTOLD and not task.get("EndTime") and as_number(task.get("PercentComplete")) != 100:
        # No word we know, and no sign of an end: it may well be at work.
        return Outcome.RUNNING if as_number(task.get("PercentComplete")) is not None else Outcome.UNTOLD
    return known


_AWAITS = ("AwaitToActivate", "AwaitToUpdate")
"""What an update says that goes on only once something is done from outside (DSP8011, Update registry)."""


def _awaits_reset(task: Json) -> bool:
    """Whether the last that it says is that it waits for an action, which for firmware is the reset."""
    last = next(iter(as_list(task.get("Messages"))[-1:]), {})
    return (as_text(last.get("MessageId")) or "").rpartition(".")[2] in _AWAITS


def _targets(payload: Json) -> tuple[str, ...]:
    raw = payload.get("JsonBody")
    try:
        body = json.loads(raw) if isinstance(raw, str) else {}
    except (ValueError, RecursionError):
        return ()
    targets = body.get("Targets") if isinstance(body, dict) else None
    return tuple(str(target) for target in targets) if isinstance(targets, list) else ()
