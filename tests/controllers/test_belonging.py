"""What is one server's own, of all that its controller tells of: its manager, and the chassis that hold it alone."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.controllers import ControllerError, Endpoint
from ordnung.controllers.belonging import own_manager, which_are_shared
from ordnung.controllers.reset import find_reset
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.lines import controller_of

NOW = datetime.datetime(2026, 11, 29, tzinfo=datetime.UTC)


def links(*paths):
    return [{"@odata.id": path} for path in paths]


def resource(path, told=None, **named):
    """A resource with some of its ``Links``."""
    return {"@odata.id": path, **(told or {}), "Links": {name: links(*paths) for name, paths in named.items()}}


def system(**named):
    return resource("/s/1", **named)


def chassis(path, kind=None, **named):
    return resource(path, {"ChassisType": kind} if kind else {}, **named)


def manager(path, kind=None, **named):
    return resource(path, {"ManagerType": kind} if kind else {}, **named)


@pytest.mark.parametrize(
    ("case", "told"),
    [
        ("nothing is told", ((), chassis("/c/1"), ())),
        ("it holds this one", ((), chassis("/c/1", "RackMount", ComputerSystems=["/s/1"]), ())),
        ("with a slash at its end", ((), chassis("/c/1/", "RackMount", ComputerSystems=["/s/1/"]), ())),
        ("by another name", ((), chassis("/c/1", "RackMount", ComputerSystems=["/s/self"]), ())),
        ("cards are plugged into it", ((), chassis("/c/1", Contains=["/c/2"]), (chassis("/c/2", "Module"),))),
        (
            "drawers with drives",
            (
                (),
                chassis("/c/1", "RackMount", ComputerSystems=["/s/1"], Contains=["/c/2"]),
                (chassis("/c/2", "Drawer"),),
            ),
        ),
        ("a sled in an enclosure", (["/c/1"], chassis("/c/1", "Sled"), (chassis("/c/2", "Enclosure"),))),
        ("the cage in a sled", (["/c/2"], chassis("/c/1", "Module"), (chassis("/c/2", "Sled", Contains=["/c/1"]),))),
    ],
)
def test_a_chassis_that_holds_one_server_is_its_own(case, told):
    named, one, others = told
    assert not which_are_shared(system(Chassis=named), [one, *others])[0], case


@pytest.mark.parametrize(
    ("case", "named", "one", "others"),
    [
        ("holds two", (), chassis("/c/1", ComputerSystems=["/s/1", "/s/2"]), ()),
        ("is a rack", (), chassis("/c/1", "Rack", ComputerSystems=["/s/1"]), ()),
        (
            "holds another, and another holds this one",
            (),
            chassis("/c/1", ComputerSystems=["/s/2"]),
            (chassis("/c/2", ComputerSystems=["/s/1"]),),
        ),
        (
            "something plugged into it is no server's",
            (),
            chassis("/c/1", Contains=["/c/2"]),
            (chassis("/c/2", "Blade"),),
        ),
        (
            "said by what is plugged in",
            (),
            chassis("/c/1"),
            ({**chassis("/c/2", "Sled"), "Links": {"ContainedBy": {"@odata.id": "/c/1/"}}},),
        ),
        (
            "a shelf in it holds another",
            (),
            chassis("/c/1", Contains=["/c/2"]),
            (chassis("/c/2", Contains=["/c/3"]), chassis("/c/3", ComputerSystems=["/s/2"])),
        ),
        (
            "this one is plugged in, and both are named",
            ("/c/1", "/c/2"),
            chassis("/c/1", "Enclosure", ComputerSystems=["/s/1"]),
            (chassis("/c/2", "Sled"),),
        ),
        (
            "this one is plugged in, and says so alone",
            (),
            chassis("/c/1", "RackMount"),
            (chassis("/c/2", "Blade", ComputerSystems=["/s/1"]),),
        ),
    ],
)
def test_a_chassis_that_holds_others_is_not(case, named, one, others):
    assert which_are_shared(system(Chassis=named), [one, *others])[0], case


def test_chassis_that_contain_each_other_are_looked_at_once():
    one, two = chassis("/c/1", Contains=["/c/2"]), chassis("/c/2", Contains=["/c/1"])
    assert which_are_shared(system(), [one, two]) == [False, False]


def test_as_many_chassis_as_a_reading_takes_are_told_apart_at_once():
    chain = [chassis(f"/c/{n}", Contains=[f"/c/{n + 1}", "/c/0"]) for n in range(2000)]
    assert not any(which_are_shared(system(), chain))
    last = chassis("/c/2000", "Blade", ComputerSystems=["/s/2"])
    assert which_are_shared(system(), [*chain, last])[:2000] == [True] * 2000


OWN, ENCLOSURE, PLAIN = manager("/m/1", "BMC"), manager("/m/e", "EnclosureManager"), manager("/m/2")


@pytest.mark.parametrize(
    ("named", "managers", "expected"),
    [
        ((), [], None),
        ((), [PLAIN], "/m/2"),
        ((), [ENCLOSURE], "/m/e"),
        ((), [ENCLOSURE, OWN], "/m/1"),
        ((), [ENCLOSURE, PLAIN], "/m/2"),
        (("/m/e", "/m/1/"), [ENCLOSURE, OWN], "/m/1"),
        (("/m/2",), [OWN, PLAIN], "/m/2"),
        ((), [manager("/m/3", "BMC", ManagerForServers=["/s/2"]), PLAIN], "/m/2"),
        ((), [manager("/m/3", "BMC", ManagerForServers=["/s/1/"]), OWN], "/m/3"),
    ],
)
def test_a_servers_controller_is_the_one_that_serves_it(named, managers, expected):
    assert own_manager(system(ManagedBy=named), managers).get("@odata.id") == expected


def device(name, *quirks):
    (found,) = demo_hardware(NOW.timestamp, [next(place for place in PLACES if place.name == name)])
    found.quirks = frozenset(quirks)
    return found


@pytest.mark.parametrize("more", [(), ("old shapes",), ("nic twice",), ("paged",)], ids=" and ".join)
async def test_a_server_reads_the_same_in_an_enclosure_but_for_what_is_shared(more):
    free = await controller_of(device("surge-07", *more)).read(lambda: NOW)
    plugged_in = await controller_of(device("surge-07", "in an enclosure", *more)).read(lambda: NOW)
    shared = {part.slot for part in plugged_in.components if part.shared}
    assert shared == {part.slot for part in free.components if part.kind == "power"} != set()
    alike = tuple(dataclasses.replace(part, shared=False) for part in plugged_in.components)
    assert sorted(alike, key=str) == sorted(free.components, key=str)


async def test_a_power_cycle_is_the_servers_own():
    enclosed = controller_of(device("surge-07", "in an enclosure"))
    assert (await enclosed.find_reset("power cycle")).target == "/redfish/v1/Chassis/1/Actions/Chassis.Reset"
    assert (await enclosed.find_reset("controller restart")).target == "/redfish/v1/Managers/1/Actions/Manager.Reset"
    with pytest.raises(ControllerError, match="of this server alone: what it offers is for the whole enclosure"):
        await controller_of(device("surge-07", "cycled together")).find_reset("power cycle")
    on_system = controller_of(device("surge-07", "cycled together", "power cycle on system"))
    assert "/Systems/1/" in (await on_system.find_reset("power cycle")).target


class Told:
    """As much of a session as a reset is found with: resources by their paths."""

    def __init__(self, *systems, chassis=(), unlisted=()):
        self.endpoint = Endpoint(name="box-1", url="https://box-1", user="", password="")
        self.systems, self.chassis = list(systems), list(chassis)
        self.bodies = {one["@odata.id"].rstrip("/"): one for one in (*chassis, *unlisted)}

    async def get(self, path):
        return {"Systems": {"@odata.id": "systems"}, "Chassis": {"@odata.id": "chassis"}}

    async def members(self, path):
        return self.systems if path == "systems" else self.chassis

    async def find(self, path):
        return self.bodies.get(path)


def cycled(path, kind=None, **named):
    """A chassis that offers a power cycle."""
    return {**chassis(path, kind, **named), "Actions": {"#Chassis.Reset": {"target": f"{path}/reset"}}}


@pytest.mark.parametrize(
    ("case", "told", "expected"),
    [
        ("none is named, and there is one system", Told(system(), chassis=[cycled("/c/1")]), "/c/1/reset"),
        ("none is named, and there are two", Told(system(), resource("/s/2"), chassis=[cycled("/c/1")]), None),
        (
            "the chassis say whose they are",
            Told(
                system(),
                resource("/s/2"),
                chassis=[cycled("/c/2", ComputerSystems=["/s/2"]), cycled("/c/1", ComputerSystems=["/s/1"])],
            ),
            "/c/1/reset",
        ),
        (
            "what is named is not listed",
            Told(system(Chassis=["/c/9"]), chassis=[cycled("/c/1")], unlisted=[cycled("/c/9")]),
            "/c/9/reset",
        ),
        (
            "the only one is of all",
            Told(system(Chassis=["/c/1"]), chassis=[cycled("/c/1", ComputerSystems=["/s/1", "/s/2"])]),
            None,
        ),
    ],
)
async def test_where_a_power_cycle_of_one_server_alone_is_found(case, told, expected):
    if expected is None:
        with pytest.raises(ControllerError, match="of this server alone"):
            await find_reset(told, "power cycle")
    else:
        assert (await find_reset(told, "power cycle")).target == expected, case
