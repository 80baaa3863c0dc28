"""How a request gets from the event loop to Django and back: one thread, kept from one request to the next.

Django's own handler takes a new thread for each request, which opens the database anew, and goes back and forth between
the loop and that thread for each middleware that knows threads only. For a small answer that is most of its time, and
where hundreds watch a run each of these turns waits behind whatever else goes on.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from asgiref.sync import ThreadSensitiveContext, sync_to_async
from django.core.handlers.asgi import ASGIHandler
from django.http import HttpRequest
from django.http.response import HttpResponseBase

MOST_KEPT = 32
"""Threads that may wait for the next request, each with its line to the database."""


class Threads:
    """Threads of one request at a time; the one that was used last comes first."""

    def __init__(self) -> None:
        self._free: deque[ThreadPoolExecutor] = deque()

    def take(self) -> ThreadPoolExecutor:
        """One that nobody uses."""
        try:
            return self._free.pop()
        except IndexError:
            return ThreadPoolExecutor(max_workers=1, thread_name_prefix="request")

    def give_back(self, thread: ThreadPoolExecutor) -> None:
        """It is free as soon as it has done what it was given, also where nobody waits for that any more."""
        thread.submit(self._keep, thread)

    def _keep(self, thread: ThreadPoolExecutor) -> None:
        if len(self._free) < MOST_KEPT:
            self._free.append(thread)
        else:
            thread.shutdown(wait=False)


class Handler(ASGIHandler):
    """Django's ASGI handler, with everything of a request in one thread; what an answer streams comes from the loop."""

    def __init__(self) -> None:
        super().__init__()
        self.threads = Threads()

    def load_middleware(self, is_async: bool = False) -> None:
        """The chain as threads know it, whatever is asked for: nothing of ours in it gains by the loop."""
        super().load_middleware(is_async=False)

    async def __call__(
        self, scope: dict[str, Any], receive: Callable[[], Awaitable[Any]], send: Callable[[Any], Awaitable[None]]
    ) -> None:
        """Answer one request."""
        thread = self.threads.take()
        try:
            async with ThreadSensitiveContext(executor=thread):
                await self.handle(scope, receive, send)
        finally:
            self.threads.give_back(thread)

    async def get_response_async(self, request: HttpRequest) -> HttpResponseBase:
        """The answer to a request, worked out in its thread."""
        return await sync_to_async(self.get_response, thread_sensitive=True)(request)
