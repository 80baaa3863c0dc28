"""The content store: each payload once, under its SHA-256, written whole or not at all."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator
from pathlib import Path

from ordnung.repository.errors import RepositoryError

CHUNK = 1024 * 1024


class ContentStore:
    """A folder of files named by their SHA-256. Half-fetched ones lie in ``partial`` until whole."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.partial = folder / "content", folder / "partial"
        self.folder.mkdir(parents=True, exist_ok=True)
        self.partial.mkdir(parents=True, exist_ok=True)

    def path(self, sha256: str) -> Path:
        """Where a payload lies or would lie."""
        return self.folder / sha256[:2] / sha256

    def has(self, sha256: str) -> bool:
        """Whether the payload is here; what is here was checked when it came in."""
        return self.path(sha256).is_file()

    def partial_path(self, sha256: str) -> Path:
        """Where a payload is collected while it is being fetched."""
        return self.partial / sha256

    def adopt(self, sha256: str, name: str) -> Path:
        """Check a collected payload and take it in.

        Raises:
            RepositoryError: its checksum is wrong; the collected file is thrown away.
        """
        collected = self.partial_path(sha256)
        found = digest_of(collected)
        if found != sha256:
            collected.unlink()
            what = f"its checksum is {found[:12]}…, the catalog says {sha256[:12]}…: the payload was altered"
            raise RepositoryError("altered", name, what)
        with collected.open("rb") as file:
            os.fsync(file.fileno())
        final = self.path(sha256)
        final.parent.mkdir(parents=True, exist_ok=True)
        collected.replace(final)
        sync_folder(final.parent)
        return final

    def sums(self) -> Iterator[str]:
        """The checksums of everything here."""
        for path in sorted(self.folder.glob("??/*")):
            yield path.name


def digest_of(path: Path) -> str:
    """The SHA-256 of a file in hex, read in pieces."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def sync_folder(folder: Path) -> None:
    """Make renames in a folder durable."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
