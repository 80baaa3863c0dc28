"""The pieces of a running site: hub, supervisor, ports that are taken."""

from __future__ import annotations

import asyncio
import signal
import socket

import pytest
from asgiref.sync import sync_to_async

from ordnung.server.supervisor import Supervisor, SupervisorError, answers, demand_free
from ordnung.server.work.events import tell
from ordnung.server.work.hub import Hub


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
            assert await asyncio.wait_for(queue.get(), 5) == (event.pk, "work", {"id": 7})
        assert await hub.since(event.pk - 1) == [(event.pk, "work", {"id": 7})]
        assert await hub.since(None) == []
        hub.stop()
        assert await asyncio.wait_for(one.get(), 5) is None
    await running
    assert hub.queues == set()
