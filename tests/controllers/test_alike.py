"""Controllers that look alike: two systems behind one of them, and certificates that a factory ships to all."""

from __future__ import annotations

import asyncio
import dataclasses

import pytest

from ordnung.controllers import Client
from ordnung.engine.discover import IdentityStanding, Known, find_doubles, look_at, match_known
from ordnung.standins.redfish import V1
from ordnung.standins.scenario import RACK_K1, make_enclosures
from tests.conftest import live_floor
from tests.controllers.test_causes import PATIENT, read


@pytest.fixture
def enclosure(tmp_path):
    with live_floor(tmp_path / "standins", build=lambda now: make_enclosures(1, 7, now)) as found:
        yield found


@pytest.fixture
def alike(tmp_path):
    """Three servers with the one certificate of their factory, two of them without a UUID of their own."""
    places = [dataclasses.replace(place, same_certificate=True) for place in RACK_K1[:3]]
    places[1:] = [dataclasses.replace(place, quirks=frozenset({"zero uuid"})) for place in places[1:]]
    with live_floor(tmp_path / "standins", places=places) as found:
        yield found


async def look(live, *names):
    async with Client(live.ca, PATIENT) as client:
        return await asyncio.gather(*(look_at(live.endpoint(name), client) for name in names))


async def test_one_address_answers_for_every_system_behind_it(enclosure):
    devices = list(enclosure.floor.by_name.values())
    (looked,) = await look(enclosure, devices[0].name)
    assert [one.system for one in looked.identities] == [f"{V1}/Systems/1", f"{V1}/Systems/2"]
    assert [one.serial for one in looked.identities] == [device.serial for device in devices]
    assert find_doubles({(looked.url, one.system): one for one in looked.identities}) == {}


@pytest.mark.parametrize(("number", "mark"), [(1, ""), (2, "b-")])
async def test_each_system_is_read_with_what_belongs_to_it_over_https(enclosure, number, mark):
    device = list(enclosure.floor.by_name.values())[number - 1]
    server = await read(enclosure, device.name, system=f"{V1}/Systems/{number}")
    assert server.serial == device.serial
    listed = {component.slot for component in server.components}
    assert {"bmc", f"{mark}bios", f"{mark}nic-1"} <= listed
    own = {part.slot: part.version for part in device.parts if part.kind in ("bios", "raid", "nic")}
    assert {slot: server.component(f"{mark}{slot}").version for slot in own} == own


async def test_the_state_of_an_enclosure_outlives_its_process(enclosure, tmp_path):
    first, second = enclosure.floor.by_name.values()
    shared = first.part("bmc")
    assert second.part("bmc") is shared
    shared.version = "5.20.0"
    with live_floor(tmp_path / "again", build=lambda now: make_enclosures(1, 7, now)) as again:
        from ordnung.standins.keeping import dump, load
        from ordnung.standins.models import put_behind_one

        one, two = again.floor.by_name.values()
        for old, new in ((first, one), (second, two)):
            load(new, dump(old))
        put_behind_one(one, two)
        assert two.part("bmc") is one.part("bmc") and two.part("bmc").version == "5.20.0"


async def test_equal_certificates_tell_nobody_from_another(alike):
    """A password was once sent to another address because a certificate matched."""
    names = list(alike.floor.by_name)
    looked = await look(alike, *names)
    found = [one.identities[0] for one in looked]
    assert len({identity.pin for identity in found}) == 1
    known = [
        Known(name=n, url=alike.floor.urls[n], uuid=i.uuid, serial=i.serial) for n, i in zip(names, found, strict=True)
    ]
    for place, identity in enumerate(found):
        server, standing = match_known(identity, looked[place].url, known)
        assert (server.name, standing) == (names[place], IdentityStanding.KNOWN)
        elsewhere, moved = match_known(identity, looked[place - 1].url, known)
        assert moved is not IdentityStanding.MOVED or elsewhere.name == names[place], "moved by its certificate"
    stranger = dataclasses.replace(found[0], uuid=None, serial=None)
    server, standing = match_known(stranger, "https://127.20.0.9", known)
    assert (server, standing) == (None, IdentityStanding.NEW)
