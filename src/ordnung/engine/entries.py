"""What stands on a tape: one frozen class per kind of entry, with closed lists for everything that has names.

What people read is rendered from these at the edge (``engine.telling``); it is never stored as truth. How they are
spelled in a journal, and how older spellings are read, is ``engine.entry_codec``'s business.
"""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from ordnung.controllers import Marker
from ordnung.core.away import AwayPlace
from ordnung.core.components import Server
from ordnung.core.errands import Errand, Moves
from ordnung.core.route import Stranded
from ordnung.core.sheet import PlannedRound, PlannedWrite
from ordnung.core.waiting import Left


class ResetKind(StrEnum):
    """What a round ends with (R1)."""

    CONTROLLER_RESTART = "controller restart"
    SERVER_REBOOT = "server reboot"
    POWER_CYCLE = "power cycle"

    @property
    def is_outage(self) -> bool:
        """Whether it takes the server out of service (T4)."""
        return self is not ResetKind.CONTROLLER_RESTART


class Ending(StrEnum):
    """How a server's part in a run ended."""

    LEVEL = "level"
    PUT_BACK = "put back"
    SKIPPED = "skipped"
    LEFT_OVER = "left over"
    """Its turn never came: nothing was sent."""
    LEFT_OUT = "left out"
    """A person left it out of a run under way before anything was sent."""
    STOPPED = "stopped"
    WAITS = "waits for a reboot"
    """What was to be written is, and becomes active by whatever reboot comes next (P5)."""
    FAILED = "failed"
    """Marked for a person."""


class ReadWhy(StrEnum):
    """Why a reading stands on a tape."""

    BEFORE = "before"
    AFTER_ROUND = "after round"
    MORE_IS_TOLD = "the controller tells more"
    SHARED_CHANGED = "the shared controller changed"
    """Another system's run wrote the controller that both are behind."""


class Evidence(StrEnum):
    """By what something was known to have happened."""

    TASK = "its task"
    ANSWER = "its answer"
    TASK_LIST = "the device's tasks"
    VERSION = "the version it holds"
    RESET_TIME = "the time of its last reset"
    BOOT_PROGRESS = "its boot progress"
    POWER_STATE = "its power state"
    CONNECTION = "the lost connection"
    SESSION = "the lost session"
    UPTIME = "its time since start"
    LEFT = "leaving it to the kit"
    """Nothing is sent from here, so that nothing answers."""
    EARLIER = "an earlier version of Ordnung"


class Reason(StrEnum):
    """Why something ended or was not done: a closed list; ``engine.telling`` has a sentence for each."""

    CONFIRMED = "confirmed"
    AS_FAR_AS_IT_GOES = "as far as it goes"
    LEVEL_ALREADY = "level already"
    NO_WAY_FORWARD = "no way forward"
    WAITS = "waits for a reboot"
    NOT_LEFT = "not left for a reboot"
    STOPPED = "stopped by a person"
    LEFT_OUT = "left out by a person"
    NO_PLACE = "no place"
    NO_PLACE_ANY_MORE = "no place any more"
    NO_WINDOW = "no window"
    NOT_APPROVED = "not approved"
    NOT_MOVED_OFF = "work not moved off"
    NOT_TAKEN_BACK = "work not taken back"
    NOT_HEALED = "not whole again"
    NO_HANDS = "nobody was at the server"
    CONTROLLER = "controller"
    NO_CONTACT = "no contact"
    NO_WAY_IN = "no way in"
    NOT_NAMED = "payload not named"
    NO_BANK = "no bank holds it"
    NOT_AT_HAND = "payload not at hand"
    FOREIGN_PAYLOAD = "payload is for another device"
    GONE = "component gone"
    MOVED_ON = "planned from another version"
    NOT_ARRIVED = "never arrived"
    NO_TARGETS = "no targets"
    NOT_ALONE = "fits others too"
    TASK_VANISHED = "task vanished"
    TASK_FAILED = "task failed"
    PUT_BACK_PARTLY = "put back as far as it goes"
    TASK_DENIED = "task failed, version there"
    TASK_STALLED = "task stalled"
    TRANSFER_FAILED = "transfer failed"
    FOREIGN_JOB = "job of someone else"
    CHECK = "check"
    RESET_NOT_BEGUN = "reset not begun"
    RESET_UNCERTAIN = "reset uncertain"
    RESET_IGNORED = "reset ignored"
    NOT_BACK = "not back"
    NOT_STARTED = "start without end"
    NOT_SHOWN = "version not shown"
    NOT_HELD = "said to be written, and not held"
    CHANGED = "changed though untouched"
    GONE_AGAIN = "confirmed and gone again"
    NOT_BY_KIT = "not done by the kit"
    KIT_ENDED = "kit ended without it"
    KIT_SAID = "kit said why not"
    STARTS_UNTOLD = "starts untold"
    WRITES_UNSEEN = "writes unseen"
    NO_DISC_SERVED = "no disc served"
    BARRED = "barred"
    PUT_BACK = "put back after trouble"
    OWN_ERROR = "error of our own"
    EARLIER = "told by an earlier version of Ordnung"


class Question(StrEnum):
    """What only a person may decide; the server waits for the answer."""

    FORCE_RESTART = "force restart"
    """The graceful restart did not come to pass: may it be restarted by force?"""
    LET_IN = "let in again"
    """Its controller doesn't let us in any more: has that been settled? It is found out by trying, not answered."""
    TRY_REMEDY = "try a remedy"
    """Something failed for which there is a practised remedy: shall it be tried?"""


class Answer(StrEnum):
    """What a person may answer."""

    FORCE = "force"
    LEAVE = "leave"
    TRY = "try"
    SETTLED = "settled"


class Remedy(StrEnum):
    """Practised answers to a failure (N6.5), in the order in which they are tried."""

    ALONE = "alone"
    """The update that failed is tried by itself, without company."""
    RESTART_FIRST = "restart first"
    """The controller is restarted, then it is tried again."""
    BETWEEN = "release between"
    """A release between the one it has and the one it would not take is written first."""
    OTHER_WAY = "another way"
    """The payload is brought by another way."""
    PUT_BACK = "put back"
    """What this run did on the server is taken back."""
    DISC_OUT = "disc out"
    """The disc that the server was started from is taken out, and its own system started."""


Facts = Mapping[str, str]
"""What a sentence needs besides its reason: names and numbers, as text."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Read:
    """A reading that the run goes by."""

    server: Server
    why: ReadWhy


@dataclass(frozen=True, slots=True, kw_only=True)
class LeftBefore:
    """What earlier runs have left waiting in the server for a reset, as the site knows it."""

    writes: tuple[Left, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What is to be done from here on."""

    rounds: tuple[PlannedRound, ...]
    stranded: tuple[Stranded, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaceTaken:
    """The server may begin: from now on it counts in every limit of its place, over all runs."""

    place: AwayPlace
    moves: Moves = Moves()


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaceGiven:
    """The place is given back after the end: a reading proved the server back, or a person says so."""

    by: str
    why: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Deferred:
    """The place is given back for now; the server is tried again when the others are done."""

    reason: Reason
    facts: Facts = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class AheadDone:
    """What may be done before its turn is done, or was given up: its place is free until its turn comes (T8)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Warned:
    """A check that does not stop the server had something to say (``night.md`` C): told once."""

    check: str
    seen: str
    remedy: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Troubled:
    """A step has failed for good, and there is a remedy that may be tried before the server is left to a person.

    ``slot``: the component it was about; ``way``: how its payload was brought; either empty where there is none.
    """

    reason: Reason
    facts: Facts = field(default_factory=dict)
    slot: str = ""
    way: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedied:
    """A remedy is tried for the trouble: the server is read and planned again, as the remedy wants it."""

    remedy: Remedy
    by: str = ""
    """Who said so; empty where the house lets it be tried by itself."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ErrandAsked:
    """Committed before anybody is asked. ``of`` names the hook, empty where a person is asked."""

    errand: Errand
    of: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ErrandDone:
    """It is done: by whom, and what they had to say."""

    by: str
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ErrandGivenUp:
    """It is waited for no longer. ``begun``: it may come to pass all the same; ``stopped``: a person stopped it."""

    why: str
    begun: bool = False
    stopped: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteIntent:
    """Committed before anything is sent: which bytes for which component, how, and the tasks there were before."""

    planned: PlannedWrite
    way: str
    known_tasks: tuple[str, ...] = ()
    settled_by: str = ""
    """What made it sure that the payload is for this component: its descriptors, or the catalog's checksum."""
    marker: Marker | None = None
    """What told its controller's last start from the next: one that has started since may have forgotten its tasks."""
    target: str = ""
    """What the device is told that it is for, by which its task is known again; empty where nothing is sent."""
    at_reset: bool = False
    """It is asked to be written with the reset, since its update service offers no other time."""


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteSent:
    """The device took it. ``task`` and ``monitor`` are where it can be followed, as far as it told."""

    task: str | None = None
    monitor: str | None = None
    evidence: Evidence = Evidence.ANSWER


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteUnsent:
    """It certainly did not act upon it; it may be sent again."""

    reason: Reason
    facts: Facts = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteStaged:
    """The device has it and waits for the reset: what is left of the write is done with that, and followed then."""

    message: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteDone:
    """The device says that it is written, or shows it."""

    evidence: Evidence
    message: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteFailed:
    """It was not written; that is final for this run."""

    reason: Reason
    facts: Facts = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetIntent:
    """Committed before a reset is asked for. ``type`` is the ResetType; ``marker`` how the server stood before."""

    kind: ResetKind
    marker: Marker
    type: str = ""
    unshown: tuple[tuple[str, str], ...] = ()
    """(slot, version) of what it makes active and was not yet: seen then, they prove it where nothing else does."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetSent:
    """The device took the request for a reset."""

    evidence: Evidence = Evidence.ANSWER


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetSeen:
    """The reset has acted."""

    evidence: Evidence


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetUnsent:
    """The reset certainly did not act; it may be asked for again."""

    reason: Reason
    facts: Facts = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetSpared:
    """A planned reset that is not asked for: it has come by itself, or by somebody else, and what waited is active."""

    kind: ResetKind


@dataclass(frozen=True, slots=True, kw_only=True)
class Asked:
    """A person is asked. What the reset does meanwhile is still watched: if it acts after all, the question is over."""

    question: Question
    facts: Facts = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Answered:
    """What a person answered, and who."""

    question: Question
    answer: Answer
    by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Back:
    """The server answers again and its system runs."""

    marker: Marker


@dataclass(frozen=True, slots=True, kw_only=True)
class Confirmed:
    """A reading shows what the round promised, and everything else that was there before."""

    versions: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Ended:
    """Nothing more is done on this server in this run."""

    ending: Ending
    reason: Reason
    facts: Facts = field(default_factory=dict)


TapeEntry = (
    Read
    | LeftBefore
    | Plan
    | PlaceTaken
    | PlaceGiven
    | Deferred
    | AheadDone
    | Warned
    | Troubled
    | Remedied
    | ErrandAsked
    | ErrandDone
    | ErrandGivenUp
    | WriteIntent
    | WriteSent
    | WriteUnsent
    | WriteStaged
    | WriteDone
    | WriteFailed
    | ResetIntent
    | ResetSent
    | ResetSeen
    | ResetUnsent
    | ResetSpared
    | Asked
    | Answered
    | Back
    | Confirmed
    | Ended
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One entry where it stands: ``seq`` counts from 1 without gaps."""

    seq: int
    at: datetime.datetime
    value: TapeEntry
