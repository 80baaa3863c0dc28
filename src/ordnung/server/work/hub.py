"""One task per web process reads new events from the database and hands them to every open stream."""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from collections.abc import AsyncIterator, Sequence
from typing import Any, Protocol

import structlog
from asgiref.sync import sync_to_async
from django.db import connection

log = structlog.get_logger()

Told = tuple[int, str, Any]
"""The number of an event, its topic, and what it tells."""
Message = Told | tuple[None, str, Any]
"""What is given without a number is no event: it follows from those before it, and is not told again to a stream that
comes back.
"""
Spelled = tuple[int | None, str, bytes]
"""A message as it is sent: spelled once, however many streams it goes to."""


class Giver(Protocol):
    """Works out what every open page is given, so that none has to ask."""

    def give(self, events: Sequence[Told]) -> list[Message]:
        """What follows from some events; asked at each look, also when there were none."""

    def last(self) -> list[Message]:
        """The last of each answer that was given: what a page that comes late has not heard."""

    def forget(self) -> None:
        """Nobody listens: what was given will be old when somebody does."""


MOST_WAITING = 2000
"""Events that may wait for a slow stream; then it is ended, and begins again with what it missed."""
MOST_STREAMS = 6
"""Streams of one session: a browser has one for each of its pages. The oldest is ended for one more."""
MOST_REPLAYED = 500
"""Events that are told again to a stream that comes back; more are told as a gap."""
WAIT_S = 15.0
"""After a failure to work out what open pages are given, so long they are not told again to ask for all of it."""
TOGETHER_S = 0.1
"""Events wait so long for what follows from them: each time that streams are woken costs as much as what is sent."""
AT_ONCE = 20
"""So many streams are told in one go; between, others get their turn: an answer would wait for hundreds of them."""
AGAIN_S = 1.0
"""When the events can't be read, every stream is ended, and they are read again so much later."""
POLL_S = 0.25
"""How soon an event of the engine reaches the browser at the latest; one indexed query each."""


GAP = "gap"


def spell(message: Message) -> Spelled:
    """A message as server-sent events have it (HTML, 9.2)."""
    number, topic, body = message
    if number is None:
        text = f"event: {topic}\ndata: {body if isinstance(body, str) else json.dumps(body)}\n\n"
    elif topic == GAP:
        text = f"id: {number}\nevent: gap\ndata: {json.dumps(body)}\n\n"
    else:
        text = f"id: {number}\nevent: change\ndata: {json.dumps({'topic': topic, **body})}\n\n"
    return number, topic, text.encode()


def _put(queue: asyncio.Queue[Spelled | None], messages: Sequence[Spelled]) -> None:
    try:
        for message in messages:
            queue.put_nowait(message)
    except asyncio.QueueFull:
        _end(queue)


def _end(queue: asyncio.Queue[Spelled | None]) -> None:
    while not queue.empty():
        queue.get_nowait()
    queue.put_nowait(None)


class Hub:
    """Reads once, tells many. Streams subscribe first and replay afterwards, so that nothing falls between."""

    def __init__(self) -> None:
        self.queues: dict[asyncio.Queue[Spelled | None], str] = {}
        """Each with the session it belongs to, in the order in which they began."""
        self.stopped = asyncio.Event()
        self.last: int | None = None
        self.loop: asyncio.AbstractEventLoop | None = None
        self.giver: Giver | None = None
        self._failed = -WAIT_S

    async def run(self) -> None:
        """Follow the events until stopped.

        While they can't be read, there are no streams either: a page whose line is up would be still and look well.
        """
        self.loop = asyncio.get_running_loop()
        while not self.stopped.is_set():
            pause = POLL_S
            try:
                await self._look()
            except Exception:
                log.exception("events can't be read; open pages are told that the line is down")
                self._end_all()
                pause = AGAIN_S
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self.stopped.wait(), pause)

    async def _look(self) -> None:
        """Tell what came since the last look."""
        if self.last is None:
            self.last = await _newest()
        events = await _after(self.last)
        self.last = events[-1][0] if events else self.last
        given = asyncio.ensure_future(self._given(events))
        if (await asyncio.wait({given}, timeout=TOGETHER_S))[0]:
            await self._tell([*events, *given.result()])
        else:
            await self._tell(events)
            await self._tell(await given)

    async def _tell(self, messages: Sequence[Message]) -> None:
        """Tell every stream. One that begins meanwhile has what it missed by ``since``."""
        spelled = [spell(message) for message in messages]
        queues = list(self.queues) if spelled else []
        for first in range(0, len(queues), AT_ONCE):
            for queue in queues[first : first + AT_ONCE]:
                _put(queue, spelled)
            await asyncio.sleep(0)

    async def _given(self, events: Sequence[Told]) -> list[Message]:
        if self.giver is None:
            return []
        if not self.queues:
            self.giver.forget()
            return []
        try:
            return await _give(self.giver, events)
        except Exception:
            log.exception("open pages can't be given what has changed")
            if time.monotonic() - self._failed < WAIT_S:
                return []
            self._failed = time.monotonic()
            return [(None, GAP, {"missed": None})]

    def stop(self) -> None:
        """End all streams; may be called from a signal handler."""
        if self.loop is not None and not self.loop.is_closed():
            self.loop.call_soon_threadsafe(self._stop)

    def _stop(self) -> None:
        self.stopped.set()
        self._end_all()

    def _end_all(self) -> None:
        for queue in self.queues:
            _end(queue)

    def end(self, session: str) -> None:
        """End the streams of a session that is over; may be called from any thread."""
        if self.loop is not None and not self.loop.is_closed():
            self.loop.call_soon_threadsafe(self._end_of, session)

    def _end_of(self, session: str) -> None:
        for queue, owner in self.queues.items():
            if owner == session:
                _end(queue)

    @contextlib.asynccontextmanager
    async def subscribe(self, session: str = "") -> AsyncIterator[asyncio.Queue[Spelled | None]]:
        """A queue of everything that comes from now on; None in it ends the stream."""
        queue: asyncio.Queue[Spelled | None] = asyncio.Queue(MOST_WAITING)
        own = [other for other, owner in self.queues.items() if owner == session]
        for other in own[: max(0, len(own) - MOST_STREAMS + 1)]:
            _end(other)
        self.queues[queue] = session
        try:
            yield queue
        finally:
            self.queues.pop(queue, None)

    async def since(self, last: int | None) -> list[Told]:
        """What was missed since ``last``; nothing for a stream that begins.

        Where that is more than ``MOST_REPLAYED``, or not kept any more, it is one event of the topic ``GAP``: the
        number of the newest, and how many were missed.
        """
        if last is None:
            return []
        missed = await _after(last)
        newest = await _newest()
        if newest < last:  # another database than the one it came from
            return [(newest, GAP, {"missed": None})]
        if len(missed) > MOST_REPLAYED or (missed and missed[0][0] > last + 1):
            return [(newest, GAP, {"missed": newest - last})]
        return missed


@sync_to_async
def _give(giver: Giver, events: Sequence[Told]) -> list[Message]:
    try:
        return giver.give(events)
    finally:
        connection.close()


@sync_to_async
def _newest() -> int:
    from ordnung.server.work.events import newest_event

    try:
        return newest_event()
    finally:
        connection.close()


@sync_to_async
def _after(last: int) -> list[Told]:
    from ordnung.server.work.models import Event

    try:
        rows = Event.objects.filter(pk__gt=last).order_by("pk")[: MOST_REPLAYED + 1]
        return [(row.pk, row.topic, row.body) for row in rows]
    finally:
        connection.close()


HUB = Hub()
