"""An answer that is the same for everybody, made once for all who ask until an event makes it another."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Generic, TypeVar

from django.db.models import Max

from ordnung.server.work.models import Event

T = TypeVar("T")


class Shared(Generic[T]):
    """``make`` is asked again after an event of ``topics``, and after ``kept_s`` for what time alone changes."""

    def __init__(self, make: Callable[[], T], topics: frozenset[str], kept_s: float) -> None:
        self.topics = topics
        self._make, self._kept_s = make, kept_s
        self._lock = threading.Lock()
        self._known: tuple[int, float, T] | None = None

    def get(self) -> T:
        """The answer as of now; whoever comes while it is made waits for that one."""
        with self._lock:
            newest = Event.objects.filter(topic__in=self.topics).aggregate(last=Max("pk"))["last"] or 0
            known = self._known
            if known is None or known[0] != newest or time.monotonic() - known[1] > self._kept_s:
                known = self._known = (newest, time.monotonic(), self._make())
            return known[2]

    def forget(self) -> None:
        """Drop it: it may come from rows that were rolled back, or of a database that is gone."""
        self._known = None
