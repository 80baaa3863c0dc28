"""Seal a repository: targets, snapshot and timestamp metadata (TUF 1.0, consistent snapshots, Ed25519).

The edition of a repository is the version of all three, so that an older copy is known by its number.
"""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

from tuf.api.metadata import Metadata, MetaFile, Snapshot, TargetFile, Targets, Timestamp
from tuf.api.serialization import DeserializationError

from ordnung.repository.roots import SPELLING, SealBook, SignaturesDue, count_signatures, merge_signatures
from ordnung.store.copying import digest_of, write_durably
from ordnung.store.errors import RepositoryError


@dataclass(frozen=True, slots=True, kw_only=True)
class Content:
    """One file of a repository: its path inside, where its bytes are now, and what they are."""

    path: str
    source: Path
    sha256: str
    size: int


def describe(path: str, source: Path) -> Content:
    """A file to be sealed, hashed now. Raises OSError."""
    return Content(path=path, source=source, sha256=digest_of(source), size=source.stat().st_size)


def prefixed(path: str, sha256: str) -> str:
    """Where a target lies under consistent snapshots: the checksum before the name."""
    pure = PurePosixPath(path)
    return str(pure.with_name(f"{sha256}.{pure.name}"))


def draft_targets(
    contents: Sequence[Content], book: SealBook, edition: int, expires: datetime.datetime
) -> Metadata[Targets]:
    """Targets metadata, signed with the keys of that role that are kept here."""
    targets = {c.path: TargetFile(c.size, {"sha256": c.sha256}, c.path) for c in sorted(contents, key=lambda c: c.path)}
    metadata = Metadata(Targets(version=edition, expires=expires.replace(microsecond=0), targets=targets))
    for signer in book.signers("targets"):
        metadata.sign(signer, append=True)
    return metadata


def signatures_due(targets: Metadata[Targets], book: SealBook) -> SignaturesDue:
    """How many signatures the targets have, and how many they need by the root that holds."""
    return count_signatures(targets, "targets", book.root.signed)


def load_targets(raw: bytes) -> Metadata[Targets]:
    """Targets metadata. Raises RepositoryError for anything else."""
    try:
        metadata: Metadata[Targets] = Metadata.from_bytes(raw)
    except (DeserializationError, ValueError) as error:
        raise RepositoryError("broken", "targets.json", f"no targets metadata ({type(error).__name__})") from None
    if not isinstance(metadata.signed, Targets):
        raise RepositoryError("broken", "targets.json", f"this is {metadata.signed.type} metadata, not targets")
    return metadata


def add_target_signatures(targets: Metadata[Targets], raw: bytes, book: SealBook) -> SignaturesDue:
    """Take signatures made elsewhere into the targets; returns what is still wanted. Raises RepositoryError."""
    merge_signatures(targets, load_targets(raw), dict(book.root.signed.keys))
    return signatures_due(targets, book)


def finish(targets: Metadata[Targets], book: SealBook) -> Mapping[str, bytes]:
    """All metadata of a sealed repository by file name.

    Raises:
        RepositoryError: the targets are not signed by enough of those who must.
    """
    needed = signatures_due(targets, book)
    if not needed.is_enough:
        message = f"{needed.have} of {needed.threshold} signatures are there"
        raise RepositoryError("below threshold", "targets.json", message)
    edition, expires = targets.signed.version, targets.signed.expires
    raw = targets.to_bytes(SPELLING)
    snapshot = _signed(Snapshot(version=edition, expires=expires, meta={"targets.json": _meta(edition, raw)}), book)
    stamp = _signed(Timestamp(version=edition, expires=expires, snapshot_meta=_meta(edition, snapshot)), book)
    files = {f"{number}.root.json": root for number, root in enumerate(book.history(), start=1)}
    return {
        **files,
        f"{edition}.targets.json": raw,
        f"{edition}.snapshot.json": snapshot,
        "timestamp.json": stamp,
    }


def _meta(version: int, raw: bytes) -> MetaFile:
    return MetaFile.from_data(version, raw, ["sha256"])


def _signed(part: Snapshot | Timestamp, book: SealBook) -> bytes:
    metadata: Metadata[Any] = Metadata(part)
    for signer in book.signers(part.type):
        metadata.sign(signer, append=True)
    return metadata.to_bytes(SPELLING)


def store_metadata(folder: Path, files: Mapping[str, bytes]) -> None:
    """Keep metadata in a folder; the timestamp comes last, so that a half-written seal is never taken for whole."""
    for name in sorted(files, key=lambda name: name == "timestamp.json"):
        write_durably(folder / name, files[name])
