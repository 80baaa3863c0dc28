"""The present, by the site's clock."""

from __future__ import annotations

import datetime

from django.conf import settings


def now() -> datetime.datetime:
    """Now, aware, UTC."""
    return settings.CLOCK.now()
