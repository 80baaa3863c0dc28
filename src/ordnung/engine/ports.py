"""What the engine needs of the world. The same engine runs on the database, on files and in simulation."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from ordnung.controllers import Endpoint, Marker, Reach, TaskView
from ordnung.core.baseline import Position
from ordnung.core.components import Server
from ordnung.formats.pldm import Package


class Controller(Protocol):
    """One signed-in controller. Every method may raise ControllerError; ``pull``, ``push`` and
    ``reset`` may raise LostAnswerError, after which the device must be asked what happened.
    """

    @property
    def pin(self) -> str: ...
    async def read(self, now: Callable[[], datetime.datetime]) -> Server: ...
    async def reach(self) -> Reach: ...
    async def pull(self, reach: Reach, slot: str, uri: str) -> str: ...
    async def push(self, reach: Reach, slot: str, image: Path) -> str: ...
    async def task(self, path: str) -> TaskView | None: ...
    async def tasks(self) -> list[TaskView]: ...
    async def reset(self, kind: str) -> None: ...
    async def marker(self) -> Marker: ...


class Controllers(Protocol):
    """Opens controllers; many may be open at once."""

    def open(self, endpoint: Endpoint) -> AbstractAsyncContextManager[Controller]: ...


class Clock(Protocol):
    """The site's clock. ``sleep`` takes this clock's seconds."""

    def now(self) -> datetime.datetime: ...
    async def sleep(self, seconds: float) -> None: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One entry of a tape: ``seq`` counts from 1 without gaps."""

    seq: int
    at: datetime.datetime
    kind: str
    body: Mapping[str, Any]


class Journal(Protocol):
    """Append-only tapes. ``append`` returns only when the entry would survive a power cut."""

    async def load(self, run: str, server: str) -> list[Entry]: ...
    async def append(self, run: str, server: str, seq: int, kind: str, body: Mapping[str, Any]) -> Entry:
        """Add the entry number ``seq``. Raises TapeConflictError when that number is taken already."""
        ...


class TapeConflictError(Exception):
    """Someone else writes on this tape: two engines at work on one server. Stop at once."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Ready:
    """A payload in the store, read and verified against its checksum just now.

    ``package`` is None for an opaque file, of which only the catalog says whom it is for.
    """

    path: Path
    sha256: str
    package: Package | None


class Payloads(Protocol):
    """Payloads at hand. ``find`` raises RepositoryError when one is missing or not what it should be."""

    @property
    def protocols(self) -> tuple[str, ...]:
        """Over what controllers can fetch from here (HTTPS, HTTP); over nothing, payloads are pushed."""
        ...

    async def find(self, product: str, version: str) -> Ready: ...
    def uri(self, run: str, server: str, sha256: str, protocol: str) -> str:
        """Where one server's controller fetches a payload during a run."""
        ...


class Baseline(Protocol):
    """What the house wants: the positions of a freshly read server."""

    async def locate(self, server: Server) -> tuple[Position, ...]: ...


class Reporter(Protocol):
    """Told of everything worth showing; never asked. Must not raise and must not block long."""

    async def step(self, run: str, server: str, state: str, detail: str, percent: int | None) -> None: ...
    async def reading(self, run: str, server: Server, pin: str) -> None: ...
    async def ended(self, run: str, server: str, state: str, reason: str) -> None: ...


class Orders(Protocol):
    """What the people want of a run under way: ``go``, ``hold`` or ``stop``; asked before each intent."""

    async def order(self, run: str, server: str) -> str: ...
