"""DSP0266's whole task model: a task is done only when the device says so."""

from __future__ import annotations

import pytest

from ordnung.controllers import Outcome
from ordnung.controllers.answers import Answer
from ordnung.controllers.client import Endpoint, Limits
from ordnung.controllers.session import Session
from ordnung.controllers.tasks import list_tasks, read_accepted, read_task, view_monitor, view_task

TASK = "/redfish/v1/TaskService/Tasks/7"
MONITOR = "/redfish/v1/TaskMonitors/7"


def answer(status, body=None, **headers):
    return Answer(status, headers, body or {})


def task(state=None, **told):
    return {"@odata.id": TASK, "@odata.type": "#Task.v1_7_0.Task", **({"TaskState": state} if state else {}), **told}


JOB = "/redfish/v1/JobService/Jobs/7"


def job(state, **told):
    return {"@odata.id": JOB, "@odata.type": "#Job.v1_2_0.Job", "JobState": state, **told}


@pytest.mark.parametrize(
    ("told", "task_path", "monitor", "finished"),
    [
        (answer(202, task("New"), location=MONITOR), TASK, MONITOR, False),
        (answer(202, task("New", TaskMonitor=MONITOR)), TASK, MONITOR, False),
        (answer(202, location=f"https://h{MONITOR}"), None, MONITOR, False),
        (answer(202), None, None, False),  # it counted as written once
        (answer(204), None, None, True),
        (answer(200, {"error": {"message": "Success"}}), None, None, True),
        (answer(200, task("Completed")), None, None, True),
        (answer(200, task("Running"), location=MONITOR), TASK, None, False),
        (answer(201, task("Exception"), location=MONITOR), TASK, None, False),
        (answer(200, task()), TASK, None, False),
        (answer(202, location=JOB), None, JOB, False),
        (answer(200, job("Running")), JOB, None, False),
        (answer(201, job("New"), location=JOB), JOB, None, False),
        (answer(201, location=JOB), JOB, None, False),  # what was created is asked, not taken for done
        (answer(200, job("Completed")), None, None, True),
    ],
)
def test_what_an_answer_to_a_request_says(told, task_path, monitor, finished):
    found = read_accepted(told)
    assert (found.task, found.monitor, found.finished) == (task_path, monitor, finished)


@pytest.mark.parametrize(
    ("body", "outcome"),
    [
        *((task(state), Outcome.RUNNING) for state in ("New", "Starting", "Running", "Suspended", "Interrupted", "Pending",
                                                       "Stopping", "Cancelling", "Service")),
        (task("Completed"), Outcome.DONE),
        (task("Completed", TaskStatus="Warning"), Outcome.DONE),
        (task("Completed", TaskStatus="Critical"), Outcome.UNTOLD),
        *((task(state), Outcome.FAILED) for state in ("Killed", "Cancelled", "Exception")),
        (task(), Outcome.UNTOLD),
        (task("Brewing"), Outcome.UNTOLD),
        (task(7), Outcome.UNTOLD),
        (task(PercentComplete=40), Outcome.RUNNING),
        (task(PercentComplete=100), Outcome.UNTOLD),
        (task(PercentComplete=40, EndTime="2026"), Outcome.UNTOLD),
        (job("UserIntervention"), Outcome.RUNNING),
        (job("Completed"), Outcome.DONE),
        (job("Completed", JobStatus="Critical"), Outcome.UNTOLD),
        (job("Invalid"), Outcome.FAILED),
        (job("Pending", Schedule={"RecurrenceInterval": "P1D"}), Outcome.UNTOLD),  # it comes by the clock
        (job("Running", Schedule={"RecurrenceInterval": "P1D"}), Outcome.RUNNING),
    ],
)  # fmt: skip
def test_what_a_task_says(body, outcome):
    assert view_task(TASK, body).outcome is outcome


def says(*names):
    return [{"MessageId": f"Update.1.0.{name}", "MessageArgs": []} for name in names]


@pytest.mark.parametrize(
    ("state", "messages", "outcome"),
    [
        ("Suspended", says("InstallingOnComponent", "AwaitToActivate"), Outcome.STAGED),
        ("Pending", says("AwaitToUpdate"), Outcome.STAGED),
        ("Running", says("AwaitToActivate"), Outcome.STAGED),
        ("Running", says("AwaitToUpdate", "InstallingOnComponent"), Outcome.RUNNING),  # it goes on
        ("Completed", says("AwaitToActivate"), Outcome.DONE),
        ("Exception", says("AwaitToActivate"), Outcome.FAILED),
        (None, says("AwaitToActivate"), Outcome.UNTOLD),
        ("Pending", says("TransferringToComponent"), Outcome.RUNNING),
        ("Pending", [{"MessageId": 7}, 7], Outcome.RUNNING),
    ],
)
def test_a_task_that_says_what_it_waits_for_is_waited_for_by_nobody(state, messages, outcome):
    assert view_task(TASK, task(state, Messages=messages)).outcome is outcome


@pytest.mark.parametrize(
    ("state", "begun"), [("New", False), ("Pending", False), ("Running", True), ("Suspended", True)]
)
def test_which_states_say_that_nothing_is_being_done(state, begun):
    assert view_task(TASK, task(state)).has_not_begun is not begun


@pytest.mark.parametrize(
    ("told", "outcome", "message"),
    [
        (answer(202), Outcome.RUNNING, ""),
        (answer(202, task("Completed")), Outcome.RUNNING, ""),
        (answer(204), Outcome.DONE, ""),
        (answer(200, {"any": 1}), Outcome.DONE, ""),
        (answer(200, task("Exception")), Outcome.FAILED, ""),
        (answer(200, task("Running")), Outcome.RUNNING, ""),
        (answer(200, job("Running")), Outcome.RUNNING, ""),  # a place that is a job's own
        (answer(200, job("Exception")), Outcome.FAILED, ""),
        (answer(400, {"error": {"message": "no"}}), Outcome.FAILED, "no"),
        (
            answer(400, {"error": {"@Message.ExtendedInfo": [{"Message": "wrong image"}]}}),
            Outcome.FAILED,
            "wrong image",
        ),
        (answer(409), Outcome.FAILED, "it answered 409"),
        (answer(500), Outcome.UNTOLD, ""),
        (answer(403), Outcome.UNTOLD, ""),
        (answer(404), None, None),
        (answer(410), None, None),
    ],
)
def test_what_a_monitor_says(told, outcome, message):
    found = view_monitor(MONITOR, told)
    assert (found.outcome if found else None, found.message if found else None) == (outcome, message)


def test_what_a_task_is_for_and_whose_it_is():
    body = task("Running", Payload={"TargetUri": "/redfish/v1/UpdateService/x", "JsonBody": '{"Targets": ["/f/bios"]}'})
    assert view_task(TASK, body).targets == ("/f/bios",) and view_task(TASK, body).is_update
    for odd in ("{", "[1]", '{"Targets": 7}', 7, None):
        assert view_task(TASK, task("Running", Payload={"JsonBody": odd})).targets == ()
    assert view_task(TASK, task("Running", Payload=7, Messages=[7, None], Name=3)).name == "3"


class Service:
    """A line to a service that keeps one task and its monitor."""

    endpoint, pin, limits = Endpoint(name="s", url="https://s.example", user="", password=""), "", Limits()

    def __init__(self, kept, status) -> None:
        tasks = "/redfish/v1/TaskService"
        self.told = {
            "/redfish/v1/": answer(200, {"Tasks": {"@odata.id": tasks}}),
            tasks: answer(200, {"Tasks": {"@odata.id": f"{tasks}/Tasks"}}),
            f"{tasks}/Tasks": answer(200, {"Members": [{"@odata.id": TASK}]}),
            TASK: answer(200, kept),
            MONITOR: answer(status),
        }
        self.asked = []

    async def ask(self, method, path, headers, body=None, *, acted=False):
        assert method == "GET"
        self.asked.append(path)
        return self.told[path]


@pytest.mark.parametrize(
    ("kept", "status", "outcome", "is_asked"),
    [
        (task(TaskMonitor=MONITOR), 202, Outcome.RUNNING, True),
        (task(TaskMonitor=MONITOR), 204, Outcome.DONE, True),
        (task(TaskMonitor=MONITOR), 400, Outcome.FAILED, True),
        (task(TaskMonitor=MONITOR), 404, Outcome.UNTOLD, True),
        (task("Running", TaskMonitor=MONITOR), 404, Outcome.RUNNING, False),
        (task("Completed", TaskMonitor=MONITOR), 202, Outcome.DONE, False),
        (task(TaskMonitor=MONITOR, EndTime="2026"), 202, Outcome.UNTOLD, False),
        (task(), 202, Outcome.UNTOLD, False),
    ],
)
async def test_a_task_in_the_list_that_does_not_tell_how_it_stands_has_a_monitor_that_does(
    kept, status, outcome, is_asked
):
    """Somebody else's: whoever looks whether anything is being written has no answer of its own to go by."""
    service = Service(kept, status)
    (found,) = await list_tasks(Session(service))
    assert found.outcome is outcome and (MONITOR in service.asked) is is_asked


TURNED = {"MessageId": "Update.1.1.OperationTransitionedToJob", "MessageArgs": [JOB]}


@pytest.mark.parametrize(
    ("kept", "turned_into", "outcome"),
    [
        (task("Completed", Messages=[TURNED]), answer(200, job("Running", PercentComplete=40)), Outcome.RUNNING),
        (task("Completed", Messages=[TURNED]), answer(200, job("Completed")), Outcome.DONE),
        (task("Completed", Messages=[TURNED]), answer(200, job("Exception")), Outcome.FAILED),
        (task("Completed", Messages=[TURNED]), answer(404), Outcome.UNTOLD),
        (task("Completed", Messages=[{**TURNED, "MessageArgs": JOB}]), answer(404), Outcome.DONE),  # it names none
    ],
)
async def test_a_task_that_turned_into_a_job_ends_as_that_does(kept, turned_into, outcome):
    """It ends at once itself: taken for done, the server would be reset while the job writes."""
    service = Service(kept, 404)
    service.told[JOB] = turned_into
    found = await read_task(Session(service), TASK, None)
    assert found is not None and found.outcome is outcome
    service.told[MONITOR] = answer(200, kept)
    found = await read_task(Session(service), None, MONITOR)
    assert found is not None and found.outcome is outcome


async def test_jobs_are_listed_with_the_tasks_or_without_any():
    service, jobs = Service(task("Running"), 404), "/redfish/v1/JobService"
    service.told[jobs] = answer(200, {"Jobs": {"@odata.id": f"{jobs}/Jobs"}})
    service.told[f"{jobs}/Jobs"] = answer(200, {"Members": [{"@odata.id": JOB}]})
    service.told[JOB] = answer(200, job("Running"))
    service.told["/redfish/v1/"].body["JobService"] = {"@odata.id": jobs}
    assert [one.uri for one in await list_tasks(Session(service)) or ()] == [TASK, JOB]
    del service.told["/redfish/v1/"].body["Tasks"]
    assert [one.uri for one in await list_tasks(Session(service)) or ()] == [JOB]
    del service.told["/redfish/v1/"].body["JobService"]
    assert await list_tasks(Session(service)) is None
