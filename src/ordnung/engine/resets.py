"""Has a reset acted? Report from what a controller shows before and after, whichever properties it has. Pure.

LastResetTime, BootProgress, PowerState and the time since start are all optional in the standard. What is known for
certain, in either direction, is said; the rest stays unknown, and nothing is sent again on a guess.
"""

from __future__ import annotations

from dataclasses import dataclass

from ordnung.controllers import SYSTEM_BEGINS, Marker
from ordnung.engine.entries import Evidence, ResetKind

_ON = ("On", None)


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetLook:
    """``acted``: by what it is known to have acted, None when it is not; ``still``: certain that it has not yet."""

    acted: Evidence | None = None
    still: bool = False

    @property
    def is_blind(self) -> bool:
        """Nothing the controller shows tells either way."""
        return self.acted is None and not self.still


def look_for_reset(kind: ResetKind, before: Marker, now: Marker, *, elapsed_s: float, losses: int = 0) -> ResetLook:
    """What two looks at a controller say of the reset asked for between them.

    Args:
        elapsed_s: seconds between the two looks.
        losses: how often the controller forgot our session since it was asked; below nothing where it is another one.
    """
    if kind is ResetKind.CONTROLLER_RESTART:
        return _controller(before, now, elapsed_s, losses)
    if before.system is not None and now.system is not None:
        return ResetLook(acted=Evidence.RESET_TIME) if before.system != now.system else ResetLook(still=True)
    if before.power in _ON and now.power not in _ON:
        return ResetLook(acted=Evidence.POWER_STATE)
    was_up = before.boot in ("OSRunning", "None")
    fell_back = before.boot == SYSTEM_BEGINS and now.boot not in (None, "None", SYSTEM_BEGINS, "OSRunning")
    if fell_back or (was_up and now.boot is not None and now.boot != before.boot):
        return ResetLook(acted=Evidence.BOOT_PROGRESS)
    if before.boot_at is not None and now.boot_at is not None:
        return ResetLook(acted=Evidence.BOOT_PROGRESS) if before.boot_at != now.boot_at else ResetLook(still=True)
    if kind is ResetKind.POWER_CYCLE:  # the controller goes dark with it
        found = _controller(before, now, elapsed_s, losses)
        return ResetLook(acted=found.acted)
    return ResetLook()


def _controller(before: Marker, now: Marker, elapsed_s: float, losses: int) -> ResetLook:
    if before.controller is not None and now.controller is not None:
        return ResetLook(acted=Evidence.RESET_TIME) if before.controller != now.controller else ResetLook(still=True)
    if before.uptime_s is not None and now.uptime_s is not None:
        if now.uptime_s < before.uptime_s:
            return ResetLook(acted=Evidence.UPTIME)
        if now.uptime_s >= before.uptime_s + elapsed_s * 0.5:
            return ResetLook(still=True)
    return ResetLook(acted=Evidence.SESSION) if losses > 0 else ResetLook()
