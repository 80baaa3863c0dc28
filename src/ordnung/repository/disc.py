"""A disc image: ISO 9660 with Rock Ridge (full names) and Joliet (names of at most 64 signs)."""

from __future__ import annotations

import io
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from types import SimpleNamespace
from typing import Any

import pycdlib
import pycdlib.dates
import pycdlib.headervd
import pycdlib.pycdlib

from ordnung.repository.boot import add_loaders, find_boot_system, patch_loaders, read_layout
from ordnung.repository.carriers import Carrier, shorten
from ordnung.store.copying import CHUNK, Progress, sync_file

LABEL = "ORDNUNG"
_lock = threading.Lock()


class _Lazy(io.RawIOBase):
    """A file of a carrier that is opened when the image is written and closed at its end: one open at a time."""

    mode = "rb"

    def __init__(self, carrier: Carrier, path: str) -> None:
        self._carrier, self._path, self._size = carrier, path, carrier.files[path]
        self._file: Any = None
        self._at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = 0) -> int:
        self._at = offset + (0, self._at, self._size)[whence]
        if self._file is not None:
            self._file.close()
            self._file = None
        return self._at

    def read(self, size: int = -1) -> bytes:
        if self._file is None:
            self._file = self._carrier.open(self._path)
            left = self._at
            while left:
                left -= len(self._file.read(min(left, CHUNK)))
        piece: bytes = self._file.read(size)
        self._at += len(piece)
        if self._at >= self._size:
            self._file.close()
            self._file = None
        return piece


@contextmanager
def _standing_clock() -> Iterator[None]:
    """The library stamps everything with the time of day; the same repository must give the same bytes."""
    still = SimpleNamespace(time=lambda: 0.0, localtime=time.gmtime, gmtime=time.gmtime, strptime=time.strptime)
    modules: tuple[Any, ...] = (pycdlib.dates, pycdlib.headervd, pycdlib.pycdlib)
    with _lock:
        kept = [module.time for module in modules]
        for module in modules:
            module.time = still
        try:
            yield
        finally:
            for module, clock in zip(modules, kept, strict=True):
                module.time = clock


def write_disc(carrier: Carrier, place: Path, report: Progress) -> None:
    """Write the image; with a boot system in the repository it boots by itself, as a disc and as a stick.

    Raises OSError, and RepositoryError from the carrier.
    """
    boot = find_boot_system(carrier)
    with _standing_clock():
        iso: Any = pycdlib.PyCdlib()
        iso.new(interchange_level=3, joliet=3, rock_ridge="1.09", vol_ident=LABEL, sys_ident="", app_ident_str=LABEL)
        folders: dict[str, str] = {"": ""}
        plain: dict[str, str] = {}
        for number, path in enumerate(sorted(carrier.files), start=1):
            parent = str(PurePosixPath(path).parent)
            _add_folders(iso, folders, parent)
            name = path.rsplit("/", 1)[-1]
            plain[path] = f"{folders[parent]}/F{number:07d}.;1"
            iso.add_fp(
                _Lazy(carrier, path), carrier.files[path], plain[path],
                rr_name=name, joliet_path=f"/{shorten(path)}", file_mode=0o100444,
            )  # fmt: skip
        if boot is not None:
            add_loaders(iso, carrier, boot, plain[boot.places["efi.img"]])
        written = 0

        def progress(done: int, _total: int) -> None:
            nonlocal written
            report(done - written)
            written = done

        with place.open("wb") as file:
            iso.write_fp(file, blocksize=CHUNK, progress_cb=progress)
            if boot is not None:
                patch_loaders(file, carrier, boot, read_layout(iso, boot, plain, file.seek(0, io.SEEK_END)))
            sync_file(file)
        iso.close()


def _add_folders(iso: Any, folders: dict[str, str], path: str) -> None:
    """A folder and those above it, each once; plain ISO 9660 sees short made-up names."""
    if path in folders or path == ".":
        folders.setdefault(".", "")
        return
    parent, _, name = path.rpartition("/")
    _add_folders(iso, folders, parent)
    folders[path] = f"{folders[parent]}/D{len(folders):07d}"
    iso.add_directory(folders[path], rr_name=name, joliet_path=f"/{path}", file_mode=0o040555)
