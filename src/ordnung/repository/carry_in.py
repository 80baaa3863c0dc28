"""Carry a repository in at a site without network: verified first, then only what is not there yet is stored."""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import dataclass

from ordnung.formats.errors import FormatError
from ordnung.formats.packing import PackingList, parse_packing
from ordnung.repository.carriers import Carrier, FolderCarrier
from ordnung.repository.check import Seal, check_carrier, verify_seal
from ordnung.store.content import ContentStore
from ordnung.store.copying import Progress, copy_hashed, silent
from ordnung.store.errors import RepositoryError

PACKING = "packing.json"
MAX_DOCUMENT = 64 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class Seen:
    """What is known here of a series: the edition carried in last, and the checksum of its packing list."""

    edition: int
    packing: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Arrived:
    """What is on a carrier, its seal verified: not stored yet, and no payload looked at."""

    seal: Seal
    packing: PackingList

    @property
    def packing_sum(self) -> str:
        """The checksum of the packing list: tells two repositories of one edition apart."""
        return str(self.seal.targets[PACKING].hashes["sha256"])

    @property
    def sums(self) -> dict[str, str]:
        """The checksum of every target."""
        return {name: str(info.hashes["sha256"]) for name, info in self.seal.targets.items()}


@dataclass(frozen=True, slots=True, kw_only=True)
class CarriedIn:
    """What was stored. ``waiting`` are targets on media that have not been brought yet."""

    arrived: Arrived
    new_files: int
    new_bytes: int
    known_files: int
    waiting: tuple[str, ...]
    documents: Mapping[str, bytes]
    """Catalogs, advisories and rules by target path."""
    metadata: Mapping[str, bytes]


def look_at(carrier: Carrier, root: bytes | None, *, allow_expired: bool = False) -> Arrived:
    """Verify a carrier's seal and read its packing list.

    Raises:
        RepositoryError: as ``verify_seal``; the packing list is missing, altered, or of another edition.
    """
    seal = verify_seal(carrier, root, allow_expired=allow_expired)
    if PACKING not in seal.targets:
        raise RepositoryError("missing", PACKING, "the seal covers no packing list: this is none of Ordnung's")
    raw = read_document(carrier, seal, PACKING)
    try:
        packing = parse_packing(raw)
    except FormatError as error:
        raise RepositoryError("broken", PACKING, str(error)) from None
    if packing.edition != seal.edition:
        message = f"the packing list is of edition {packing.edition}, the seal of edition {seal.edition}"
        raise RepositoryError("mixed", PACKING, message)
    return Arrived(seal=seal, packing=packing)


def refuse_older(arrived: Arrived, seen: Seen | None) -> None:
    """Refuse an older edition, and another repository passed off as the same edition. Raises RepositoryError."""
    if seen is None:
        return
    edition, name = arrived.packing.edition, arrived.packing.name
    if edition < seen.edition:
        message = f"{name} is here in edition {seen.edition}; this is edition {edition}, which is older"
        raise RepositoryError("older", "metadata/timestamp.json", message)
    if edition == seen.edition and arrived.packing_sum != seen.packing:
        message = f"edition {edition} of {name} is here with another packing list: two were sealed under one number"
        raise RepositoryError("mixed", PACKING, message)


def carry_in(
    carrier: Carrier, arrived: Arrived, store: ContentStore, owner: str, report: Progress = silent
) -> CarriedIn:
    """Verify every file on the carrier, then store what the store lacks, held by ``owner``.

    Killed at any moment, the store is as it was but for whole payloads, and may be carried into again.

    Raises:
        RepositoryError: a file is altered, cut short or missing (nothing was stored then), or the
            disk is full.
    """
    seal, packing = arrived.seal, arrived.packing
    elsewhere = {p.path for p in packing.payloads} if packing.media > 1 else set[str]()
    check_carrier(
        carrier, seal=seal, report=report, may_lack=lambda name, sha256: name in elsewhere or store.has(sha256)
    )  # fmt: skip
    sums = arrived.sums
    here = [name for name in sums if seal.place(name) in carrier.files]
    fresh = [name for name in here if not store.has(sums[name])]
    size = sum(seal.targets[name].length for name in fresh)
    store.want_room(size, carrier.name)
    store.hold(owner, sums.values())
    for name in fresh:
        with carrier.open(seal.place(name)) as file:
            store.take_in(file, sums[name], name, report)
    waiting = tuple(name for name in sums if not store.has(sums[name]))
    small = [c.path for c in packing.catalogs] + list(packing.advisories) + ([packing.rules] if packing.rules else [])
    return CarriedIn(
        arrived=arrived,
        new_files=len(fresh),
        new_bytes=size,
        known_files=len(sums) - len(fresh) - len(waiting),
        waiting=waiting,
        documents={name: _stored(store, sums, name) for name in small},
        metadata=read_metadata(carrier, seal),
    )


def _stored(store: ContentStore, sums: Mapping[str, str], name: str) -> bytes:
    if name not in sums:
        raise RepositoryError("missing", name, "the packing list names it, the seal doesn't")
    return store.path(sums[name]).read_bytes()


def read_metadata(carrier: Carrier, seal: Seal) -> dict[str, bytes]:
    """The metadata of a verified seal by file name."""
    found = {}
    for name in seal.metadata:
        if f"metadata/{name}" not in carrier.files:
            continue  # a root that is known here and is newer than what was sealed
        with carrier.open(f"metadata/{name}") as file:
            found[name] = file.read(MAX_DOCUMENT)
    return found


def read_document(carrier: Carrier, seal: Seal, name: str) -> bytes:
    """A small target, verified.

    Raises:
        RepositoryError: it is missing, too large, or not what the seal says.
    """
    place = seal.place(name)
    if isinstance(carrier, FolderCarrier):
        carrier.rename_shortened([place])
    info = seal.targets[name]
    if place not in carrier.files:
        raise RepositoryError("missing", place, "it is missing")
    if max(info.length, carrier.files[place]) > MAX_DOCUMENT:
        raise RepositoryError("broken", place, f"larger than {MAX_DOCUMENT // 2**20} MiB")
    kept = io.BytesIO()
    with carrier.open(place) as file:
        found, size = copy_hashed(file, kept)
    if size != info.length or found != info.hashes["sha256"]:
        raise RepositoryError("altered", place, "it is not what the seal says: altered or cut short")
    return kept.getvalue()
