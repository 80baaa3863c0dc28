"""A controller that was restarted and answers before it is all there."""

from __future__ import annotations

import datetime

import pytest

from ordnung.controllers import ControllerError, Endpoint
from ordnung.controllers.session import Session
from ordnung.engine.world import LASTING
from ordnung.standins.redfish.half_awake import PHASE_S
from ordnung.standins.scenario import RACK_K1, demo_hardware
from tests.simulation.lines import InProcessLine, controller_of

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)


def waking(phase: int):
    at = 1_000_000.0
    (device,) = demo_hardware(lambda: at, [next(place for place in RACK_K1 if place.name == "surge-02")])
    device.quirks, device.away_until = frozenset({"wakes slowly"}), at - PHASE_S * (phase + 0.5)
    return device


@pytest.mark.parametrize("phase", range(3))
async def test_one_that_is_not_awake_yet_is_never_read_as_a_server_with_nothing_in_it(phase):
    """Without a system there was a reading of nothing, which stood on record as the last one."""
    controller = controller_of(waking(phase))
    for ask in (lambda: controller.read(lambda: NOW), controller.marker):
        with pytest.raises(ControllerError) as caught:
            await ask()
        assert caught.value.cause == ("malformed answer", "not Redfish", "malformed answer")[phase]
        assert caught.value.cause not in LASTING


@pytest.mark.parametrize("phase", range(2))
async def test_a_sign_in_that_nobody_hears_yet_is_no_verdict(phase):
    device = waking(phase)
    line = InProcessLine(device, Endpoint(name="s", url="https://s", user=device.user, password=device.password))
    with pytest.raises(ControllerError) as caught:
        await Session(line).sign_in()
    assert caught.value.cause not in LASTING
