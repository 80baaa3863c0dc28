"""Everything here runs on virtual time."""

from __future__ import annotations

import pytest

from tests.simulation.clock import VirtualLoop
from tests.simulation.world import House, demo_house


def pytest_asyncio_loop_factories(config, item):
    return {"virtual": VirtualLoop}


@pytest.fixture
def mirror(mirror_folder):
    return mirror_folder


@pytest.fixture
def house(mirror) -> House:
    return demo_house(mirror)
