"""How long it is waited for a reading to settle: parts are listed, and tell their versions, minutes after a start."""

from __future__ import annotations

import datetime
from collections.abc import Sized
from dataclasses import dataclass


@dataclass(slots=True)
class Settling:
    """Waits as long as it gets better, and ``steady_s`` of the site's seconds longer; never more than ``limit_s``.

    So a shelf of drives that is listed one by one is waited for to its end, and a drive that was pulled not for long.
    """

    steady_s: float
    limit_s: float
    began: datetime.datetime | None = None
    better_at: datetime.datetime | None = None
    fewest: int = 0

    def is_over(self, odd: Sized, now: datetime.datetime) -> bool:
        """Whether nothing of a reading is otherwise than expected any more, or it has had its time."""
        if self.began is None or self.better_at is None:
            self.began, self.better_at, self.fewest = now, now, len(odd)
        elif len(odd) < self.fewest:
            self.better_at, self.fewest = now, len(odd)
        steady, whole = (now - self.better_at).total_seconds(), (now - self.began).total_seconds()
        return not odd or steady >= self.steady_s or whole >= self.limit_s
