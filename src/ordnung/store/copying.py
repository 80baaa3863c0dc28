"""Copy and hash in one pass, with flat memory."""

from __future__ import annotations

import contextlib
import hashlib
import os
import queue
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

CHUNK = 1024 * 1024
Progress = Callable[[int], None]
"""Called with the bytes that have just gone by; may raise to break off."""


def silent(_: int) -> None:
    """Tells nobody."""


def copy_hashed(source: BinaryIO, target: BinaryIO | None, report: Progress = silent) -> tuple[str, int]:
    """Read to the end, write what is read (unless ``target`` is None), and return its SHA-256 and its length.

    Memory stays flat: one buffer of ``CHUNK`` bytes.
    """
    digest, size, buffer = hashlib.sha256(), 0, bytearray(CHUNK)
    view = memoryview(buffer)
    while count := source.readinto(buffer):  # type: ignore[attr-defined]
        digest.update(view[:count])
        if target is not None:
            _write_all(target, view[:count])
        size += count
        report(count)
    return digest.hexdigest(), size


AHEAD = 4
"""So many pieces are read while one is being written."""


def read_ahead(pieces: Iterator[bytes]) -> Iterator[bytes]:
    """The same pieces, read and hashed in a thread of their own while the ones before are written."""
    line: queue.Queue[bytes | BaseException | None] = queue.Queue(AHEAD)
    given_up = threading.Event()

    def read() -> None:
        last: BaseException | None = None
        try:
            for piece in pieces:
                if given_up.is_set():
                    return
                line.put(piece)
        except BaseException as error:
            last = error
        line.put(last)

    reader = threading.Thread(target=read, daemon=True)
    reader.start()
    try:
        while isinstance(piece := line.get(), bytes):
            yield piece
        if piece is not None:
            raise piece
    finally:
        given_up.set()
        while reader.is_alive():
            with contextlib.suppress(queue.Empty):
                line.get(timeout=0.05)


def _write_all(target: BinaryIO, piece: memoryview) -> None:
    """Write all of a piece: an unbuffered file takes less than it is given when the disk is filling up."""
    while piece:
        piece = piece[target.write(piece) :]


def digest_of(path: Path, report: Progress = silent) -> str:
    """The SHA-256 of a file in hex, read in pieces."""
    with path.open("rb", buffering=0) as file:
        return copy_hashed(file, None, report)[0]


def sync_file(file: BinaryIO) -> None:
    """Make what was written to an open file durable."""
    file.flush()
    os.fsync(file.fileno())


def sync_folder(folder: Path) -> None:
    """Make renames in a folder durable."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def write_durably(path: Path, raw: bytes, mode: int = 0o644) -> None:
    """Write a small file whole or not at all: temporary file, fsync, rename, fsync of the folder."""
    path.parent.mkdir(parents=True, exist_ok=True)
    draft = path.with_name(f".{path.name}.{os.getpid()}.tmp")
    with draft.open("wb") as file:
        os.fchmod(file.fileno(), mode)
        file.write(raw)
        sync_file(file)
    draft.replace(path)
    sync_folder(path.parent)
