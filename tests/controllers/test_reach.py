"""How a payload gets to a controller: HTTPS before a push, a push before plain HTTP, its own image last."""

from __future__ import annotations

import datetime
import itertools

import pytest

from ordnung.controllers.errors import ControllerError
from ordnung.controllers.types import Reach
from ordnung.standins.hardware import Hardware
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.lines import controller_of, target_of

PULL, PUSH, RAW = "/pull", "/push", "/raw"


@pytest.mark.parametrize(
    ("pulls", "push", "raw", "served", "way"),
    [
        (("HTTPS", "HTTP"), PUSH, None, ("HTTPS", "HTTP"), "pull over HTTPS"),
        (("HTTP",), PUSH, None, ("HTTPS", "HTTP"), "push"),
        (("HTTP",), None, None, ("HTTPS", "HTTP"), "pull over HTTP"),
        (("HTTP",), None, RAW, ("HTTPS", "HTTP"), "pull over HTTP"),
        (("HTTPS",), PUSH, None, (), "push"),
        (("HTTPS",), None, RAW, (), "push"),
        (("HTTPS",), None, None, ("HTTP",), None),
        ((), None, None, ("HTTPS", "HTTP"), None),
        (None, None, None, ("HTTPS", "HTTP"), "pull over HTTPS"),
        (None, PUSH, None, ("HTTPS", "HTTP"), "push"),
        (None, None, RAW, ("HTTPS", "HTTP"), "pull over HTTPS"),
        (None, None, RAW, ("HTTP",), "push"),
    ],
)
def test_the_order_of_ways(pulls, push, raw, served, way):
    assert Reach(push_uri=push, pull_target=PULL, pulls=pulls, raw_push_uri=raw).way(served) == way


def test_never_a_protocol_that_is_not_offered_or_not_served():
    protocols = [(), ("HTTP",), ("HTTPS",), ("HTTPS", "HTTP")]
    for pulls, served, push, target in itertools.product(protocols, protocols, (PUSH, None), (PULL, None)):
        way = Reach(push_uri=push, pull_target=target, pulls=pulls).way(served)
        if way and way.startswith("pull"):
            assert target and way.split()[-1] in pulls and way.split()[-1] in served
        assert way is not None or not push


@pytest.mark.parametrize(
    ("times", "asked"),
    [
        (None, None), (("Immediate", "OnReset"), "Immediate"), (("OnReset",), "OnReset"),
        (("AtMaintenanceWindowStart", "Immediate"), "Immediate"),
    ],
)  # fmt: skip
def test_when_it_is_to_be_written_is_asked_for_only_as_it_is_offered(times, asked):
    reach = Reach(push_uri=PUSH, pull_target=PULL, pulls=("HTTPS",), pull_times=times, push_times=times)
    assert reach.apply_time("push") == reach.apply_time("pull over HTTPS") == asked


@pytest.mark.parametrize("times", [(), ("OnStartUpdateRequest",), ("AtMaintenanceWindowStart",)])
def test_a_time_that_nobody_waits_for_is_not_asked_for(times):
    reach = Reach(push_uri=PUSH, pull_target=PULL, pulls=("HTTPS",), pull_times=times)
    with pytest.raises(ValueError, match=", ".join(times) or "none"):
        reach.apply_time("pull over HTTPS")
    assert reach.apply_time("push") is None


def make(*manners: str) -> Hardware:
    (device,) = demo_hardware(lambda: 1.8e9, [place for place in PLACES if place.name == "surge-07"])
    device.quirks = frozenset(manners)
    return device


NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
BOTH, NOW_OR_THEN = ("HTTPS", "HTTP"), ("Immediate", "OnReset")


@pytest.mark.parametrize(
    ("manners", "pulls", "times"),
    [
        ((), BOTH, NOW_OR_THEN),
        (("action info",), BOTH, NOW_OR_THEN),
        (("pulls untold",), None, NOW_OR_THEN),
        (("no apply time",), BOTH, None),
        (("writes at reset",), BOTH, ("OnReset",)),
    ],
)
async def test_what_an_update_service_offers_is_read_wherever_it_tells_that(manners, pulls, times):
    """One that tells it by its ActionInfo once counted as one that fetches nothing."""
    controller = controller_of(make(*manners))
    reach = await controller.reach()
    assert (reach.pulls, reach.pull_times, reach.push_times) == (pulls, times, times)
    reading = await controller.read(lambda: NOW)
    assert reading.facts is not None and reading.facts.pulls == (pulls or ()), "it takes a pushed image: that is sure"


@pytest.mark.parametrize("manners", [(), ("no apply time",), ("writes at reset",)])
async def test_a_request_asks_for_nothing_that_is_not_offered(manners):
    """Asked for a time it does not know of, a service refuses the update."""
    device = make(*manners)
    controller = controller_of(device)
    reach = await controller.reach()
    assert (await controller.pull(reach, await target_of(controller, "bios"), "https://127.0.0.1/x")).task
    asked = device.tasks[0].payload["JsonBody"]
    assert ("OperationApplyTime" in asked) is (reach.pull_times is not None)


async def test_where_no_time_will_do_nothing_is_sent():
    device = make()
    controller = controller_of(device)
    reach = Reach(push_uri=PUSH, pull_target=PULL, pulls=("HTTPS",), pull_times=("OnStartUpdateRequest",))
    with pytest.raises(ControllerError, match="only at times that are not waited for here") as refused:
        await controller.pull(reach, "/x/bios", "https://127.0.0.1/x")
    assert refused.value.cause == "said no" and not device.tasks
