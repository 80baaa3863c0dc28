"""Controllers that let no component be named in an update: by the image alone they tell what it is for."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.engine import entries as e
from ordnung.engine.entries import Reason
from ordnung.standins.hardware import writes_of
from tests.simulation.deaths import deaths
from tests.simulation.invariants import check_server
from tests.simulation.one_server import carry_out, check_device, resets, with_manners, written
from tests.simulation.test_any_position import NAME, RESETS, open_house

UNKNOWN, PLAIN, ELSEWHERE = "targets unknown", "plain push", "targets elsewhere"
ALONE = [("bmc", "5.30.0"), ("bios", "2.4.1"), ("raid-1", "7.18.0"), ("bios", "3.2.0")]
"""What of its way is the only one of its kind in the server: of its drives there are eight."""


def values(house, name=NAME):
    return [entry.value for entry in house.journal.tapes["1", name]]


@pytest.mark.parametrize("manners", [(UNKNOWN,), (UNKNOWN, "action info"), (PLAIN,)], ids=", ".join)
async def test_what_is_alone_of_its_kind_is_written_and_nothing_else(mirror_folder, manners):
    """Every update of such a server was refused; by a push of the image alone all but the controller's own."""
    house = open_house(mirror_folder)
    out, device = await with_manners(house, NAME, *manners)
    assert out.ended == "level" and "drive-03: its controller lets no component be named, and 7 more" in out.reason
    assert written(house, NAME) == ALONE and resets(device) == RESETS
    check_device(house, NAME)
    await check_server(house, "1", device)
    refused = [v for v in values(house) if isinstance(v, e.WriteUnsent)]
    assert [value.reason for value in refused] == [Reason.NO_TARGETS] * (manners[0] == UNKNOWN), "asked once"


async def test_what_an_image_is_for_may_be_its_target(mirror_folder):
    house = open_house(mirror_folder)
    out, device = await with_manners(house, NAME, ELSEWHERE)
    assert out.ended == "level" and out.reason == "every version confirmed by reading"
    assert set(ALONE) < set(written(house, NAME)) and resets(device) == RESETS
    check_device(house, NAME)


async def test_what_fits_something_that_no_catalog_knows_is_not_sent(mirror_folder):
    """Nothing tells what that is, so that nothing tells that the image is not for it."""
    house = open_house(mirror_folder)
    device = house.devices[NAME]
    card = next(part for part in device.parts if part.kind == "raid")
    device.parts.append(dataclasses.replace(card, slot="raid-2", name="RAID card", software_id="", pci=None))
    out, device = await with_manners(house, NAME, PLAIN)
    assert out.ended == "failed" and "raid-1: its controller decides by the image alone" in out.reason
    assert "may be for raid-2 too; nothing was sent" in out.reason
    assert writes_of(device.log) == ALONE[:2]


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_an_engine_that_dies_while_it_finds_that_out_loses_and_doubles_nothing(mirror_folder, when):
    steady = open_house(mirror_folder)
    for position, house in await deaths(steady, when, lambda house: with_manners(house, NAME, UNKNOWN)):
        out = await carry_out(house, NAME)
        assert out.ended == "level" and written(house, NAME) == ALONE, position
        assert resets(house.devices[NAME]) == RESETS, position
        check_device(house, NAME)
