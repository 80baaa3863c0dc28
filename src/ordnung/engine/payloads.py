"""Payloads from a content store, as the engine wants them."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from pathlib import Path

from ordnung.core.sheet import NamedPayload
from ordnung.engine.ports import Ready
from ordnung.formats.pldm import Package
from ordnung.repository.identity import open_package
from ordnung.store import Addresses, ContentStore, RepositoryError
from ordnung.store.content import digest_of


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscFile:
    """The disc image of a run that goes by one, and its SHA-256 as it was written out."""

    path: Path
    sha256: str


class StoredPayloads:
    """The engine's port: a payload is found by its checksum alone, hashed and read anew each time before it is used."""

    def __init__(self, store: ContentStore, server: Addresses | None, disc: DiscFile | None = None) -> None:
        """``server`` None: nothing is served, payloads are only looked at."""
        self.store, self.server, self.disc = store, server, disc
        self._found: tuple[int, int] | None = None

    @property
    def protocols(self) -> tuple[str, ...]:
        """Over what the payload server listens (it needs a certificate)."""
        return tuple(self.server.bases) if self.server is not None else ()

    async def find(self, payload: NamedPayload) -> Ready:
        """The very bytes that were named. Raises RepositoryError when they are missing or not what they should be."""
        return await asyncio.to_thread(self._find, payload)

    def _find(self, payload: NamedPayload) -> Ready:
        name = payload.path or f"{payload.sha256[:12]}…"
        if not self.store.has(payload.sha256):
            raise RepositoryError("missing", name, "it is not packed")
        path = self.store.path(payload.sha256)
        if path.stat().st_size != payload.size or digest_of(path) != payload.sha256:
            raise RepositoryError("altered", name, "the stored payload was altered")
        return Ready(path=path, sha256=payload.sha256, package=self.look(payload))

    def look(self, payload: NamedPayload) -> Package | None:
        """What a payload says of itself, without hashing it; None for an opaque file.

        Raises:
            RepositoryError: it is not in the store, or not to be read.
        """
        name = payload.path or f"{payload.sha256[:12]}…"
        if not self.store.has(payload.sha256):
            raise RepositoryError("missing", name, "it is not packed")
        return None if payload.form == "opaque" else open_package(self.store.path(payload.sha256), name)

    def uri(self, run: str, server: str, sha256: str, protocol: str) -> str:
        """Where a controller fetches it."""
        assert self.server is not None
        return self.server.uri(run, server, sha256, protocol)

    async def find_disc(self) -> None:
        """See that the disc image is what was written out; hashed again only when its file has changed.

        Raises:
            RepositoryError: it is missing, or was altered.
        """
        await asyncio.to_thread(self._find_disc)

    def _find_disc(self) -> None:
        if self.disc is None or not self.disc.path.is_file():
            raise RepositoryError("missing", "the disc image", "it is not where it was written out")
        now = self.disc.path.stat()
        if self._found == (now.st_mtime_ns, now.st_size):
            return
        if digest_of(self.disc.path) != self.disc.sha256:
            raise RepositoryError("altered", "the disc image", "it is not what was written out")
        self._found = (now.st_mtime_ns, now.st_size)

    def disc_uri(self, run: str, server: str, protocol: str) -> str:
        """Where a controller gets the disc of a run."""
        assert self.server is not None
        return self.server.disc_uri(run, server, protocol)
