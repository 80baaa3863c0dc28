"""Fetch payloads from mirrors and folders: in parallel, gone on with after a break, checked on arrival.

A place that sends something other than what the catalog says is put aside: it is asked again only
when no other place is left, and it is named.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote, urlsplit

import aiohttp

from ordnung.core.catalog import Payload
from ordnung.repository.egress import AT_ONCE_A_HOST, MirrorLine, Way
from ordnung.repository.transfer import Pace, collect
from ordnung.store.content import ContentStore
from ordnung.store.copying import Progress
from ordnung.store.errors import RepositoryError

TIMEOUT_S, CONNECT_S, SILENCE_S = 24 * 3600.0, 10.0, 60.0
"""A large payload over a thin line may take its time; silence may not."""
AT_ONCE = 8
ROUNDS = 4
"""So often all places are gone through."""
BACKOFF_S = 0.5
"""Waited after the first round; doubled after each further one."""
LIES = ("altered", "cut short")


@dataclass(frozen=True, slots=True, kw_only=True)
class PayloadSource:
    """Where payloads can be had: ``base`` is an https or file address, ``aside`` why it isn't trusted."""

    base: str
    proxy: str = ""
    aside: str = ""

    @property
    def host(self) -> str:
        """What connections are counted by."""
        return urlsplit(self.base).netloc


PutAside = Callable[[PayloadSource, str], None]
"""Called when a place lied: the place, and what it did."""
_busy: dict[Path, asyncio.Lock] = {}
"""One collects a payload at a time, whoever else in this process wants it too."""


class Fetcher:
    """Fetches into a store. Use as an async context manager."""

    def __init__(
        self,
        store: ContentStore,
        way: Way,
        folders: Sequence[Path] = (),
        *,
        places: Sequence[PayloadSource] = (),
        pace: Pace | None = None,
        put_aside: PutAside | None = None,
        sleep: Callable[[float], Awaitable[object]] = asyncio.sleep,
    ) -> None:
        """``way`` is how this house goes out to mirrors.

        Args:
            folders: those from which ``file:`` addresses may be taken.
            places: where else to look for a payload by its path, after the catalog's own base.
            pace: the limit of bytes a second of all transfers together.
        """
        self.store, self.folders = store, tuple(folder.resolve() for folder in folders)
        self.places, self.pace, self._sleep = tuple(places), pace, sleep
        self.aside: dict[str, str] = {place.base: place.aside for place in places if place.aside}
        self.answered: set[str] = set()
        """Bases from which something good came."""
        self._silent: set[str] = set()
        """Bases that could not be reached when they were last asked: others are asked before them."""
        self._tell_aside = put_aside
        self._gate = asyncio.Semaphore(AT_ONCE)
        self._gates: dict[str, asyncio.Semaphore] = {}
        timeout = aiohttp.ClientTimeout(total=TIMEOUT_S, sock_connect=CONNECT_S, sock_read=SILENCE_S)
        self._line = MirrorLine(way, timeout)

    async def __aenter__(self) -> Fetcher:
        await self._line.__aenter__()
        return self

    async def __aexit__(self, *_: object) -> None:
        await self._line.__aexit__()

    async def fetch(self, base: str, payload: Payload, progress: Progress, proxy: str = "") -> Path:
        """The payload in the store, fetched if it is not there yet.

        Args:
            base: where its catalog says that its payloads lie.

        Raises:
            RepositoryError: no place has it whole and unaltered; every place is named with its reason.
                What arrived so far is kept for the next try as long as it can still be right.
        """
        if self.store.has(payload.sha256):
            progress(payload.size)
            return self.store.path(payload.sha256)
        own = next((p for p in self.places if p.base == base), PayloadSource(base=base, proxy=proxy))
        places = [own, *(place for place in self.places if place.base != base)]
        lock = _busy.setdefault(self.store.partial_path(payload.sha256), asyncio.Lock())
        async with self._gate, lock:
            if self.store.has(payload.sha256):
                progress(payload.size)
                return self.store.path(payload.sha256)
            self.store.want_room(payload.size - self._have(payload), payload.path)
            progress(self._have(payload))
            return await self._from_any(places, payload, progress)

    def _have(self, payload: Payload) -> int:
        partial = self.store.partial_path(payload.sha256)
        have = partial.stat().st_size if partial.is_file() else 0
        if have > payload.size:
            partial.unlink()
            return 0
        return have

    async def _from_any(self, places: Sequence[PayloadSource], payload: Payload, progress: Progress) -> Path:
        """Go through the places, those put aside last, until one gives the payload."""
        errors: dict[str, RepositoryError] = {}
        for round_ in range(ROUNDS):
            for place in sorted(places, key=lambda p: (p.base in self.aside, p.base in self._silent)):
                if (known := errors.get(place.base)) is not None and known.code != "unreachable":
                    continue
                try:
                    path = await self._from_one(place, payload, progress)
                except RepositoryError as error:
                    if error.code == "no room":
                        raise
                    errors[place.base] = error
                    if error.code == "unreachable":
                        self._silent.add(place.base)
                    if error.code in LIES:
                        self._put_aside(place, error)
                else:
                    self.answered.add(place.base)
                    self._silent.discard(place.base)
                    return path
            if all(error.code != "unreachable" for error in errors.values()):
                break
            if round_ + 1 < ROUNDS:
                await self._sleep(BACKOFF_S * 2**round_)
        raise _summed_up(payload, errors)

    def _put_aside(self, place: PayloadSource, error: RepositoryError) -> None:
        self.aside[place.base] = error.what
        if self._tell_aside is not None:
            self._tell_aside(place, f"{error.file}: {error.what}")

    async def _from_one(self, place: PayloadSource, payload: Payload, progress: Progress) -> Path:
        """One try at one place. What two places gave together and is wrong is taken from this one alone."""
        partial = self.store.partial_path(payload.sha256)
        mixed = self._have(payload) > 0
        async with self._gates.setdefault(place.host, asyncio.Semaphore(AT_ONCE_A_HOST)):
            await self._collect(place, payload, partial, progress)
            try:
                return await asyncio.to_thread(self.store.adopt, payload.sha256, payload.path)
            except RepositoryError:
                progress(-payload.size)
                if not mixed:
                    raise
            await self._collect(place, payload, partial, progress)
            try:
                return await asyncio.to_thread(self.store.adopt, payload.sha256, payload.path)
            except RepositoryError:
                progress(-payload.size)
                raise

    async def _collect(self, place: PayloadSource, payload: Payload, partial: Path, progress: Progress) -> None:
        if place.base.startswith("file://"):
            await asyncio.to_thread(self._copy, place.base, payload, partial, progress)
            return
        url = place.base + payload.path
        await collect(self._line, url, partial, payload.size, payload.path, progress, proxy=place.proxy, pace=self.pace)

    def _copy(self, base: str, payload: Payload, into: Path, progress: Progress) -> None:
        """From a folder on this machine that the house allows."""
        path = Path(unquote(urlsplit(base + payload.path).path)).resolve()
        if not any(path.is_relative_to(folder) for folder in self.folders):
            raise RepositoryError("foreign", payload.path, "it lies outside the folders this house allows")
        if not path.is_file():
            raise RepositoryError("missing", payload.path, "it is not in its folder any more")
        size = path.stat().st_size
        if size != payload.size:
            code = "cut short" if size < payload.size else "altered"
            raise RepositoryError(code, payload.path, "its length is not what the catalog says")
        have = self._have(payload)
        with path.open("rb") as source, into.open("wb") as target:
            progress(-have)
            while piece := source.read(1024 * 1024):
                target.write(piece)
                progress(len(piece))


def _summed_up(payload: Payload, errors: dict[str, RepositoryError]) -> RepositoryError:
    """One refusal for all places: the worst of their codes, and what each did."""
    ranking = ("altered", "cut short", "foreign", "unreachable", "missing")
    worst = min((error.code for error in errors.values()), key=lambda c: ranking.index(c) if c in ranking else 0)
    if len(errors) == 1:
        (error,) = errors.values()
        return error
    each = "; ".join(f"{base}: {error.what}" for base, error in errors.items())
    return RepositoryError(worst, payload.path, each)
