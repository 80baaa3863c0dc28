"""What all tests share: property profiles, a site of its own for Django, live stand-ins on free ports."""

from __future__ import annotations

import asyncio
import gc
import os
import re
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings
from xdist.scheduler import LoadFileScheduling

HOME = tempfile.TemporaryDirectory(prefix="ordnung-test-home-")
os.environ.setdefault("ORDNUNG_HOME", HOME.name)
os.environ.setdefault("ORDNUNG_SECRET", "not-a-secret-but-long-enough-for-tests")
os.environ.setdefault("ORDNUNG_NETWORKS", "127.20.0.0/16")
os.environ.setdefault("ORDNUNG_SIGN_IN_RATE", "1000/min")
# Nobody here is vouched for by the system's authorities: to read them takes each process an eighth of a second.
os.environ.setdefault("SSL_CERT_FILE", os.devnull)
for name in ("HTTP_PROXY", "HTTPS_PROXY", "http_proxy", "https_proxy", "ALL_PROXY"):
    os.environ.pop(name, None)

quiet = [HealthCheck.too_slow, HealthCheck.data_too_large]
# The same examples each time: what is covered must not hang on dice. `make soak` throws them anew.
settings.register_profile("quick", max_examples=60, deadline=None, suppress_health_check=quiet, derandomize=True)
settings.register_profile("soak", max_examples=3000, deadline=None, suppress_health_check=quiet)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "quick"))


@pytest.fixture(scope="session")
def django_db_modify_db_settings(tmp_path_factory) -> None:
    """A site's database is a file with a write-ahead log here too.

    In memory, threads share one cache and a lock of its own kind that no timeout waits for.
    """
    from django.db import connections

    place = tmp_path_factory.mktemp("database") / "ordnung.sqlite3"
    connections["default"].settings_dict["TEST"]["NAME"] = str(place)


@pytest.fixture(scope="session", autouse=True)
def quick_passwords() -> None:
    """A fifth of a second for each person of each test would be minutes."""
    from django.conf import settings as site

    site.PASSWORD_HASHERS = ["tests.quick_hasher.QuickArgon2"]


@pytest.fixture(scope="session", autouse=True)
def no_permissions_of_models() -> None:
    """Django writes them anew after each test that empties its tables; rights here are our own, and none reads them."""
    from django.contrib.contenttypes.management import create_contenttypes
    from django.db.models.signals import post_migrate

    post_migrate.disconnect(dispatch_uid="django.contrib.auth.management.create_permissions")
    post_migrate.disconnect(create_contenttypes)


@pytest.fixture(scope="session", autouse=True)
def plain_logs() -> None:
    """Logged as the site logs: a traceback with all values drawn into boxes takes seconds each."""
    from ordnung.formats.logs import configure_logs

    configure_logs()


@pytest.fixture(scope="session")
def mirror_folder(tmp_path_factory) -> Path:
    """The makers' mirror with small payloads, and its catalogs."""
    from tests.simulation.world import small_mirror

    return small_mirror(tmp_path_factory.mktemp("mirror"))


def pytest_unconfigure() -> None:
    HOME.cleanup()


NIGHTS_A_GROUP = 15
YOUNG = 50_000
"""New objects before garbage is looked for."""
OWN = ("core", "engine", "controllers", "simulation")
"""What covers core and engine by itself, but for the random nights; tracing the rest would only cost time."""


def pytest_collection_modifyitems(items) -> None:
    """Of what is simulated, the first case of each test is traced: the others take ways that others have taken."""
    seen: set[str] = set()
    for item in items:
        test, folder = item.nodeid.split("[")[0], _folder(item)
        is_own = folder in OWN and item.path.name != "test_random.py"
        if not is_own or item.get_closest_marker("exhaustive") or (folder == "simulation" and test in seen):
            item.add_marker(pytest.mark.untraced)
        seen.add(test)


@pytest.hookimpl(trylast=True)
def pytest_collection_finish() -> None:
    """What was loaded by now stays: to look through it for garbage again and again takes a twentieth of all tests."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(YOUNG)


def _folder(item) -> str:
    return item.path.relative_to(Path(__file__).parent).parts[0]


class ByFile(LoadFileScheduling):
    """Each file stays on one worker (journeys build on each other, floors are shared); random nights are spread."""

    def _split_scope(self, nodeid: str) -> str:
        night = re.search(r"test_random\.py::.*\[(\d+)\]$", nodeid)
        return f"nights {int(night[1]) // NIGHTS_A_GROUP}" if night else super()._split_scope(nodeid)


def pytest_xdist_make_scheduler(config, log):
    return ByFile(config, log) if config.getvalue("dist") == "loadfile" else None


class LiveFloor:
    """Stand-ins answering over real HTTPS from a thread of their own; faults are set on the devices."""

    def __init__(self, folder: Path, rate: float, places=None, build=None) -> None:
        from ordnung.formats.siteclock import start_clock
        from ordnung.standins.floor import Floor, FloorSettings
        from ordnung.standins.scenario import RACK_K1, demo_hardware

        self.clock = start_clock(rate)
        hardware = build(self.clock.seconds) if build else demo_hardware(self.clock.seconds, places or RACK_K1)
        self.floor = Floor(hardware, FloorSettings(folder=folder, port=0), self.clock)
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)

    def start(self) -> None:
        self.thread.start()
        self.do(self.floor.start())

    def stop(self) -> None:
        self.do(self.floor.stop())
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join()
        self.loop.close()

    def do(self, job):
        return asyncio.run_coroutine_threadsafe(job, self.loop).result(30)

    def call(self, function, *args) -> None:
        async def inside():
            function(*args)

        self.do(inside())

    @property
    def ca(self) -> str:
        return str(self.floor.authority.path)

    def device(self, name: str):
        return self.floor.by_name[name]

    def endpoint(self, name: str, **changes):
        import dataclasses

        from ordnung.controllers import Endpoint

        device = self.device(name)
        found = Endpoint(name=name, url=self.floor.urls[name], user=device.user, password=device.password)
        return dataclasses.replace(found, **changes)


@contextmanager
def live_floor(folder: Path, rate: float = 600.0, places=None, build=None) -> Iterator[LiveFloor]:
    live = LiveFloor(folder, rate, places, build)
    live.start()
    try:
        yield live
    finally:
        live.stop()


@pytest.fixture
def live(tmp_path) -> Iterator[LiveFloor]:
    """Rack K1 for one test, at 600 times real speed."""
    with live_floor(tmp_path / "standins") as found:
        yield found
