"""The site's content store and its seal."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings

from ordnung.repository import SealBook, SealedCarrier
from ordnung.repository.sealed import open_sealed
from ordnung.server.clock import now
from ordnung.server.repositories.models import Repository
from ordnung.server.room import LEAST
from ordnung.server.vault import purpose_key
from ordnung.store import ContentStore


def open_store() -> ContentStore:
    """The store of this site. It leaves room for the records of what is under way."""
    return ContentStore(Path(settings.HOME) / "payloads", spared=LEAST)


def open_book() -> SealBook:
    """This site's keys and roots. Raises RepositoryError when the site's secret is not the one they were kept with."""
    return SealBook(Path(settings.HOME) / "keys", purpose_key("seal keys"), now())


def seal_folder(row: Repository) -> Path:
    """Where the seal of a repository lies."""
    return Path(settings.HOME) / "seals" / f"{row.pk:04d}"


def open_repository(row: Repository) -> SealedCarrier:
    """A sealed repository of this site. Raises RepositoryError when its seal is not there."""
    return open_sealed(row.name, seal_folder(row), open_store())
