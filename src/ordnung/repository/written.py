"""Write a repository out: as a folder, as a tar archive (plain or zstd), as a disc image.

The same repository gives the same bytes. What is half written lies beside its place as ``NAME.part``;
folders and archives are gone on with from there, a disc image is begun anew.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import tarfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, cast

import zstandard

from ordnung.repository.carriers import Carrier
from ordnung.repository.disc import write_disc
from ordnung.store.content import is_sum
from ordnung.store.copying import (
    CHUNK,
    Progress,
    copy_hashed,
    digest_of,
    read_ahead,
    silent,
    sync_file,
    sync_folder,
    write_durably,
)
from ordnung.store.errors import RepositoryError, no_room

SHAPES = {"folder": "", "tar": ".tar", "tar.zst": ".tar.zst", "iso": ".iso"}
"""What a repository can be written out as, and how the file's name ends."""
WORKERS = min(4, os.cpu_count() or 1)
MARK_BYTES = 64 * 1024 * 1024
"""After so many bytes an archive is made durable and its progress noted."""
LEVEL = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class Written:
    """What came out. ``sha256`` is that of the file; empty for a folder, which its seal covers."""

    path: Path
    files: int
    bytes: int
    sha256: str = ""


def write_as(shape: str, carrier: Carrier, place: Path, report: Progress = silent) -> Written:
    """Write a repository out in one of ``SHAPES`` to ``place``; what was there is replaced.

    ``place`` appears whole or not at all.

    Raises:
        RepositoryError: the disk is full, or what is to be written is not what the seal says.
        OSError: the place can't be written to.
    """
    place.parent.mkdir(parents=True, exist_ok=True)
    try:
        if shape == "folder":
            return _write_folder(carrier, place, report)
        if shape == "iso":
            write_disc(carrier, part_of(place), report)
            return _done(part_of(place), place, carrier, digest_of(part_of(place)))
        return _write_tar(carrier, place, report, packed=shape == "tar.zst")
    except OSError as error:
        raise no_room(error, place.name) or error from None


def part_of(place: Path) -> Path:
    """Where the half-written thing lies."""
    return place.with_name(place.name + ".part")


def in_order(carrier: Carrier) -> list[str]:
    """Metadata first: a reader knows what to expect before the payloads come."""
    return sorted(carrier.files, key=lambda path: (not path.startswith("metadata/"), path))


def _done(part: Path, place: Path, carrier: Carrier, sha256: str) -> Written:
    part.replace(place)
    sync_folder(place.parent)
    return Written(path=place, files=len(carrier.files), bytes=place.stat().st_size, sha256=sha256)


def _write_folder(carrier: Carrier, place: Path, report: Progress) -> Written:
    part = part_of(place)
    for folder in {(part / path).parent for path in carrier.files}:
        folder.mkdir(parents=True, exist_ok=True)
    _drop_strangers(part, carrier)
    with ThreadPoolExecutor(WORKERS) as pool:
        jobs = [pool.submit(_write_one, carrier, path, part / path, report) for path in in_order(carrier)]
        for job in jobs:
            job.result()
    for folder in {(part / path).parent for path in carrier.files}:
        sync_folder(folder)
    if place.exists():
        _remove(place)
    part.replace(place)
    sync_folder(place.parent)
    return Written(path=place, files=len(carrier.files), bytes=sum(carrier.files.values()))


def _drop_strangers(part: Path, carrier: Carrier) -> None:
    """What lies in a half-written folder and doesn't belong to this repository."""
    for path in part.rglob("*"):
        if path.is_symlink() or (path.is_file() and path.relative_to(part).as_posix() not in carrier.files):
            path.unlink()


def _remove(place: Path) -> None:
    """A repository that is replaced; anything else at its place is left alone."""
    if not (place / "metadata").is_dir():
        raise RepositoryError("foreign", place.name, "something else lies there; it is left alone")
    for path in sorted(place.rglob("*"), reverse=True):
        path.rmdir() if path.is_dir() and not path.is_symlink() else path.unlink()
    place.rmdir()


def _expected(path: str) -> str | None:
    """The checksum in a target's name, or None for metadata."""
    stem = path.rsplit("/", 1)[-1].split(".", 1)[0]
    return stem if path.startswith("targets/") and is_sum(stem) else None


def _write_one(carrier: Carrier, path: str, place: Path, report: Progress) -> None:
    expected, size = _expected(path), carrier.files[path]
    if expected and place.is_file() and place.stat().st_size == size and digest_of(place) == expected:
        report(size)
        return
    with carrier.open(path) as source, place.open("wb", buffering=0) as target:
        found, _ = copy_hashed(source, target, report)
        sync_file(target)
    _refuse_altered(path, found, expected)


def _refuse_altered(path: str, found: str, expected: str | None) -> None:
    if expected is not None and found != expected:
        raise RepositoryError("altered", path, "the stored payload was altered; nothing was written out")


# Archives.


class _Hashed(io.RawIOBase):
    """A file that is hashed while it is written."""

    def __init__(self, file: BinaryIO) -> None:
        self.file, self.digest = file, hashlib.sha256()

    def writable(self) -> bool:
        return True

    def write(self, piece: bytes | memoryview) -> int:  # type: ignore[override]
        self.digest.update(piece)
        self.file.write(piece)
        return len(piece)


def _write_tar(carrier: Carrier, place: Path, report: Progress, *, packed: bool) -> Written:
    part, note = part_of(place), place.with_name(place.name + ".part.json")
    names = in_order(carrier)
    key = hashlib.sha256(json.dumps([packed, LEVEL, [[n, carrier.files[n]] for n in names]]).encode()).hexdigest()
    done, at = _begun(note, part, key)
    with part.open("r+b" if done else "w+b") as file:
        file.truncate(at)
        out = _Hashed(file)
        while piece := file.read(CHUNK):
            out.digest.update(piece)
        report(sum(carrier.files[name] for name in names[:done]))
        marked = at
        for count, name in enumerate(names[done:], start=done + 1):
            _add_member(carrier, name, out, report, packed=packed)
            if file.tell() - marked >= MARK_BYTES:
                sync_file(file)
                marked = file.tell()
                write_durably(note, json.dumps({"key": key, "done": count, "at": marked}).encode())
        _append(out, iter((bytes(1024),)), packed=packed)
        sync_file(file)
    written = _done(part, place, carrier, out.digest.hexdigest())
    note.unlink(missing_ok=True)
    return written


def _begun(note: Path, part: Path, key: str) -> tuple[int, int]:
    """How many members of this very archive are written already, and how many bytes they take."""
    with suppress(OSError, ValueError, KeyError, TypeError):
        begun = json.loads(note.read_bytes())
        if begun["key"] == key and part.stat().st_size >= begun["at"]:
            return int(begun["done"]), int(begun["at"])
    return 0, 0


def _add_member(carrier: Carrier, name: str, out: _Hashed, report: Progress, *, packed: bool) -> None:
    info = tarfile.TarInfo(name)
    info.size, info.mode, info.mtime = carrier.files[name], 0o644, 0
    expected, found = _expected(name), hashlib.sha256()

    def pieces() -> Iterator[bytes]:
        yield info.tobuf(tarfile.PAX_FORMAT)
        with carrier.open(name) as file:
            while piece := file.read(CHUNK):
                found.update(piece)
                report(len(piece))
                yield piece
        yield bytes(-info.size % tarfile.BLOCKSIZE)

    _append(out, read_ahead(pieces()), packed=packed)
    _refuse_altered(name, found.hexdigest(), expected)


def _append(out: _Hashed, pieces: Iterator[bytes], *, packed: bool) -> None:
    """Write pieces on; compressed they are one frame, so that an archive can be gone on with between members."""
    if not packed:
        for piece in pieces:
            out.write(piece)
        return
    with zstandard.ZstdCompressor(level=LEVEL).stream_writer(cast(BinaryIO, out), closefd=False) as writer:
        for piece in pieces:
            writer.write(piece)
