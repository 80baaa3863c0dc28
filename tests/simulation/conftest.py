"""Everything here runs on virtual time."""

from __future__ import annotations

import pytest

from ordnung.standins.scenario import demo_hardware
from tests.simulation.clock import VirtualLoop
from tests.simulation.world import House, VirtualClock


def pytest_asyncio_loop_factories(config, item):
    return {"virtual": VirtualLoop}


@pytest.fixture
def mirror(mirror_folder):
    return mirror_folder


@pytest.fixture
def house(mirror) -> House:
    clock = VirtualClock()
    return House(clock, demo_hardware(clock.seconds), mirror)
