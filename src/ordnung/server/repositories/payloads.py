"""The site's content store and seal, and payloads from the store as the engine wants them."""

from __future__ import annotations

import asyncio
from pathlib import Path

from django.conf import settings

from ordnung.core.sheet import NamedPayload
from ordnung.engine.ports import Ready
from ordnung.formats.pldm import Package
from ordnung.repository import SealBook, SealedCarrier
from ordnung.repository.identity import open_package
from ordnung.repository.sealed import open_sealed
from ordnung.server.clock import now
from ordnung.server.repositories.models import Repository
from ordnung.server.vault import purpose_key
from ordnung.store import Addresses, ContentStore, RepositoryError
from ordnung.store.content import digest_of


def open_store() -> ContentStore:
    """The store of this site."""
    return ContentStore(Path(settings.HOME) / "payloads")


def open_book() -> SealBook:
    """This site's keys and roots. Raises RepositoryError when the site's secret is not the one they were kept with."""
    return SealBook(Path(settings.HOME) / "keys", purpose_key("seal keys"), now())


def seal_folder(row: Repository) -> Path:
    """Where the seal of a repository lies."""
    return Path(settings.HOME) / "seals" / f"{row.pk:04d}"


def open_repository(row: Repository) -> SealedCarrier:
    """A sealed repository of this site. Raises RepositoryError when its seal is not there."""
    return open_sealed(row.name, seal_folder(row), open_store())


class StoredPayloads:
    """The engine's port: a payload is found by its checksum alone, hashed and read anew each time before it is used."""

    def __init__(self, store: ContentStore, server: Addresses | None) -> None:
        """``server`` None: nothing is served, payloads are only looked at."""
        self.store, self.server = store, server

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
