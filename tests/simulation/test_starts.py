"""Sending a server's next start to a partition of its own: never beside a write, another's choice, or to another server."""

from __future__ import annotations

import pytest

from ordnung.controllers import ControllerError
from ordnung.core.components import Start
from ordnung.engine.starts import send_next_start, take_next_start_back
from tests.simulation.lines import target_of
from tests.simulation.test_partitions import OLD, make

SYSTEM = "/redfish/v1/Systems/1"


@pytest.fixture
def house(mirror_folder):
    return make(mirror_folder)


async def send(house, slot="store-diag", is_meant=lambda seen: None):
    return await send_next_start(house.endpoint(OLD), house.controllers, house.clock, slot, is_meant)


async def take_back(house, is_meant=lambda seen: None):
    return await take_next_start_back(house.endpoint(OLD), house.controllers, house.clock, is_meant)


def sent_to(house):
    boot = house.devices[OLD].patched.get(SYSTEM, {}).get("Boot", {})
    return boot.get("BootNext") if boot.get("BootSourceOverrideEnabled") == "Once" else None


async def test_it_is_sent_shown_and_taken_back_and_nothing_is_reset(house):
    for _ in range(2):
        reading, _ = await send(house)
        assert reading.component("store-diag").start is Start.NEXT and sent_to(house) == "Boot0010"
    reading, _ = await take_back(house)
    assert reading.component("store-diag").start is Start.POSSIBLE and sent_to(house) is None
    assert not [entry for entry in house.devices[OLD].log if entry["what"] == "reset"]


async def test_beside_a_write_it_is_not_sent(house):
    image = house.mirror / "pellam" / "p1160" / "bmc" / "controller-3.11.pldm"
    async with house.controllers.open(house.endpoint(OLD)) as controller:
        await controller.push(await controller.reach(), await target_of(controller, "bmc"), image)
    assert house.devices[OLD].running_task() is not None
    with pytest.raises(ControllerError, match="something is being written"):
        await send(house)
    assert sent_to(house) is None


async def test_what_somebody_chose_stays_their_choice(house):
    chosen = {"BootSourceOverrideEnabled": "Once", "BootSourceOverrideTarget": "Pxe"}
    house.devices[OLD].patched[SYSTEM] = {"Boot": dict(chosen)}
    with pytest.raises(ControllerError, match="sent to Pxe already"):
        await send(house)
    await take_back(house)
    assert house.devices[OLD].patched[SYSTEM]["Boot"] == chosen


async def test_another_server_at_the_address_is_left_alone(house):
    def is_meant(seen):
        raise ControllerError(seen.name, "said no", "another server answers there")

    for job in (send(house, is_meant=is_meant), take_back(house, is_meant)):
        with pytest.raises(ControllerError, match="another server"):
            await job
    assert not [e for e in house.devices[OLD].log if e["what"] == "changed"]
