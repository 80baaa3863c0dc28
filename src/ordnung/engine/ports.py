"""What the engine needs of the world. The same engine runs on the database, on files and in simulation."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Protocol

from ordnung.controllers import Accepted, Aim, ControllerError, Endpoint, Marker, Reach, ResetOffer, TaskView, Word
from ordnung.core.away import Refusal
from ordnung.core.baseline import Position
from ordnung.core.components import Server
from ordnung.core.errands import Errand
from ordnung.core.sheet import NamedPayload
from ordnung.core.turn import NotYet
from ordnung.engine.entries import Answer, Entry, TapeEntry
from ordnung.formats.pldm import Package


class Controller(Protocol):
    """One signed-in controller. Every method may raise ControllerError; ``pull``, ``push`` and
    ``reset`` may raise LostAnswerError, after which the device must be asked what happened.
    """

    @property
    def pin(self) -> str: ...
    @property
    def losses(self) -> int: ...
    async def read(self, now: Callable[[], datetime.datetime]) -> Server: ...
    async def reach(self) -> Reach: ...
    async def aim(self, reach: Reach, way: str, slot: str) -> Aim: ...
    async def pull(self, reach: Reach, target: str, uri: str) -> Accepted: ...
    async def push(self, reach: Reach, target: str, image: Path) -> Accepted: ...
    async def choose_bank(self, slot: str, version: str) -> None: ...
    async def set_up(self, slot: str) -> Accepted: ...
    async def choose_start(self, slot: str) -> None: ...
    async def start_as_before(self) -> None: ...
    async def insert_disc(self, uris: Mapping[str, str]) -> Accepted: ...
    async def eject_disc(self, uris: Mapping[str, str]) -> Accepted: ...
    async def leave_disc(self) -> None: ...
    async def has_disc(self, uris: Mapping[str, str]) -> tuple[bool, bool]: ...
    async def leave_word(self, mark: str, left: Word) -> bool: ...
    async def find_word(self, mark: str) -> Word | None: ...
    async def task(self, task: str | None, monitor: str | None) -> TaskView | None: ...
    async def tasks(self) -> list[TaskView] | None: ...
    async def find_reset(self, kind: str, *, force: bool = False) -> ResetOffer: ...
    async def reset(self, offer: ResetOffer) -> None: ...
    async def marker(self) -> Marker: ...


class Controllers(Protocol):
    """Opens controllers; many may be open at once, and one may be opened again and again."""

    def open(self, endpoint: Endpoint) -> AbstractAsyncContextManager[Controller]: ...
    async def let_go(self, endpoint: Endpoint) -> None:
        """Nothing more will be asked of it for now: whatever is kept open is closed."""
        ...


class Clock(Protocol):
    """The site's clock. ``sleep`` takes this clock's seconds."""

    def now(self) -> datetime.datetime: ...
    async def sleep(self, seconds: float) -> None: ...


class Journal(Protocol):
    """Append-only tapes, and what follows from them: who holds which place.

    ``append`` returns only when the entry, everything derived from it and the event that tells of it would survive
    a power cut: all of it or nothing. Both raise RecordsOutError while tapes can't be read or written.
    """

    async def load(self, run: str, server: str) -> list[Entry]: ...
    async def append(self, run: str, server: str, seq: int, value: TapeEntry) -> Entry:
        """Add the entry number ``seq``.

        Raises:
            TapeConflictError: that number is taken already.
            NoPlaceError: a place was to be taken and the sheet or the site's limits don't allow it now; nothing was
                added.
        """
        ...


class TapeConflictError(Exception):
    """Someone else writes on this tape: two engines at work on one server. Stop at once."""


class RecordsOutError(Exception):
    """What Ordnung keeps can't be read or written just now: no room, a lock, a disk that fails.

    What was to be kept counts only if it can be read afterwards. Nothing is sent to a device meanwhile.
    """


class NoPlaceError(Exception):
    """A server may not begin now; ``refusal`` says which limit of the site, or what of its sheet, bars it."""

    def __init__(self, refusal: Refusal | NotYet) -> None:
        self.refusal = refusal
        super().__init__(str(refusal))


@dataclass(frozen=True, slots=True, kw_only=True)
class Ready:
    """A payload in the store, read and verified against its checksum just now.

    ``package`` is None for an opaque file, of which only the catalog says whom it is for.
    """

    path: Path
    sha256: str
    package: Package | None


class Payloads(Protocol):
    """Payloads at hand, by their checksum. ``find`` raises RepositoryError when one is missing or altered."""

    @property
    def protocols(self) -> tuple[str, ...]:
        """Over what controllers can fetch from here (HTTPS, HTTP); over nothing, payloads are pushed."""
        ...

    async def find(self, payload: NamedPayload) -> Ready: ...
    def uri(self, run: str, server: str, sha256: str, protocol: str) -> str:
        """Where one server's controller fetches a payload during a run."""
        ...

    async def find_disc(self) -> None:
        """See that the disc of a run that goes by one is at hand, unaltered. Raises RepositoryError."""
        ...

    def disc_uri(self, run: str, server: str, protocol: str) -> str:
        """Where one server's controller gets the disc of a run that goes by disc."""
        ...


class Baseline(Protocol):
    """What the house wants: the positions of a freshly read server, by what the run was planned by."""

    async def locate(self, server: Server) -> tuple[Position, ...]: ...


class Reporter(Protocol):
    """Report of everything worth showing that does not stand on a tape; never asked. Must not block long.

    What is kept by it may raise RecordsOutError, as may all of ``Helpers`` and ``Orders``.
    """

    async def step(self, run: str, server: str, state: str, detail: str, percent: int | None) -> None: ...
    async def reading(self, run: str, server: Server, pin: str) -> None: ...
    async def trouble(self, run: str, server: str, error: Exception) -> str:
        """An error of our own: kept with its traceback in the log; returns the id by which it is found there."""
        ...


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownAccess:
    """How a controller is reached. ``mark`` is another one whenever somebody has entered or accepted something since,
    be it the same once more, or the server was read so.
    """

    endpoint: Endpoint
    mark: str


class Access(Protocol):
    """How controllers are reached, by what people have entered and accepted until now."""

    async def known(self, server: str) -> KnownAccess | None:
        """As it is known by now; None where nobody can change that."""
        ...

    async def keep_out(self, server: str, error: ControllerError) -> None:
        """Keep why it can't be spoken to, and what it showed, where a person can settle that."""
        ...

    async def settled_by(self, server: str) -> str:
        """Who changed last how it is reached; empty where that is not known."""
        ...


class HelpState(StrEnum):
    """How far it is with something that was asked for outside."""

    DONE = "done"
    PENDING = "pending"
    """It was taken on, or nobody has answered yet."""
    REFUSED = "refused"
    """Certainly not done, and not begun."""
    SILENT = "silent"
    """It could not be asked; what it does with what it took on earlier is not known."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Help:
    """What came of an errand: by whom, and what they had to say."""

    state: HelpState
    by: str = ""
    note: str = ""


class Helpers(Protocol):
    """Who does what Ordnung can't: the hooks of the house, and people with their ticks (``night.md`` P1, P3)."""

    async def helper(self, run: str, server: str, errand: Errand) -> str:
        """The hook that an errand goes to; empty where a person ticks it."""
        ...

    async def ask(self, run: str, server: str, errand: Errand, key: str) -> Help:
        """Ask for it, or how far it is: again and again under one ``key``, by which it is done only once."""
        ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Reply:
    """A person's answer to a question of a run."""

    answer: Answer
    by: str


class Orders(Protocol):
    """What the people want of a run under way; asked before each intent."""

    async def order(self, run: str, server: str) -> str:
        """For one server: ``go``, ``hold``, ``stop`` or ``leave out`` (``core.orders``)."""
        ...

    async def bars_reset(self, run: str, server: str) -> str:
        """Why no reset may begin now by the sheet's windows (T9); empty when it may."""
        ...

    async def overrides(self, run: str, server: str) -> Mapping[str, str]:
        """Checks a person has overridden for a server, with the reasons."""
        ...

    async def reply(self, run: str, server: str) -> Reply | None:
        """What a person answered to the question that a server waits with; None: nobody has yet."""
        ...
