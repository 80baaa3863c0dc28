"""What a tape adds up to: where a server stands in its run. How it gets there is ``engine.tape``'s business."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from ordnung.controllers import Marker
from ordnung.core.away import AwayPlace
from ordnung.core.components import Server
from ordnung.core.errands import Errand, Moves
from ordnung.core.sheet import PlannedRound, PlannedWrite, has_outage
from ordnung.core.waiting import Left
from ordnung.engine.entries import (
    Answer,
    Asked,
    Ended,
    ErrandGivenUp,
    Evidence,
    Reason,
    Remedy,
    ResetKind,
    Troubled,
    WriteFailed,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenWrite:
    """A write whose outcome is not known yet. ``task`` and ``monitor`` are None until the device named them."""

    planned: PlannedWrite
    way: str
    known_tasks: tuple[str, ...]
    marker: Marker | None = None
    began_at: datetime.datetime | None = None
    target: str = ""
    at_reset: bool = False
    sent: bool = False
    task: str | None = None
    monitor: str | None = None
    was_staged: bool = False
    """Its device had it, and waited for a reset that is over now."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenReset:
    """A reset that was intended; ``sent`` when the device took it, ``seen`` by what it is known to have acted."""

    kind: ResetKind
    type: str
    marker: Marker
    began_at: datetime.datetime
    sent: bool = False
    seen: Evidence | None = None
    seen_at: datetime.datetime | None = None
    was_away: bool = False
    unshown: tuple[tuple[str, str], ...] = ()
    asked: Asked | None = None
    asked_at: datetime.datetime | None = None
    answer: Answer | None = None

    @property
    def question(self) -> Asked | None:
        """What a person is asked now, None when nothing or when it is answered or over."""
        return self.asked if self.answer is None and self.seen is None else None


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenErrand:
    """Something asked for outside and not done yet; ``seq`` is the number of the entry that asked."""

    errand: Errand
    of: str
    seq: int
    since: datetime.datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class TapeState:
    """Where a server stands in its run."""

    seq: int = 0
    before: Server | None = None
    """The first reading: what the check after compares with."""
    latest: Server | None = None
    """The reading to plan by; None: read first."""
    rounds: tuple[PlannedRound, ...] | None = None
    round: int = 0
    written: int = 0
    open_write: OpenWrite | None = None
    staged: tuple[OpenWrite, ...] = ()
    """What its device has and writes with the next reset; whatever reset that is, it is followed to its end after."""
    reopened: tuple[OpenWrite, ...] = ()
    """What is still to be followed so, one after the other."""
    is_full: bool = False
    """Its device takes nothing more before the reset, because of what is staged."""
    open_reset: OpenReset | None = None
    is_back: bool = False
    """The reset of this round is over and the server answers again."""
    back_at: datetime.datetime | None = None
    sends: int = 0
    """Times the present intent was sent without reaching the device."""
    restart_due: bool = False
    """The next plan begins with a restart of the controller, as a remedy."""
    is_ignored: bool = False
    """A graceful restart was asked for in this round and did not come to pass."""
    done: tuple[tuple[str, str], ...] = ()
    """(slot, version) of what was confirmed, in order."""
    place: AwayPlace | None = None
    """What it takes of the site's limits now; kept after the end while no reading has proved it back."""
    is_away: bool = False
    """Whether it is out of service because of us, as far as is known."""
    moves: Moves = Moves()
    """What its group wants done around an outage."""
    moved_off_in: int | None = None
    """The round before whose outage its work was moved off, or may have been; -1: in an earlier plan. None: it is
    here.
    """
    was_away: bool = False
    """Whether an outage of this run is confirmed."""
    is_whole: bool = False
    """Whether its group has said that it is whole again."""
    open_errand: OpenErrand | None = None
    given_up: tuple[tuple[Errand, ErrandGivenUp], ...] = ()
    """What was waited for in vain: with the first of them the server ends."""
    hands: frozenset[Errand] = frozenset()
    """What was done at the server."""
    owed: tuple[Errand, ...] = ()
    """What is to be done at the server for rounds that are confirmed."""
    failure: WriteFailed | None = None
    """A write that was not done, while nothing is noted of what becomes of that: it is never simply begun again."""
    trouble: Troubled | None = None
    """What has failed, while it is not decided what becomes of it."""
    remedies: tuple[tuple[Remedy, Troubled], ...] = ()
    """What was tried, in order, and for which trouble."""
    declined: frozenset[Remedy] = frozenset()
    """What a person did not want to be tried for the trouble at hand."""
    asked: Asked | None = None
    """What a person is asked about the trouble, while there is no answer."""
    asked_at: datetime.datetime | None = None
    shut_out: Asked | None = None
    """What keeps us out of its controller, while it is waited for that a person settles that."""
    shut_out_at: datetime.datetime | None = None
    shut_outs: int = 0
    """How often that has been asked for."""
    stays_out: bool = False
    """It was waited for in vain, or given up: it is not asked for again."""
    said_written: frozenset[tuple[str, str]] = frozenset()
    """(slot, version) of everything of which the device said, or showed, that it was written."""
    waiting: tuple[Left, ...] = ()
    """What was said to be written, and no reset since can have made active, whether or not its controller shows it."""
    failed_slot: str = ""
    """The component that was not written, in this plan."""
    no_targets_at: str | None = None
    """The version, empty where untold, at which its controller refused an update for naming what it is for."""
    last_way: str = ""
    """How the last payload was brought."""
    announced: frozenset[str] = frozenset()
    """What the releases planned say that they change around the versions."""
    in_disc: bool = False
    """Whether a disc of ours is, or may be, in its virtual media: its starts go there."""
    left_to_kit: frozenset[str] = frozenset()
    """Components that were left to the field kit on that disc."""
    was_ahead: bool = False
    """What may be done before its turn was done, or given up: that is not begun with again."""
    deferrals: int = 0
    warned: frozenset[tuple[str, str]] = frozenset()
    """(check, what it saw) of every warning that stands on the tape."""
    ended: Ended | None = None

    def has_tried(self, remedy: Remedy) -> bool:
        """Whether a remedy was tried on this server in this run: each is at most once."""
        return any(tried is remedy for tried, _ in self.remedies)

    @property
    def alone(self) -> frozenset[str]:
        """Components whose update is to go by itself."""
        return frozenset(trouble.slot for remedy, trouble in self.remedies if remedy is Remedy.ALONE)

    @property
    def steps_between(self) -> dict[str, str]:
        """Components that go by a release more, to the version that they would not take."""
        return {t.slot: t.facts.get("to", "") for remedy, t in self.remedies if remedy is Remedy.BETWEEN}

    @property
    def spent_ways(self) -> frozenset[str]:
        """The way of bringing a payload that did not work, while another one is tried."""
        last = self.remedies[-1:]
        return frozenset(trouble.way for remedy, trouble in last if remedy is Remedy.OTHER_WAY)

    @property
    def changed(self) -> frozenset[str]:
        """Components that this run has written, confirmed or not."""
        return frozenset(slot for slot, _ in (*self.said_written, *self.done))

    @property
    def was_sent_to(self) -> bool:
        """Whether an update was sent, whatever became of it."""
        tried = self.failure is not None or self.trouble is not None or self.remedies or self.sends
        return bool(self.changed or self.staged or tried)

    @property
    def touched(self) -> frozenset[str]:
        """Components whose version may be another because of this run: what it has written, and what was tried again,
        since a device may have written what it denies.
        """
        tried = {trouble.slot for _, trouble in self.remedies if trouble.slot}
        return self.changed | tried | {write.slot for write in self.waiting}

    @property
    def awaited(self) -> frozenset[str]:
        """Components that a failed write may have harmed, and that are written again in a round still to come."""
        coming = {planned.write.slot for step in (self.rounds or ())[self.round + 1 :] for planned in step.writes}
        return frozenset(trouble.slot for _, trouble in self.remedies if trouble.slot in coming)

    @property
    def puts_back(self) -> bool:
        """Whether what this run did is being taken back."""
        return self.has_tried(Remedy.PUT_BACK)

    @property
    def is_busy(self) -> bool:
        """Whether something that was sent, or was about to be, is not known to be over."""
        return self.open_write is not None or self.open_reset is not None

    @property
    def is_idle(self) -> bool:
        """Whether nothing that was sent can still be under way: a write that nobody tells of any more can."""
        return not self.is_busy and not (self.ended is not None and self.ended.reason is Reason.TASK_VANISHED)

    @property
    def leaves_disc(self) -> bool:
        """Whether nothing more is done on it than taking the disc out."""
        return self.has_tried(Remedy.DISC_OUT)

    @property
    def may_write_ahead(self) -> bool:
        """Whether the next write may be done before its turn (T8): of the first round, all of which waits for a reset,
        needs nobody at the server, and has met no trouble.
        """
        current = self.current
        if current is None or self.round or self.done or self.remedies or self.restart_due:
            return False
        is_borne = all(planned.ahead and not planned.hands_before for planned in current.writes)
        return is_borne and current.reset is not None and not self.has_all_written

    @property
    def has_all_written(self) -> bool:
        """Whether nothing more of the round can be written before its reset."""
        return self.current is None or self.is_full or self.written >= len(self.current.writes)

    @property
    def is_partly_written(self) -> bool:
        """Whether some of the round could not be written before its reset, which is over."""
        return self.is_back and self.current is not None and self.written < len(self.current.writes)

    @property
    def promised(self) -> tuple[tuple[str, str], ...]:
        """What the round makes active, of what was written in it or waited before."""
        if self.current is None:
            return ()
        left = {planned.write.slot for planned in self.current.writes[self.written :]}
        return tuple(pair for pair in self.current.activates if pair[0] not in left)

    @property
    def is_moved_off(self) -> bool:
        """Whether its work is, or may be, elsewhere."""
        return self.moved_off_in is not None

    @property
    def current(self) -> PlannedRound | None:
        """The round at hand, None when all are done."""
        return self.rounds[self.round] if self.rounds is not None and self.round < len(self.rounds) else None

    @property
    def next_reset(self) -> str | None:
        """What makes active what the current round writes; None where nothing of ours is needed for that."""
        return self.current.reset if self.current is not None else None

    @property
    def has_outage_left(self) -> bool:
        """Whether a round that is still to come takes the server out of service."""
        return has_outage((self.rounds or ())[self.round :])
