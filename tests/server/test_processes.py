"""The pieces of a running site: hub, supervisor, ports that are taken."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest
from asgiref.sync import sync_to_async
from django.db import connection

from ordnung.formats.siteclock import keeper, read_kept, start_clock
from ordnung.server.engine_lock import EngineRunsError, take_engine_lock
from ordnung.server.supervisor import Supervisor, SupervisorError, answers, demand_free
from ordnung.server.work import hub as hub_module
from ordnung.server.work.events import tell
from ordnung.server.work.hub import Hub
from ordnung.server.work.models import Event


@pytest.fixture
def supervisor(tmp_path):
    kept = [(number, signal.getsignal(number)) for number in (signal.SIGINT, signal.SIGTERM)]
    found = Supervisor(tmp_path, {})
    yield found
    found.stop()
    for number, handler in kept:
        signal.signal(number, handler)


def test_a_taken_port_is_told_with_who_needs_it():
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        with pytest.raises(
            SupervisorError, match=rf"Port {port} at 127\.0\.0\.1, which the web server needs, is taken"
        ):
            demand_free("127.0.0.1", port, "the web server")
    demand_free("127.0.0.1", port, "the web server")
    assert not answers(f"http://127.0.0.1:{port}/")


def test_a_child_that_dies_is_told_with_its_last_words(supervisor):
    child = supervisor.start("oddity", "ordnung.standins", "--servers", "0")
    with pytest.raises(SupervisorError, match=r"oddity ended with status 2\. Its last words: .*--servers"):
        supervisor.wait_until(child, lambda: False)


def test_children_are_stopped_by_their_own_process_id(supervisor):
    child = supervisor.start("sleeper", "http.server", "--bind", "127.0.0.1", "0")
    assert child.process.poll() is None
    supervisor.stop()
    assert child.process.poll() is not None
    supervisor.check()


def trouble(supervisor, name):
    return (supervisor.home / f"{name}.trouble").read_text()


def test_an_engine_that_dies_is_started_again_with_growing_pauses_and_said(supervisor, monkeypatch):
    """When the engine was killed, everything stopped."""
    now = [100.0]
    monkeypatch.setattr("ordnung.server.supervisor.time.monotonic", lambda: now[0])
    child = supervisor.start("engine", "http.server", "--bind", "127.0.0.1", "0", is_essential=False)
    pauses = []
    for _ in range(4):
        child.process.kill()
        child.process.wait()
        supervisor._look_after(child)
        assert "engine ended with status -9" in trouble(supervisor, "engine")
        pauses.append(child.again_at - now[0])
        supervisor.check()
        supervisor._look_after(child)
        assert child.process.poll() is not None, "not before its time"
        now[0] = child.again_at
        supervisor._look_after(child)
        assert child.process.poll() is None and trouble(supervisor, "engine") == ""
    assert pauses == [1, 2, 5, 15]
    now[0] += 1000
    child.process.kill()
    child.process.wait()
    supervisor._look_after(child)
    assert child.again_at - now[0] == 1, "a long life makes it sound again"


def test_children_never_outlive_their_supervisor(tmp_path):
    """When the supervisor was killed, its children lived on and blocked the next start."""
    code = (
        "import pathlib, sys, time; from ordnung.server.supervisor import Supervisor\n"
        f"s = Supervisor(pathlib.Path({str(tmp_path)!r}), {{}})\n"
        "c = s.start('sleeper', 'http.server', '--bind', '127.0.0.1', '0')\n"
        "print(c.process.pid, flush=True); time.sleep(60)\n"
    )
    parent = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    child = int(parent.stdout.readline())
    assert is_alive(child)
    parent.kill()
    parent.wait()
    parent.stdout.close()
    end = time.monotonic() + 10
    while is_alive(child) and time.monotonic() < end:
        time.sleep(0.02)
    assert not is_alive(child)


def is_alive(pid):
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    except OSError:
        return False


def test_a_second_engine_refuses_to_start_and_says_why(tmp_path):
    held = take_engine_lock(tmp_path)
    with pytest.raises(EngineRunsError, match=rf"Another engine \(process {os.getpid()}\) works for this site"):
        take_engine_lock(tmp_path)
    held.close()
    take_engine_lock(tmp_path).close()


def test_the_clock_never_goes_back_whatever_killed_the_site(tmp_path, monkeypatch):
    """The demo's went back by 38 minutes."""
    path, real = tmp_path / "clock", [1_000_000.0]
    monkeypatch.setattr("ordnung.formats.siteclock.time.time", lambda: real[0])
    clock = start_clock(60.0, read_kept(path))
    keep, last = keeper(path, clock), 0.0
    for _ in range(300):
        keep()
        real[0] += 0.2
        last = clock.seconds()
        assert read_kept(path) >= last, "killed here, it begins later than anything it said"
    assert read_kept(path) - last <= 20 * 60
    real[0] += 5  # killed; started again
    assert start_clock(60.0, read_kept(path)).seconds() >= last
    before = clock.seconds()
    real[0] -= 3600  # someone set the machine's clock back
    assert clock.seconds() >= before


@pytest.mark.django_db(transaction=True)
async def test_the_hub_hands_each_event_to_every_stream_once():
    hub = Hub()
    await sync_to_async(tell)("work", id=0)
    running = asyncio.create_task(hub.run())
    while hub.last is None:
        await asyncio.sleep(0.01)
    async with hub.subscribe() as one, hub.subscribe() as two:
        event = await sync_to_async(tell)("work", id=7)
        for queue in (one, two):
            assert await asyncio.wait_for(queue.get(), 5) == hub_module.spell((event.pk, "work", {"id": 7}))
        assert await hub.since(event.pk - 1) == [(event.pk, "work", {"id": 7})]
        assert await hub.since(None) == []
        hub.stop()
        assert await asyncio.wait_for(one.get(), 5) is None
    await running
    assert not hub.queues


async def running(hub: Hub):
    task = asyncio.create_task(hub.run())
    while hub.last is None:
        await asyncio.sleep(0.01)
    return task


@pytest.mark.django_db(transaction=True)
async def test_streams_end_with_their_session_and_a_session_has_few_of_them():
    hub = Hub()
    task = await running(hub)
    async with contextlib.AsyncExitStack() as stack:
        own = [await stack.enter_async_context(hub.subscribe("a")) for _ in range(hub_module.MOST_STREAMS)]
        other = await stack.enter_async_context(hub.subscribe("b"))
        assert own[0].empty()
        await stack.enter_async_context(hub.subscribe("a"))
        assert own[0].get_nowait() is None and own[1].empty(), "the oldest makes room"
        hub.end("a")
        assert await asyncio.wait_for(own[1].get(), 5) is None and other.empty()
        hub.stop()
        assert await asyncio.wait_for(other.get(), 5) is None
    await task


@pytest.mark.django_db(transaction=True)
async def test_while_events_can_not_be_read_there_are_no_streams_and_then_nothing_is_missed(monkeypatch):
    """A page whose line is up would be still, and look well."""
    monkeypatch.setattr(hub_module, "AGAIN_S", 0.02)
    hub = Hub()
    await sync_to_async(name_events)("work_event", "elsewhere")
    task = asyncio.create_task(hub.run())
    async with hub.subscribe() as early:
        assert await asyncio.wait_for(early.get(), 5) is None
    await sync_to_async(name_events)("elsewhere", "work_event")
    while hub.last is None:
        await asyncio.sleep(0.01)
    async with hub.subscribe() as late:
        await sync_to_async(name_events)("work_event", "elsewhere")
        assert await asyncio.wait_for(late.get(), 5) is None
    await sync_to_async(name_events)("elsewhere", "work_event")
    async with hub.subscribe() as again:
        event = await sync_to_async(tell)("work", id=7)
        assert (await asyncio.wait_for(again.get(), 5))[0] == event.pk
    hub.stop()
    await task


def name_events(old: str, new: str) -> None:
    with connection.cursor() as cursor:
        cursor.execute(f"ALTER TABLE {old} RENAME TO {new}")


@pytest.mark.django_db(transaction=True)
async def test_a_stream_that_does_not_keep_up_is_ended_and_what_was_missed_is_told_as_a_gap(monkeypatch):
    monkeypatch.setattr(hub_module, "MOST_WAITING", 3)
    monkeypatch.setattr(hub_module, "MOST_REPLAYED", 3)
    hub = Hub()
    task = await running(hub)
    async with hub.subscribe("a") as slow:
        events = [await sync_to_async(tell)("work", id=n) for n in range(5)]
        while not (slow.qsize() == 1 and slow._queue[0] is None):
            await asyncio.sleep(0.01)
    first, last = events[0].pk, events[-1].pk
    assert [number for number, *_ in await hub.since(first + 1)] == [first + 2, first + 3, first + 4]
    assert await hub.since(first) == [(last, "gap", {"missed": last - first})]
    assert await hub.since(last + 7) == [(last, "gap", {"missed": None})], "numbers of another site"
    await sync_to_async(Event.objects.filter(pk__lt=last).delete)()
    assert await hub.since(first) == [(last, "gap", {"missed": last - first})], "what was missed is not kept any more"
    hub.stop()
    await task
