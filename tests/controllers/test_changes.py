"""A change names the state it is made on (DSP0266, "ETags"), to services of every kind; a refused one was not made."""

from __future__ import annotations

import pytest

from ordnung.controllers import ControllerError
from ordnung.controllers.answers import Answer
from ordnung.controllers.client import Endpoint, Limits
from ordnung.controllers.session import Session
from tests.controllers.test_starts import device, starts
from tests.simulation.lines import controller_of

PATH = "/redfish/v1/Systems/1"
FOUND = {"@odata.id": PATH, "@odata.etag": '"1"', "Boot": {"BootSourceOverrideEnabled": "Disabled"}}
BODY = {"Boot": {"BootSourceOverrideEnabled": "Once"}}


class Told:
    """A line to a service that answers changes with these statuses, and reads with these resources and tags."""

    endpoint, pin, limits = Endpoint(name="s", url="https://s.example", user="", password=""), "", Limits()

    def __init__(self, statuses, reads=()) -> None:
        self.statuses, self.reads, self.matches = list(statuses), list(reads), []

    async def ask(self, method, path, headers, body=None, *, acted=False) -> Answer:
        if method == "GET":
            tag, resource = self.reads.pop(0)
            return Answer(200, {"etag": tag} if tag else {}, resource)
        assert (method, path, body, acted) == ("PATCH", PATH, BODY, True)
        self.matches.append(headers.get("If-Match"))
        return Answer(self.statuses.pop(0), {}, {})


@pytest.mark.parametrize(
    ("found", "statuses", "reads", "matches"),
    [
        (FOUND, [200], [], ['"1"']),
        ({**FOUND, "@odata.etag": None}, [204], [], [None]),
        ({**FOUND, "@odata.etag": None}, [428, 200], [('"2"', FOUND)], [None, '"2"']),
        ({**FOUND, "@odata.etag": None}, [412, 200], [("", FOUND)], [None, '"1"']),
        ({**FOUND, "@odata.etag": None}, [428, 200], [("", {**FOUND, "@odata.etag": None})], [None, "*"]),
        (FOUND, [412, 200], [('"2"', FOUND)], ['"1"', '"2"']),
        (FOUND, [412, 412, 200], [('"2"', FOUND), ('"3"', FOUND)], ['"1"', '"2"', "*"]),
        ({**FOUND, "@odata.etag": 'W/"1"'}, [412, 412, 200], [('W/"1"', FOUND)] * 2, ['W/"1"', 'W/"1"', "*"]),
    ],
    ids=[
        "named at once", "none is told", "required, told with the answer", "required, told in the body", "none anywhere",
        "something else of it changed", "another with each reading", "weak ones never match",
    ],
)  # fmt: skip
async def test_a_change_is_made_once_on_the_state_that_was_judged(found, statuses, reads, matches):
    line = Told(statuses, reads)
    assert (await Session(line).change(PATH, found, BODY)).status < 300
    assert line.matches == matches and not line.statuses and not line.reads


async def test_what_somebody_else_changed_meanwhile_is_left_as_it_is():
    theirs = {**FOUND, "Boot": {"BootSourceOverrideEnabled": "Continuous"}}
    line = Told([412], [('"2"', theirs)])
    with pytest.raises(ControllerError, match="somebody else has changed the same meanwhile; nothing was changed"):
        await Session(line).change(PATH, FOUND, BODY)
    assert line.matches == ['"1"']


async def test_a_service_that_takes_no_change_at_all_is_told_as_it_says():
    line = Told([412, 412, 412], [('"2"', FOUND)] * 2)
    with pytest.raises(ControllerError) as told:
        await Session(line).change(PATH, FOUND, BODY)
    assert told.value.cause == "said no" and len(line.matches) == 3


@pytest.mark.parametrize("quirks", [("wants its tag",), ("wants its tag", "tags untold"), ("tags change",)], ids=str)
async def test_a_start_is_chosen_and_taken_back_on_services_of_every_kind(quirks):
    found = device("watch-03", *quirks)
    controller = controller_of(found)
    await controller.choose_start("store-diag")
    assert (await starts(found))["store-diag"] == "next"
    await controller.start_as_before()
    assert (await starts(found))["store-diag"] == "possible"
