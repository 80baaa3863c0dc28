"""Write a repository out as a folder sealed with TUF 1.0 metadata (consistent snapshots, Ed25519).

DIR/metadata/1.root.json, 1.targets.json, 1.snapshot.json, timestamp.json
DIR/targets/FOLDER/SHA256.NAME      payloads, catalogs, packing.json
"""

from __future__ import annotations

import datetime
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from securesystemslib.signer import Key
from tuf.api.metadata import Metadata, MetaFile, Role, Root, Snapshot, TargetFile, Targets, Timestamp
from tuf.api.serialization.json import JSONSerializer

from ordnung.repository.keys import ROLES, SealKeys

ROOT_DAYS = 365
_SPELLING = JSONSerializer(compact=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Content:
    """One file of a repository: its path inside and where its bytes are now."""

    path: str
    source: Path


def write_out(folder: Path, contents: Sequence[Content], keys: SealKeys, expires: datetime.datetime) -> None:
    """Write and seal a repository. ``folder`` appears whole or not at all; what was there is replaced.

    Args:
        expires: when the seal ends; the root lasts ``ROOT_DAYS`` at least.

    Raises:
        OSError: the medium is full or can't be written.
    """
    draft = folder.with_name(folder.name + ".new")
    if draft.exists():
        shutil.rmtree(draft)
    (draft / "metadata").mkdir(parents=True)
    targets = {}
    for content in sorted(contents, key=lambda c: c.path):
        info = TargetFile.from_file(content.path, str(content.source), ["sha256"])
        targets[content.path] = info
        place = draft / "targets" / prefixed(content.path, info.hashes["sha256"])
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(content.source, place)
    _seal(draft / "metadata", targets, keys, expires)
    if folder.exists():
        shutil.rmtree(folder)
    draft.replace(folder)


def prefixed(path: str, sha256: str) -> str:
    """Where a target lies under consistent snapshots: the checksum before the name."""
    pure = PurePosixPath(path)
    return str(pure.with_name(f"{sha256}.{pure.name}"))


def _seal(folder: Path, targets: dict[str, TargetFile], keys: SealKeys, expires: datetime.datetime) -> None:
    roles = {role: Role([keys.signer(role).public_key.keyid], 1) for role in ROLES}
    known: dict[str, Key] = {k.keyid: k for k in (keys.root.public_key, keys.online.public_key)}
    root_ends = max(expires, expires + datetime.timedelta(days=ROOT_DAYS))
    root = Root(version=1, expires=root_ends, keys=known, roles=roles, consistent_snapshot=True)
    _write(folder / "1.root.json", Metadata(root), keys, "root")
    _write(
        folder / "1.targets.json",
        Metadata(Targets(version=1, expires=expires, targets=targets)),
        keys,
        "targets",
    )
    meta = {"targets.json": _meta(folder / "1.targets.json")}
    _write(
        folder / "1.snapshot.json",
        Metadata(Snapshot(version=1, expires=expires, meta=meta)),
        keys,
        "snapshot",
    )
    stamp = Timestamp(version=1, expires=expires, snapshot_meta=_meta(folder / "1.snapshot.json"))
    _write(folder / "timestamp.json", Metadata(stamp), keys, "timestamp")


def _meta(path: Path) -> MetaFile:
    return MetaFile.from_data(1, path.read_bytes(), ["sha256"])


def _write(
    path: Path,
    metadata: Metadata[Root] | Metadata[Targets] | Metadata[Snapshot] | Metadata[Timestamp],
    keys: SealKeys,
    role: str,
) -> None:
    metadata.sign(keys.signer(role))
    path.write_bytes(metadata.to_bytes(_SPELLING))
