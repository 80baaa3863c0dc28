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
