"""Tell browsers that something changed; they ask again for what concerns them."""

from __future__ import annotations

from typing import Any

from ordnung.server.clock import now
from ordnung.server.work.models import Event

KEEP = 5000
"""Events kept for browsers that come back after a break."""
TOPICS = (
    "work",
    "readings",
    "repositories",
    "runs",
    "lane",
    "places",
    "step",
    "catalogs",
    "searches",
    "baselines",
    "sources",
    "advisories",
    "left-out",
    "audit",
    "people",
    "house",
    "calls",
)


def tell(topic: str, **body: Any) -> Event:
    """Add an event; now and then the oldest are dropped."""
    event = Event.objects.create(at=now(), topic=topic, body=body)
    if event.pk % 500 == 0:
        Event.objects.filter(pk__lt=event.pk - KEEP).delete()
    return event


def tell_place(run: int, server: str) -> None:
    """A server of a run has gone on, and with it what is counted over all of them: who is away, asks, has ended."""
    tell("lane", run=run, server=server)
    tell("places", run=run, server=server)


def newest_event() -> int:
    """The number of the newest event; 0 before the first. What is read after it is at least as new."""
    return Event.objects.order_by("-pk").values_list("pk", flat=True).first() or 0
