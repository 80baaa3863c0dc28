"""The site's content store and seal, and payloads from the store as the engine wants them."""

from __future__ import annotations

import asyncio
from pathlib import Path

from django.conf import settings

from ordnung.core.matching import Catalogs
from ordnung.engine.ports import Ready
from ordnung.repository import (
    ContentStore,
    PayloadServer,
    RepositoryError,
    SealBook,
    SealedCarrier,
    check_identity,
)
from ordnung.repository.sealed import open_sealed
from ordnung.repository.store import digest_of
from ordnung.server.clock import now
from ordnung.server.repositories.models import Repository
from ordnung.server.vault import derive


def open_store() -> ContentStore:
    """The store of this site."""
    return ContentStore(Path(settings.HOME) / "payloads")


def open_book() -> SealBook:
    """This site's keys and roots. Raises RepositoryError when the site's secret is not the one they were kept with."""
    return SealBook(Path(settings.HOME) / "keys", derive("seal keys"), now())


def seal_folder(row: Repository) -> Path:
    """Where the seal of a repository lies."""
    return Path(settings.HOME) / "seals" / f"{row.pk:04d}"


def open_repository(row: Repository) -> SealedCarrier:
    """A sealed repository of this site. Raises RepositoryError when its seal is not there."""
    return open_sealed(row.name, seal_folder(row), open_store())


class StoredPayloads:
    """The engine's port: a payload is hashed and identified anew each time before it is used."""

    def __init__(self, store: ContentStore, server: PayloadServer, catalogs: Catalogs) -> None:
        self.store, self.server = store, server
        self.products = {product.id: product for product in catalogs.products()}

    @property
    def protocols(self) -> tuple[str, ...]:
        """Over what the payload server listens (it needs a certificate)."""
        return tuple(self.server.bases)

    async def find(self, product: str, version: str) -> Ready:
        """The payload of a release. Raises RepositoryError when it is missing or not what it should be."""
        return await asyncio.to_thread(self._find, product, version)

    def _find(self, product: str, version: str) -> Ready:
        known = self.products.get(product)
        release = known.find(version) if known else None
        name = f"{known.name if known else product} {version}"
        if known is None or release is None or release.payload is None:
            raise RepositoryError("missing", name, "the catalog names no payload for it")
        sha256 = release.payload.sha256
        if not self.store.has(sha256):
            raise RepositoryError("missing", name, "it is not packed; pack a repository for this server first")
        path = self.store.path(sha256)
        if digest_of(path) != sha256:
            raise RepositoryError("altered", name, "the stored payload was altered")
        return Ready(path=path, sha256=sha256, package=check_identity(path, known, version, release.payload.path))

    def uri(self, run: str, server: str, sha256: str, protocol: str) -> str:
        """Where a controller fetches it."""
        return self.server.uri(run, server, sha256, protocol)
