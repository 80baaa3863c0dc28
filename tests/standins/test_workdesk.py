"""The work desk as it is asked over signed web hooks, and the faults it can have."""

from __future__ import annotations

import datetime
import json

import pytest
from aiohttp.test_utils import TestClient, TestServer
from standardwebhooks.webhooks import Webhook

from ordnung.standins.floor import DESK_SECRET
from ordnung.standins.workdesk import DESK_FAULTS, Counter, DeskFault, WorkDesk


class Hand:
    """A clock set by hand."""

    def __init__(self) -> None:
        self.t = 1000.0

    def __call__(self) -> float:
        return self.t


@pytest.fixture
def clock():
    return Hand()


@pytest.fixture
def desk(clock):
    return WorkDesk(clock, seconds=60.0, heals=300.0)


def signed(body: str, key="k", secret=DESK_SECRET, ago=0):
    at = datetime.datetime.now(datetime.UTC) - datetime.timedelta(seconds=ago)
    return {
        "webhook-id": key,
        "webhook-timestamp": str(int(at.timestamp())),
        "webhook-signature": Webhook(secret).sign(key, at, body),
    }


def test_it_takes_its_time_and_does_a_thing_once(desk, clock):
    assert desk.ask("k", "work.move-off", "a").status == 202
    assert desk.where["a"] == "going away"
    clock.t += 59
    assert desk.ask("k", "work.move-off", "a").status == 202
    clock.t += 1
    assert desk.look("k").status == 200 and desk.where["a"] == "away"
    assert desk.ask("k", "work.move-off", "a").status == 200
    assert [entry["what"] for entry in desk.log] == ["taken on", "done"]


def test_a_ring_is_whole_a_while_after_its_work_is_back(desk, clock):
    desk.ask("back", "work.take-back", "a")
    clock.t += 60
    desk.ask("back", "work.take-back", "a")
    assert desk.ask("whole", "group.healed", "a").status in (200, 202)
    clock.t += 300
    assert desk.ask("whole", "group.healed", "a").status == 200


@pytest.mark.parametrize(
    ("kind", "statuses"),
    [
        ("refuses", [409, 409, 202]),
        ("fails", [503, 503, 202]),
        ("silent", [202, 202, 202]),
        ("forgets", [202, 202, 202]),
    ],
)
def test_each_fault_plays_as_it_says(desk, clock, kind, statuses):
    assert set(DESK_FAULTS) == {"refuses", "fails", "silent", "forgets"}
    desk.faults.append(DeskFault(kind, server="a", times=2 if kind in ("refuses", "fails") else 1))
    assert [desk.ask("k", "work.move-off", "a").status for _ in range(3)] == statuses
    clock.t += 1000
    assert desk.ask("k", "work.move-off", "a").status == (202 if kind == "silent" else 200)
    assert desk.ask("other", "work.move-off", "b").status == 202, "a fault of one server is no other's"


async def test_nobody_is_believed_who_does_not_sign(desk):
    body = json.dumps({"type": "work.move-off", "data": {"server": "a"}})
    async with TestClient(TestServer(Counter(desk, DESK_SECRET).application())) as client:
        for headers in (
            {},
            signed(body, secret="whsec_b3RoZXI="),
            signed(body + " "),
            signed(body, ago=3600),
            {**signed(body), "webhook-id": "another"},
        ):
            answer = await client.post("/work", data=body, headers=headers)
            assert answer.status == 401 and desk.log == []
        answer = await client.post("/work", data=body, headers=signed(body))
        assert (answer.status, answer.headers["Location"]) == (202, "/work/k")
        assert (await client.get("/work/k", headers=signed(""))).status == 202
        assert (await client.get("/work/none", headers=signed(""))).status == 404


async def test_a_try_and_a_call_are_taken_and_change_nothing(desk):
    counter = Counter(desk, DESK_SECRET)
    async with TestClient(TestServer(counter.application())) as client:
        for path, kind in (("/work", "hook.test"), ("/calls", "call.needs-person")):
            body = json.dumps({"type": kind, "data": {}})
            assert (await client.post(path, data=body, headers=signed(body))).status == 200
    assert desk.log == [] and [call["type"] for call in counter.calls] == ["call.needs-person"]
