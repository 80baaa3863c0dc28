"""Updates under way, as tasks or as jobs: instead of tasks, or as what a task turns into; and one of the house that comes by the clock."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware, moment
from ordnung.standins.parts import Task
from ordnung.standins.redfish import updates
from ordnung.standins.redfish.tree import OK, V1, Resource, collection, link, resource

INSTEAD, AFTER = "jobs instead of tasks", "becomes a job"
NIGHTLY = "nightly"
"""A job that comes every night: nobody's work under way."""


def has_jobs(device: Hardware) -> bool:
    """Whether it has a service of jobs."""
    return bool({INSTEAD, AFTER} & device.quirks) and device.beside is None


def job_path(task: Task) -> str:
    """Where the job of an update is."""
    return f"{V1}/JobService/Jobs/{task.id}"


def as_task(device: Hardware, task: Task) -> Resource:
    """A task as its controller shows it, without its head: of one that has turned into a job that alone."""
    body = updates.task_body(task)
    if AFTER not in device.quirks or not has_jobs(device) or task.id == "job-1":
        return body
    message = {
        "MessageId": "Update.1.1.OperationTransitionedToJob",
        "MessageArgs": [job_path(task)],
        "Message": f"The update operation has transitioned to the job at URI '{job_path(task)}'.",
    }
    over = {"TaskState": "Completed", "TaskStatus": "OK", "PercentComplete": 100, "Messages": [message]}
    return {**body, **over, "EndTime": moment(task.started)}


@resource("TaskService/Tasks/{name}", "Task", "v1_7_0")
def task(device: Hardware, name: str) -> Resource | None:
    found = next((task for task in updates.tasks_of(device) if task.id == name), None)
    return None if found is None else as_task(device, found)


@resource("JobService", "JobService", "v1_1_0", "Jobs")
def job_service(device: Hardware) -> Resource | None:
    return {"ServiceEnabled": True, "Status": OK, "Jobs": link(f"{V1}/JobService/Jobs")} if has_jobs(device) else None


@collection("JobService/Jobs", "Job")
def jobs(device: Hardware) -> list[str] | None:
    return [NIGHTLY, *(task.id for task in updates.tasks_of(device))] if has_jobs(device) else None


@resource("JobService/Jobs/{name}", "Job", "v1_2_0")
def job(device: Hardware, name: str) -> Resource | None:
    if not has_jobs(device):
        return None
    if name == NIGHTLY:
        return {
            "Name": "Log upload",
            "JobState": "Pending",
            "JobStatus": "OK",
            "Schedule": {"RecurrenceInterval": "P1D"},
        }
    task = next((task for task in updates.tasks_of(device) if task.id == name), None)
    return None if task is None else job_body(task)


def job_body(task: Task) -> Resource:
    """An update's job as Redfish shows it, without its head."""
    body = {key: value for key, value in updates.task_body(task).items() if key != "TaskMonitor"}
    return {**body, "JobState": body.pop("TaskState"), "JobStatus": body.pop("TaskStatus")}
