"""Everything here runs on virtual time."""

from __future__ import annotations

from tests.simulation.clock import VirtualLoop


def pytest_asyncio_loop_factories(config, item):
    return {"virtual": VirtualLoop}
