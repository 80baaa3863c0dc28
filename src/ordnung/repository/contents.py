"""Where each file lies in an archive or a disc image that strangers wrote; nothing in it is trusted.

Listing is the part that libraries do and that a file can make run wild: it is a plain function of a path, so that a
server can have it done apart. Names are checked here, once: relative, without ``..``, regular files only, each once.
"""

from __future__ import annotations

import re
import tarfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import pycdlib

from ordnung.repository.tar_headers import BoundedTarInfo
from ordnung.store.errors import RepositoryError

MAX_FILES = 100_000
MAX_MEMBERS = 2 * MAX_FILES
"""Folders too are entries of an archive."""
_PART = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._+~-]*")
_LINK = "it is a link or no file at all; nothing was read"

LOADERS = (".disk/info", "boot/bios.img", "boot/boot.cat", "boot/grub/grub.cfg")
"""What lies on a disc that boots by itself outside its seal (``ordnung.repository.boot``)."""

Extents = tuple[tuple[int, int], ...]
"""Where the pieces of a file begin and how many bytes each has, in their order."""
Contents = dict[str, Extents]
Lister = Callable[[Path, str], Contents]
"""Lists the file at a path; the name is what people call it. Raises RepositoryError."""


def check_name(path: str) -> str:
    """A path as it may stand in a repository. Raises RepositoryError (escape)."""
    parts = path.split("/")
    if len(path) > 500 or not all(_PART.fullmatch(part) for part in parts):
        raise RepositoryError("escape", path[:200], "this name could lead out of the repository; nothing was read")
    return path


def list_tar(path: Path, name: str) -> Contents:
    """What is in a plain tar archive; a folder that somebody packed around the repository is left out.

    Raises:
        RepositoryError: it is cut short, has too many entries, a name twice, or one that leads elsewhere.
    """
    found: Contents = {}
    size = path.stat().st_size
    try:
        with tarfile.open(path, "r:", tarinfo=BoundedTarInfo) as archive:
            for number, member in enumerate(archive):
                if number >= MAX_MEMBERS:
                    raise RepositoryError("broken", name, f"more than {MAX_MEMBERS} entries are in it")
                archive.members = []  # type: ignore[attr-defined]  # else all that was read stays in memory
                if not member.isdir():
                    _take_member(found, member, size)
                    _demand_few(found, name)
    except (tarfile.TarError, EOFError, ValueError) as error:
        raise RepositoryError("cut short", name, f"the archive can't be read to its end ({error})") from None
    if size < 1024 or not _ends_well(path, size):
        raise RepositoryError("cut short", name, "the archive has no end: it was cut short")
    top = _folder_around(found)
    return {file.removeprefix(top): extents for file, extents in found.items() if file.startswith(top)}


def _take_member(found: Contents, member: tarfile.TarInfo, size: int) -> None:
    name = check_name(member.name.removeprefix("./"))
    if not member.isreg():
        raise RepositoryError("escape", name, _LINK)
    if name in found:
        raise RepositoryError("broken", name, "it is in the archive twice")
    if member.size < 0 or member.offset_data + member.size > size:
        raise RepositoryError("cut short", name, f"it says {member.size} bytes, the archive ends before")
    found[name] = ((member.offset_data, member.size),)


def _demand_few(found: Contents, name: str) -> None:
    if len(found) > MAX_FILES:
        raise RepositoryError("broken", name, f"more than {MAX_FILES} files are in it")


def _ends_well(path: Path, size: int) -> bool:
    """Whether the archive ends with its two blocks of zeros."""
    with path.open("rb") as file:
        file.seek(size - 1024)
        return not any(file.read(1024))


def _folder_around(paths: Iterable[str]) -> str:
    """The folder that all of a repository lies in, with its slash; empty when it lies where it should."""
    first = {path.partition("/")[0] for path in paths if path.endswith("metadata/1.root.json")}
    return f"{first.pop()}/" if len(first) == 1 and first != {"metadata"} else ""


def list_disc(path: Path, name: str) -> Contents:
    """What is on an ISO 9660 image with Rock Ridge names.

    Raises:
        RepositoryError: it is cut short, has no such names, too many files, or a name that leads elsewhere.
    """
    disc = pycdlib.PyCdlib()
    try:
        disc.open(str(path))
        try:
            if not disc.has_rock_ridge():
                raise RepositoryError("broken", name, "this disc image has no Rock Ridge names")
            return dict(_walk_disc(disc, name, path.stat().st_size))
        finally:
            disc.close()
    except RepositoryError:
        raise
    except Exception as error:  # the library lets errors of every family out of an image that is none
        raise RepositoryError("broken", name, f"the disc image can't be read: cut short or altered ({error})") from None


def _walk_disc(disc: pycdlib.PyCdlib, name: str, size: int) -> Iterator[tuple[str, Extents]]:
    count = 0
    for folder, _, names in disc.walk(rr_path="/"):
        for each in names:
            count += 1
            if count > MAX_FILES:
                raise RepositoryError("broken", name, f"more than {MAX_FILES} files are in it")
            path = f"{folder}/{each}".strip("/").replace("//", "/")
            if path not in LOADERS:
                check_name(path)
            record: Any = disc.get_record(rr_path=f"/{path}")
            if not record.is_file() or (record.rock_ridge and record.rock_ridge.is_symlink()):
                raise RepositoryError("escape", path, _LINK)
            yield path, tuple(_extents_of(record, path, size))


def _extents_of(record: Any, path: str, size: int) -> Iterator[tuple[int, int]]:
    """The pieces of a file: more than one from 4 GiB on (ISO 9660, 6.4.1 and 9.1.6, multi-extent)."""
    while record is not None:
        start, length = record.extent_location() * 2048, record.get_data_length()
        if length < 0 or start + length > size:
            raise RepositoryError("cut short", path, f"it says {length} bytes, the image ends before")
        yield start, length
        record = record.data_continuation
