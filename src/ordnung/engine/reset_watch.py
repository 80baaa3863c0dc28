"""What this very process has seen of a reset that it asked for or waits for; a process that comes after it starts anew.

It is kept nowhere else: the tape holds what was decided by it.
"""

from __future__ import annotations

import datetime
from dataclasses import dataclass

OTHERS_ASKED_S = 120.0
"""Within this, every other controller of a run that is not away itself has been asked again; the site's seconds."""


@dataclass(slots=True)
class ResetWatch:
    """One reset of one server as it was watched; made anew with each reset that is asked for."""

    losses_before: int | None = None
    """How often its controller had forgotten our session when it was asked for; None: another process did that."""
    dark_since: datetime.datetime | None = None
    """Since when it has not answered."""
    is_dark_with_all: bool = False
    """Whether the way to all was down meanwhile: then its silence proves nothing."""
    looked_at: datetime.datetime | None = None
    """When it was looked last whether the reset has acted."""
    is_close: bool = True
    """Whether it was looked at so often that a start would have been seen."""

    def losses(self, now: int) -> int:
        """How often the controller forgot our session since it was asked for; 0 where that is not known."""
        return now - self.losses_before if self.losses_before is not None else 0

    def note_look(self, now: datetime.datetime, last: datetime.datetime, unseen_s: float) -> None:
        """It is looked at ``now``; by the first look nothing is known to have been missed since ``last``."""
        self.is_close = self.is_close and (now - (self.looked_at or last)).total_seconds() <= unseen_s
        self.looked_at = now

    def note_silence(self, now: datetime.datetime, *, way_down: bool) -> None:
        """It does not answer, or did not until now."""
        self.dark_since = self.dark_since or now
        self.is_dark_with_all = self.is_dark_with_all or way_down

    def proves_by_silence(self, now: datetime.datetime, *, is_over: bool) -> bool:
        """Whether the silence of a controller that tells nothing of its restarts proves one.

        Not if the way to all was down meanwhile, which is known once the others have been asked too.
        """
        if self.dark_since is None or self.is_dark_with_all:
            return False
        return is_over or (now - self.dark_since).total_seconds() >= OTHERS_ASKED_S

    def note_answer(self) -> None:
        """It answers: a silence is over."""
        self.dark_since, self.is_dark_with_all = None, False
