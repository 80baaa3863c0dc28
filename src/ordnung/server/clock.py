"""The present, by the site's clock."""

from __future__ import annotations

import datetime

from django.conf import settings

FAR = datetime.timedelta(days=3660)
"""Nobody plans further ahead, or looks further back: beyond, calendars end."""


def is_near(moment: datetime.datetime) -> bool:
    """Whether a moment lies within ten years of now."""
    return abs(moment - now()) <= FAR


def now() -> datetime.datetime:
    """Now, aware, UTC."""
    return settings.CLOCK.now()
