"""Fetching from several places: the liar is put aside and named, a break is gone on with, nobody is hurried."""

from __future__ import annotations

import asyncio
import hashlib
import os
import resource
import signal
import subprocess
import sys
import textwrap
import time
from pathlib import Path

import pytest
from aiohttp import web

from ordnung.core.catalog import Payload
from ordnung.repository import Fetcher, Pace, PayloadSource
from ordnung.standins.certificates import open_authority
from ordnung.standins.mirror import Mirror
from ordnung.standins.proxy import Proxy
from ordnung.store import ContentStore, RepositoryError, look_over
from tests.repository.serving import serving

RAW = bytes(range(256)) * 1200
NAME = "tessaly/r9/raid-7.18.0.pldm"
PAYLOAD = Payload(path=NAME, size=len(RAW), sha256=hashlib.sha256(RAW).hexdigest())


@pytest.fixture(scope="module")
def authority(tmp_path_factory):
    return open_authority(tmp_path_factory.mktemp("ca"))


class Places:
    """Two mirrors of one folder, each with faults of its own, and a third place that is a folder."""

    def __init__(self, folder: Path) -> None:
        (folder / NAME).parent.mkdir(parents=True)
        (folder / NAME).write_bytes(RAW)
        self.folder, self.one, self.two = folder, Mirror(folder), Mirror(folder)
        self.urls: list[str] = []


@pytest.fixture
async def places(tmp_path, authority):
    found = Places(tmp_path / "mirror")
    async with (
        serving(found.one.application(), authority) as one,
        serving(found.two.application(), authority) as two,
    ):
        found.urls = [one, two]
        yield found


async def fetch(tmp_path, authority, places, payload=PAYLOAD, **more):
    aside, waited, told = [], [], []

    async def sleep(seconds):
        waited.append(seconds)

    fetcher = Fetcher(
        ContentStore(tmp_path / "store"), str(authority.path), places=[PayloadSource(base=u) for u in places.urls[1:]],
        put_aside=lambda place, why: aside.append((place.base, why)), sleep=sleep, **more,
    )  # fmt: skip
    async with fetcher:
        try:
            path = await fetcher.fetch(places.urls[0], payload, told.append)
        except RepositoryError as error:
            return error, aside, waited, sum(told)
    return path, aside, waited, sum(told)


@pytest.mark.parametrize("fault", ["altered", "cut short"])
async def test_a_mirror_that_lies_is_put_aside_and_the_next_one_asked(tmp_path, authority, places, fault):
    places.one.faults[NAME] = fault
    path, aside, waited, told = await fetch(tmp_path, authority, places)
    assert path.read_bytes() == RAW and told == len(RAW) and waited == []
    assert [base for base, _ in aside] == places.urls[:1] and NAME in aside[0][1]


async def test_a_dead_mirror_is_no_liar(tmp_path, authority, places):
    places.one.faults[NAME] = "dead"
    path, aside, waited, _ = await fetch(tmp_path, authority, places)
    assert path.read_bytes() == RAW and aside == [] and waited == []


async def test_a_line_that_breaks_is_gone_on_with_from_the_other_place(tmp_path, authority, places):
    places.one.faults[NAME] = "broken off"
    path, aside, _, told = await fetch(tmp_path, authority, places)
    assert path.read_bytes() == RAW and aside == [] and told == len(RAW)


async def test_what_a_break_left_of_an_altered_copy_is_not_the_next_ones_fault(tmp_path, authority, places):
    """The first sends half a lie and breaks; joined with the second's truth it is wrong: the second alone is right."""
    store = ContentStore(tmp_path / "store")
    store.partial_path(PAYLOAD.sha256).write_bytes(b"!" * 1000)
    path, aside, _, _ = await fetch(tmp_path, authority, places)
    assert path.read_bytes() == RAW and aside == []


async def test_tries_are_spaced_out_and_then_given_up_with_every_place_named(tmp_path, authority, places):
    places.one.faults[NAME] = places.two.faults[NAME] = "dead"
    error, _, waited, _ = await fetch(tmp_path, authority, places)
    assert error.code == "unreachable" and all(url in error.what for url in places.urls)
    assert waited == [0.5, 1.0, 2.0]


async def test_one_liar_alone_is_refused_and_asked_only_once(tmp_path, authority, places):
    places.urls.pop()
    places.one.faults[NAME] = "altered"
    error, aside, waited, told = await fetch(tmp_path, authority, places)
    assert error.code == "altered" and len(aside) == 1 and waited == [] and told == 0
    assert places.one.requests == [NAME] and not list((tmp_path / "store" / "content").rglob("*.*"))


async def test_one_put_aside_before_is_asked_last(tmp_path, authority, places):
    store, known = (
        ContentStore(tmp_path / "store"),
        [PayloadSource(base=places.urls[0], aside="it lied in May"), PayloadSource(base=places.urls[1])],
    )
    async with Fetcher(store, str(authority.path), places=known) as fetcher:
        await fetcher.fetch(places.urls[0], PAYLOAD, lambda _: None)
    assert (places.one.requests, places.two.requests) == ([], [NAME])


async def test_a_folder_is_a_place_too_but_only_an_allowed_one(tmp_path, authority, places):
    places.one.faults[NAME] = "dead"
    places.urls[1] = f"{places.folder.as_uri()}/"
    path, _, _, told = await fetch(tmp_path, authority, places, folders=[places.folder])
    assert path.read_bytes() == RAW and told == len(RAW)
    error, *_ = await fetch(tmp_path / "other", authority, places)
    assert "outside the folders" in error.what


async def test_through_the_proxy_where_the_site_has_one(tmp_path, authority, places):
    proxy = Proxy()
    await proxy.start()
    try:
        async with Fetcher(ContentStore(tmp_path / "store"), str(authority.path)) as fetcher:
            await fetcher.fetch(places.urls[0], PAYLOAD, lambda _: None, proxy.url)
        assert proxy.tunnels
    finally:
        await proxy.stop()


async def test_never_more_at_once_from_one_host_than_allowed(tmp_path, authority):
    busy = most = 0

    async def slow(request: web.Request) -> web.Response:
        nonlocal busy, most
        busy += 1
        most = max(most, busy)
        await asyncio.sleep(0.02)
        busy -= 1
        return web.Response(body=request.match_info["path"].encode())

    app = web.Application()
    app.router.add_get("/{path:.+}", slow)
    names = [f"payload-{n:02}" for n in range(20)]
    wanted = [Payload(path=n, size=len(n), sha256=hashlib.sha256(n.encode()).hexdigest()) for n in names]
    store = ContentStore(tmp_path)
    async with serving(app, authority) as url, Fetcher(store, str(authority.path)) as fetcher:
        await asyncio.gather(*(fetcher.fetch(url, payload, lambda _: None) for payload in wanted))
    assert 2 <= most <= 4 and len(list(store.sums())) == 20


async def test_two_who_want_the_same_fetch_it_once(tmp_path, authority, places):
    store = ContentStore(tmp_path / "store")
    async with Fetcher(store, str(authority.path)) as one, Fetcher(store, str(authority.path)) as two:
        await asyncio.gather(*(f.fetch(places.urls[0], PAYLOAD, lambda _: None) for f in (one, two)))
    assert places.one.requests == [NAME]


async def test_the_pace_is_kept_by_all_together():
    now, slept = 0.0, []

    async def sleep(seconds):
        nonlocal now
        slept.append(seconds)
        now += seconds

    pace = Pace(1000, now=lambda: now, sleep=sleep)
    for _ in range(5):
        await pace.take(500)
    assert now == pytest.approx(2.5)
    await Pace(0, sleep=sleep).take(10**9)
    assert sum(slept) == pytest.approx(2.5)


def test_a_full_disk_is_said_plainly_and_nothing_is_lost(tmp_path):
    """The limit of file sizes stands for the disk: the kernel refuses the write in the same way."""
    script = textwrap.dedent(f"""
        import io, resource, sys
        from pathlib import Path
        from ordnung.store import ContentStore, RepositoryError
        store = ContentStore(Path({str(tmp_path)!r}))
        store.put(b"small", "small")
        resource.setrlimit(resource.RLIMIT_FSIZE, (100_000, resource.RLIM_INFINITY))
        try:
            store.put(b"x" * 300_000, "bios-3.2.0.pldm")
        except RepositoryError as error:
            print(error.code, error)
    """)
    told = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert told.startswith("no room bios-3.2.0.pldm: the disk is full")
    report = look_over(ContentStore(tmp_path))
    assert report.is_sound and report.files == 1 and report.partial == ()
    assert resource.getrlimit(resource.RLIMIT_FSIZE)[0] != 100_000


KILLED = """
import sys, time
from pathlib import Path
from ordnung.repository import *
from tests.repository.sealing import *
store = ContentStore(Path(sys.argv[1]) / "store")
print("go", flush=True)
for number in range(10_000):
    raw = bytes([number % 251]) * (200_000 + number)
    store.hold(f"owner-{number}", [__import__("hashlib").sha256(raw).hexdigest()])
    store.put(raw, "x")
    if number % 7 == 6:
        store.release(f"owner-{number - 3}")
    if number % 11 == 10:
        store.collect()
"""


@pytest.mark.parametrize("after_ms", [5, 17, 40, 90, 160])
def test_killed_at_any_moment_the_store_is_sound(tmp_path, after_ms):
    process = subprocess.Popen([sys.executable, "-c", KILLED, str(tmp_path)], stdout=subprocess.PIPE, cwd=Path(__file__).parents[2])  # fmt: skip
    assert process.stdout is not None
    process.stdout.readline()
    time.sleep(after_ms / 1000)  # not waiting for anything: it chooses the moment of the kill
    os.kill(process.pid, signal.SIGKILL)
    process.wait()
    process.stdout.close()
    store = ContentStore(tmp_path / "store")
    report = look_over(store)
    assert report.is_sound
    held = {sha256 for sums in store.owners().values() for sha256 in sums}
    assert len(report.missing) <= 1, "at most what was coming in when it was killed"
    store.collect()
    after = look_over(store)
    assert after.is_sound and after.loose == () and after.missing == report.missing
    assert {s for _, s in after.missing} | set(store.sums()) == held
    assert all(len(name) == 64 or name.endswith(".tmp") for name in after.partial)


FETCH = """
import asyncio, hashlib, sys
from pathlib import Path
from ordnung.core.catalog import Payload
from ordnung.repository import Fetcher
from ordnung.store import ContentStore
folder, store = Path(sys.argv[1]), ContentStore(Path(sys.argv[2]))
paths = sorted(folder.glob("*.pldm"))
wanted = [Payload(path=p.name, size=p.stat().st_size, sha256=p.stem) for p in paths]
store.hold("repository-1", [p.sha256 for p in wanted])
async def fetch():
    async with Fetcher(store, None, [folder]) as fetcher:
        print("go", flush=True)
        await asyncio.gather(*(fetcher.fetch(folder.as_uri() + "/", p, lambda n: None) for p in wanted))
asyncio.run(fetch())
"""


def test_killed_while_fetching_it_goes_on_and_loses_nothing(tmp_path):
    folder = tmp_path / "mirror"
    folder.mkdir()
    for number in range(12):
        raw = bytes([number]) * 3_000_000
        (folder / f"{hashlib.sha256(raw).hexdigest()}.pldm").write_bytes(raw)
    command = [sys.executable, "-c", FETCH, str(folder), str(tmp_path / "store")]
    store = ContentStore(tmp_path / "store")
    for after_ms in (2, 12, 30, 60):
        process = subprocess.Popen(command, stdout=subprocess.PIPE, cwd=Path(__file__).parents[2])
        assert process.stdout is not None
        process.stdout.readline()
        time.sleep(after_ms / 1000)  # not waiting for anything: it chooses the moment of the kill
        process.kill()
        process.wait()
        process.stdout.close()
        assert look_over(store).is_sound
        store.collect()  # what is waited for stays, half collected or whole
    subprocess.run(command, check=True, capture_output=True, cwd=Path(__file__).parents[2])
    report = look_over(store)
    assert report.is_sound and report.files == 12 and report.missing == () and report.loose == ()
