"""The content store: each payload once, under its SHA-256, written whole or not at all.

- ``content/AB/ABCD…`` holds what was checked; it appears by rename after fsync and is never changed.
- ``partial/`` holds what is being collected; killed at any moment, it is gone on with or thrown away.
- ``holds/OWNER.json`` says who needs what. Whoever brings content in holds it first, so that collecting
  what nobody holds can run at any moment beside it (both take the lock ``holds/.lock``).
"""

from __future__ import annotations

import fcntl
import hashlib
import io
import json
import os
import re
import shutil
from collections import Counter
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from ordnung.store.copying import (
    CHUNK,
    Progress,
    copy_hashed,
    digest_of,
    silent,
    sync_file,
    sync_folder,
    write_durably,
)
from ordnung.store.errors import RepositoryError, no_room

HOLD = "ordnung.hold/1"
_SUM = re.compile(r"[0-9a-f]{64}")
__all__ = ["CHUNK", "Collected", "ContentStore", "digest_of", "is_sum", "sync_folder"]


def is_sum(text: object) -> bool:
    """Whether this is a SHA-256 in lower-case hex."""
    return isinstance(text, str) and _SUM.fullmatch(text) is not None


@dataclass(frozen=True, slots=True, kw_only=True)
class Collected:
    """What collecting threw away."""

    files: int
    bytes: int


class ContentStore:
    """A folder of files named by their SHA-256. Half-fetched ones lie in ``partial`` until whole.

    ``spared`` bytes of its disk are for others: it takes in nothing that would leave less free.
    """

    def __init__(self, folder: Path, spared: int = 0) -> None:
        self.root, self.spared = folder, spared
        self.root = folder
        self.folder, self.partial, self.holds = folder / "content", folder / "partial", folder / "holds"
        for place in (self.folder, self.partial, self.holds):
            place.mkdir(parents=True, exist_ok=True)

    def path(self, sha256: str) -> Path:
        """Where a payload lies or would lie."""
        return self.folder / sha256[:2] / sha256

    def has(self, sha256: str) -> bool:
        """Whether the payload is here; what is here was checked when it came in."""
        return self.path(sha256).is_file()

    def partial_path(self, sha256: str) -> Path:
        """Where a payload is collected while it is being fetched."""
        return self.partial / sha256

    def room(self) -> int:
        """Bytes that are free for the store where it lies."""
        return max(0, shutil.disk_usage(self.root).free - self.spared)

    def want_room(self, size: int, name: str) -> None:
        """Say beforehand that something can't fit. Raises RepositoryError (no room)."""
        free = self.room()
        if size > free:
            what = f"it needs {size} bytes, {free} are free for the store on its disk; nothing was begun"
            raise RepositoryError("no room", name, what)

    def adopt(self, sha256: str, name: str) -> Path:
        """Check a collected payload and take it in.

        Raises:
            RepositoryError: its checksum is wrong; the collected file is thrown away.
        """
        collected = self.partial_path(sha256)
        found = digest_of(collected)
        if found != sha256:
            collected.unlink()
            raise _altered(name, found, sha256)
        with collected.open("rb") as file:
            os.fchmod(file.fileno(), 0o444)
            os.fsync(file.fileno())
        return self._place(collected, sha256)

    def take_in(self, source: BinaryIO, sha256: str, name: str, report: Progress = silent) -> Path:
        """Copy, check and take in at once; what is here already is left as it is.

        Raises:
            RepositoryError: its checksum is wrong, or the disk is full. Nothing of it stays.
        """
        if self.has(sha256):
            return self.path(sha256)
        draft = self.partial / f"{sha256}.{os.getpid()}.tmp"
        try:
            with draft.open("wb", buffering=0) as file:
                os.fchmod(file.fileno(), 0o444)
                found, _ = copy_hashed(source, file, report)
                if found != sha256:
                    raise _altered(name, found, sha256)
                sync_file(file)
        except OSError as error:
            draft.unlink(missing_ok=True)
            raise no_room(error, name) or error from None
        except BaseException:
            draft.unlink(missing_ok=True)
            raise
        return self._place(draft, sha256)

    def put(self, raw: bytes, name: str) -> Path:
        """Take in a small document under its own checksum. Raises RepositoryError when the disk is full."""
        return self.take_in(io.BytesIO(raw), hashlib.sha256(raw).hexdigest(), name)

    def _place(self, draft: Path, sha256: str) -> Path:
        final = self.path(sha256)
        if not final.parent.is_dir():
            final.parent.mkdir(exist_ok=True)
            sync_folder(self.folder)
        draft.replace(final)
        sync_folder(final.parent)
        return final

    def sums(self) -> Iterator[str]:
        """The checksums of everything here."""
        for path in sorted(self.folder.glob("??/*")):
            yield path.name

    # Who needs what.

    @contextmanager
    def _locked(self) -> Iterator[None]:
        with (self.holds / ".lock").open("wb") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            yield

    def hold(self, owner: str, sums: Iterable[str]) -> None:
        """Say that ``owner`` needs these payloads, here or about to come; replaces what it held before."""
        body = {"format": HOLD, "owner": owner, "sums": sorted(set(sums))}
        with self._locked():
            write_durably(self.holds / f"{owner}.json", (json.dumps(body, indent=1) + "\n").encode())

    def release(self, owner: str) -> None:
        """``owner`` needs nothing any more. What only it held goes at the next collecting."""
        with self._locked():
            (self.holds / f"{owner}.json").unlink(missing_ok=True)
            sync_folder(self.holds)

    def owners(self) -> dict[str, frozenset[str]]:
        """Who holds what.

        Raises:
            RepositoryError: a hold can't be read; collecting must not go on then.
        """
        found = {}
        for path in sorted(self.holds.glob("*.json")):
            try:
                body = json.loads(path.read_bytes())
                sums = frozenset(body["sums"])
            except (ValueError, KeyError, TypeError):
                raise RepositoryError("broken", f"holds/{path.name}", "this hold can't be read") from None
            if body.get("format") != HOLD or not all(map(is_sum, sums)):
                raise RepositoryError("broken", f"holds/{path.name}", "this is no hold")
            found[path.stem] = sums
        return found

    def counts(self) -> Counter[str]:
        """How many owners hold each payload."""
        return Counter(sha256 for sums in self.owners().values() for sha256 in sums)

    def collect(self) -> Collected:
        """Throw away what nobody holds, and half-collected files nobody waits for.

        Raises:
            RepositoryError: a hold can't be read; nothing was thrown away.
        """
        files = size = 0
        with self._locked():
            needed = set(self.counts())
            for path in [*self.folder.glob("??/*"), *self.partial.iterdir()]:
                if path.name[:64] not in needed:
                    size += path.stat().st_size
                    path.unlink()
                    files += 1
        return Collected(files=files, bytes=size)


def _altered(name: str, found: str, sha256: str) -> RepositoryError:
    what = f"its checksum is {found[:12]}…, it should be {sha256[:12]}…: the payload was altered"
    return RepositoryError("altered", name, what)
