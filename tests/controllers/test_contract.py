"""One contract for the controller port: in process, as the simulation uses it, and over real HTTPS."""

from __future__ import annotations

import asyncio
import datetime
from contextlib import asynccontextmanager

import pytest

from ordnung.controllers import Client, ControllerError, LostAnswerError, Outcome, RedfishControllers
from ordnung.standins import makers as m
from ordnung.standins.faults import Fault
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.lines import controller_of, target_of

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)


class Https:
    """The port over HTTPS, to a stand-in that answers in another thread."""

    def __init__(self, live, name):
        self.live, self.name, self.device = live, name, live.device(name)

    @asynccontextmanager
    async def open(self):
        async with Client(self.live.ca) as client:
            controllers = RedfishControllers(client)
            async with controllers.open(self.live.endpoint(self.name)) as one:
                yield one
            await controllers.close()

    def set_fault(self, fault):
        self.live.call(self.device.faults.append, fault)


class Direct:
    """The same stand-in without the wire."""

    def __init__(self, live, name):
        self.device = live.device(name)

    @asynccontextmanager
    async def open(self):
        if self.device.is_away:
            raise ControllerError(self.device.name, "refused", "away")
        yield controller_of(self.device)

    def set_fault(self, fault):
        self.device.faults.append(fault)


@pytest.fixture(params=[Direct, Https])
def face(request, live):
    return request.param(live, "gauge-03")


@pytest.fixture
def image(tmp_path):
    path = tmp_path / "nic.pldm"
    path.write_bytes(m.make_package(m.NIC_Q25, m.NIC_Q25.made("24.2.8")))
    return path


async def until_ended(controller, taken):
    while (task := await controller.task(taken.task, taken.monitor)).is_running:
        await asyncio.sleep(0.02)
    return task


async def test_reading(face):
    async with face.open() as controller:
        server = await controller.read(lambda: NOW)
    assert server.component("nic-1").version == "24.1.3" and len(server.components) == 10
    assert server.component("bios").banks == ("1.52.0", "1.44.0")


async def test_a_push_becomes_a_task_that_ends_and_waits_for_its_reset(face, image):
    async with face.open() as controller:
        reach = await controller.reach()
        taken = await controller.push(reach, await target_of(controller, "nic-1"), image)
        task = await until_ended(controller, taken)
        assert task.outcome is Outcome.DONE and task.targets[0].endswith("/nic-1") and not task.transfer_failed
        assert [t.uri for t in await controller.tasks()] == [taken.task]
        assert (await controller.read(lambda: NOW)).component("nic-1").waiting == "24.2.8"


async def test_a_refusal_is_the_tasks_end_in_words(face, image):
    face.set_fault(Fault("image refused", slot="nic-1"))
    async with face.open() as controller:
        taken = await controller.push(await controller.reach(), await target_of(controller, "nic-1"), image)
        task = await until_ended(controller, taken)
    assert task.outcome is Outcome.FAILED and "the image was refused" in task.message


async def test_a_task_that_is_not_known_is_none(face):
    async with face.open() as controller:
        assert await controller.task("/redfish/v1/TaskService/Tasks/99", None) is None


@pytest.mark.parametrize(("kind", "tasks"), [("answer lost", 1), ("fails late", 1), ("fails early", 0)])
async def test_what_may_have_been_done_is_its_own_error(face, image, kind, tasks):
    """An answer of 500 was taken for a refusal, and what had been acted upon was sent again."""
    face.set_fault(Fault(kind, on="update"))
    async with face.open() as controller:
        with pytest.raises(LostAnswerError):
            await controller.push(await controller.reach(), await target_of(controller, "nic-1"), image)
    async with face.open() as controller:
        assert len(await controller.tasks()) == tasks


async def test_a_reset_changes_the_marker_of_what_was_reset(face):
    async with face.open() as controller:
        before = await controller.marker()
        await controller.reset(await controller.find_reset("server reboot"))
        after = await controller.marker()
    assert before.is_up() and not after.is_up()
    assert after.system != before.system and after.controller == before.controller


async def test_a_time_from_before_a_clock_was_set_tells_no_start_from_another(face):
    face.device.quirks = frozenset({"reset times in 1970"})
    async with face.open() as controller:
        marker = await controller.marker()
    assert (marker.system, marker.controller, marker.boot) == (None, None, "OSRunning")


async def test_a_controller_that_restarts_is_away_and_comes_back(face):
    face.device.restart_seconds = 10.0**6  # it comes back when the test says so
    async with face.open() as controller:
        before = await controller.marker()
        await controller.reset(await controller.find_reset("controller restart"))
    await asyncio.sleep(0.08)
    with pytest.raises(ControllerError):
        async with face.open() as controller:
            await controller.marker()
    face.device.away_until = 0.0
    async with face.open() as controller:
        assert (await controller.marker()).controller != before.controller


async def test_a_partition_is_set_up_and_told_as_blank(face):
    place = next(place for place in PLACES if place.name == "watch-07")
    face.device.parts += demo_hardware(face.device.now, [place])[0].parts[-3:]
    async with face.open() as controller:
        before = (await controller.read(lambda: NOW)).component("store-drivers")
        assert before.state == "damaged" and before.can_set_up
        taken = await controller.set_up("store-drivers")
        assert not taken.finished and taken.task
        with pytest.raises(ControllerError, match="nic-1 is not among its service partitions"):
            await controller.set_up("nic-1")


async def test_a_bank_is_chosen_by_what_it_holds_and_told_as_waiting(face):
    face.device.part("bios").spare = "1.40.0"
    async with face.open() as controller:
        before = (await controller.read(lambda: NOW)).component("bios")
        assert before.can_switch and before.banks[1:] == ("1.40.0",) and not before.has_waiting
        await controller.choose_bank("bios", "1.40.0")
        await controller.choose_bank("bios", "1.40.0")
        assert (await controller.read(lambda: NOW)).component("bios").waiting == "1.40.0"
        with pytest.raises(ControllerError, match="no bank of bios holds 9"):
            await controller.choose_bank("bios", "9")
        with pytest.raises(ControllerError, match="does not let the bank of nic-1"):
            await controller.choose_bank("nic-1", "1")
