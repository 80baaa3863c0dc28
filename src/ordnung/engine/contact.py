"""Who answers: by that, one controller that is silent is told from a way that is down for all of them."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, field

LATELY_S = 300.0
"""What a controller did longer ago tells nothing of now; the site's seconds."""
MANY = 3
"""Fewer silent controllers may each have a reason of their own."""
LONGEST_S = 14400.0
"""A way that is down for longer is no excuse any more: somebody has to know which servers were left under way."""


@dataclass(slots=True)
class Contact:
    """The last that was heard, or not, of each controller that had no reason to be away."""

    _last: dict[str, tuple[datetime.datetime, bool]] = field(default_factory=dict)
    _silent_since: datetime.datetime | None = None

    def note(self, url: str, at: datetime.datetime, *, answered: bool) -> None:
        """A controller was asked, and answered whatever it was, or nothing came."""
        self._last[url] = (at, answered)
        if answered:
            self._silent_since = None
        elif self._silent_since is None:
            self._silent_since = at

    def is_down(self, now: datetime.datetime) -> bool:
        """Whether the way to them is down rather than one of them: several were asked lately, and none answered."""
        lately = [answered for at, answered in self._last.values() if (now - at).total_seconds() <= LATELY_S]
        if len(lately) < MANY or any(lately) or self._silent_since is None:
            return False
        return (now - self._silent_since).total_seconds() <= LONGEST_S
