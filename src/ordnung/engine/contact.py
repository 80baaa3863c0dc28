"""Who answers: by that, one controller that is silent is told from a way that is down for all of them."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, field

LATELY_S = 300.0
"""What a controller did longer ago tells nothing of now; the site's seconds."""
NOBODY_S = 90.0
"""So long nobody must have answered: within it, each controller that is being worked on has been asked again."""
MANY = 3
"""Fewer silent controllers may each have a reason of their own."""
LONGEST_S = 14400.0
"""A way that is down for longer is no excuse any more: somebody has to know which servers were left under way."""


@dataclass(slots=True)
class Contact:
    """When something was heard last of any controller that had no reason to be away, and which were silent since."""

    _silent: dict[str, datetime.datetime] = field(default_factory=dict)
    """When each was asked last, of those that have been silent since anybody answered."""
    _heard: datetime.datetime | None = None
    _silent_since: datetime.datetime | None = None

    def note(self, url: str, at: datetime.datetime, *, answered: bool) -> None:
        """A controller was asked, and answered whatever it was, or nothing came."""
        if answered:
            self._heard, self._silent_since = at, None
            self._silent.clear()
            return
        self._silent[url] = at
        self._silent_since = self._silent_since or at

    def is_down(self, now: datetime.datetime) -> bool:
        """Whether the way to them is down rather than one of them: several were asked lately, and nobody answered."""
        if self._silent_since is None or (now - self._silent_since).total_seconds() > LONGEST_S:
            return False
        if self._heard is not None and (now - self._heard).total_seconds() < NOBODY_S:
            return False
        return sum((now - at).total_seconds() <= LATELY_S for at in self._silent.values()) >= MANY
