"""Has a reset acted? Report from what a controller shows before and after, whichever properties it has. Pure.

LastResetTime, BootProgress, PowerState and the time since start are all optional in the standard. What is known for
certain, in either direction, is said; the rest stays unknown, and nothing is sent again on a guess.
"""

from __future__ import annotations

from dataclasses import dataclass

from ordnung.controllers import Marker
from ordnung.core.facts import FIRMWARE_DONE
from ordnung.core.start_times import is_same_start
from ordnung.engine.entries import Evidence, ResetKind

_ON = ("On", None)


_READY, _BEGINS = FIRMWARE_DONE
_NO_EARLIER = {
    _READY: (None, "None", _READY, _BEGINS, "OSRunning"),
    _BEGINS: (None, "None", _BEGINS, "OSRunning"),
}
"""For where a start may be told to end: what is no earlier than that."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetLook:
    """``acted``: by what it is known to have acted, None when it is not; ``still``: certain that it has not yet."""

    acted: Evidence | None = None
    still: bool = False

    @property
    def is_blind(self) -> bool:
        """Nothing the controller shows tells either way."""
        return self.acted is None and not self.still


def look_for_reset(
    kind: ResetKind, before: Marker, now: Marker, *, elapsed_s: float, losses: int = 0, is_watched: bool = True
) -> ResetLook:
    """What two looks at a controller say of the reset asked for between them.

    What was seen to happen counts before a time that stays as it was: some count no restart as a reset.

    Args:
        elapsed_s: seconds between the two looks.
        losses: how often the controller forgot our session since it was asked; below nothing where it is another one.
        is_watched: whether it was looked at so often in between that a start would have been seen.
    """
    if kind is ResetKind.CONTROLLER_RESTART:
        return _controller(before, now, elapsed_s, losses)
    is_same = is_same_start(before.system, now.system)
    if is_same is False:
        return ResetLook(acted=Evidence.RESET_TIME)
    happened = _happened(before, now)
    if happened is not None:
        return ResetLook(acted=happened)
    is_same_state = is_same_start(before.boot_at, now.boot_at)
    if is_same is None and is_same_state is False:
        return ResetLook(acted=Evidence.BOOT_PROGRESS)
    if kind is ResetKind.POWER_CYCLE:  # the controller goes dark with it
        acted = _controller(before, now, elapsed_s, losses).acted
        if acted is not None:
            return ResetLook(acted=acted)
    # Some count nothing but the coming of power as a reset: that time is believed where a start would have been seen.
    is_believed = is_same is True and is_watched and before.boot is not None and now.boot is not None
    return ResetLook(still=is_same_state is not False and (is_same_state is True or is_believed))


def _happened(before: Marker, now: Marker) -> Evidence | None:
    """What a server does in a start alone: its power goes, or it is less far than it was."""
    if before.power in _ON and now.power not in _ON:
        return Evidence.POWER_STATE
    was_up = before.boot in ("OSRunning", "None")
    fell_back = before.boot in _NO_EARLIER and now.boot not in _NO_EARLIER[before.boot]
    if fell_back or (was_up and now.boot is not None and now.boot != before.boot):
        return Evidence.BOOT_PROGRESS
    return None


def _controller(before: Marker, now: Marker, elapsed_s: float, losses: int) -> ResetLook:
    is_same = is_same_start(before.controller, now.controller)
    if is_same is False:
        return ResetLook(acted=Evidence.RESET_TIME)
    if before.uptime_s is not None and now.uptime_s is not None:
        if now.uptime_s < before.uptime_s:  # its service has started; with the same time, perhaps nothing else
            return ResetLook() if is_same else ResetLook(acted=Evidence.UPTIME)
        if now.uptime_s >= before.uptime_s + elapsed_s * 0.5:
            return ResetLook(still=True)
    if is_same:
        return ResetLook(still=True)
    return ResetLook(acted=Evidence.SESSION) if losses > 0 else ResetLook()
