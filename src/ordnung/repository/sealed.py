"""A sealed repository as a site keeps it: metadata in a folder, contents in the store."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from tuf.api.metadata import Metadata
from tuf.api.serialization import DeserializationError

from ordnung.repository.carriers import Carrier, PartCarrier, SealedCarrier
from ordnung.repository.carry_in import PACKING
from ordnung.repository.seal import Content, load_targets
from ordnung.store.content import ContentStore
from ordnung.store.errors import RepositoryError


def open_sealed(name: str, folder: Path, store: ContentStore) -> SealedCarrier:
    """A repository that was sealed here or carried in; nothing is verified.

    Raises:
        RepositoryError: its metadata are missing or can't be read.
    """
    try:
        files = {path.name: path.read_bytes() for path in sorted(folder.glob("*.json"))}
        stamp: Metadata[Any] = Metadata.from_bytes(files["timestamp.json"])
        edition = stamp.signed.snapshot_meta.version
        targets = load_targets(files[f"{edition}.targets.json"]).signed.targets
    except (KeyError, DeserializationError, AttributeError):
        raise RepositoryError("missing", name, "its seal is not there whole; seal it again") from None
    keep = ("root.json", f"{edition}.targets.json", f"{edition}.snapshot.json", "timestamp.json")
    files = {file: raw for file, raw in files.items() if file.endswith(keep)}
    contents = {
        path: Content(
            path=path, source=store.path(info.hashes["sha256"]), sha256=info.hashes["sha256"], size=info.length
        )
        for path, info in targets.items()
    }
    return SealedCarrier(name, files, contents)


def one_medium(whole: Carrier, elsewhere: set[str]) -> PartCarrier:
    """What lies on one medium: everything but the files (by checksum) that lie on others."""
    return PartCarrier(whole, lambda path: _sum(path) not in elsewhere)


def only_new(whole: Carrier, known: set[str]) -> PartCarrier:
    """What a site lacks that has the files in ``known`` (by checksum); seal and packing list always go along."""
    return PartCarrier(whole, lambda path: _sum(path) not in known or path.endswith(f".{PACKING}"))


def _sum(path: str) -> str:
    return path.rsplit("/", 1)[-1].split(".", 1)[0] if path.startswith("targets/") else ""
