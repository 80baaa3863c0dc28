"""A small sealed repository, made without a network: what the tests write out, attack and carry in."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Mapping, Sequence
from pathlib import Path

from tuf.api.metadata import DelegatedRole, Delegations

from ordnung.formats.packing import PackedPayload, PackingList, write_packing
from ordnung.repository import Content, SealBook, SealedCarrier, describe, draft_targets, finish, write_as

NOW = datetime.datetime.now(datetime.UTC).replace(microsecond=0)
SERIES = "5" * 32
PAYLOADS = {
    "payloads/corvane.reed14.bios/bios-3.2.0.pldm": b"bios three" * 400,
    "payloads/corvane.reed14.bios/bios-2.4.1.pldm": b"bios two" * 400,
    "payloads/tessaly.r9/raid-7.18.0.pldm": b"raid" * 9000,
}


def open_book(folder: Path, now: datetime.datetime = NOW) -> SealBook:
    return SealBook(folder / "keys", b"secret", now)


def packing_of(files: Mapping[str, bytes], edition: int, media: int = 1, **more) -> PackingList:
    payloads = tuple(
        PackedPayload(
            product=path.split("/")[1], name=path.split("/")[1], kind="bios", version=path.rsplit("-", 1)[-1],
            path=path, sha256=hashlib.sha256(raw).hexdigest(), size=len(raw), reasons=("target",), servers=("surge-01",),
            medium=number % media + 1,
        )
        for number, (path, raw) in enumerate(sorted(files.items()))
    )  # fmt: skip
    told = {"name": "Hill annex", "series": SERIES, "made_at": NOW, "made_by": "technician", "revision": 2, **more}
    return PackingList(edition=edition, servers=("surge-01",), payloads=payloads, media=media, **told)


def contents_of(folder: Path, files: Mapping[str, bytes], edition: int = 1, media: int = 1, **more) -> list[Content]:
    """Files on disk as they are sealed, the packing list among them."""
    place = folder / f"contents-{edition}"
    every = {**files, "packing.json": write_packing(packing_of(files, edition, media, **more))}
    found = []
    for path, raw in every.items():
        source = place / path
        source.parent.mkdir(parents=True, exist_ok=True)
        source.write_bytes(raw)
        found.append(describe(path, source))
    return found


def seal(
    folder: Path,
    book: SealBook,
    files: Mapping[str, bytes] = PAYLOADS,
    edition: int = 1,
    days: float = 30,
    media: int = 1,
    **more,
) -> SealedCarrier:
    contents = contents_of(folder, files, edition, media, **more)
    targets = draft_targets(contents, book, edition, NOW + datetime.timedelta(days=days))
    return SealedCarrier("Hill annex", finish(targets, book), {c.path: c for c in contents})


def seal_files(
    folder: Path, book: SealBook, files: Mapping[str, Path], days: float = 30, delegated: Sequence[str] = ()
) -> None:
    """A sealed folder of nothing but these files; ``delegated`` roles are named and nowhere to be found."""
    contents = [describe(name, path) for name, path in files.items()]
    targets = draft_targets(contents, book, 1, NOW + datetime.timedelta(days=days))
    if delegated:
        keys = [holder.keyid for holder in book.holders("targets")]
        roles = {name: DelegatedRole(name, keys, 1, False, paths=["*"]) for name in delegated}
        targets.signed.delegations = Delegations(dict(book.root.signed.keys), roles)
        for signer in book.signers("targets"):
            targets.sign(signer)
    write_as("folder", SealedCarrier("catalogs", finish(targets, book), {c.path: c for c in contents}), folder)
