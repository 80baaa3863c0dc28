"""What carries a repository: a folder, an archive, a disc image, or the site's own store.

A carrier gives file names with sizes and opens files; nothing on it is trusted. Names are checked
once, here: relative, without ``..``, regular files only, each once.
"""

from __future__ import annotations

import io
import re
import shutil
import stat
import tarfile
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO, Protocol, cast

import pycdlib
import zstandard

from ordnung.repository.copying import CHUNK
from ordnung.repository.errors import RepositoryError, no_room
from ordnung.repository.seal import Content, prefixed
from ordnung.repository.tar_headers import BoundedTarInfo

MAX_FILES = 100_000
MAX_MEMBERS = 2 * MAX_FILES
"""Folders too are entries of an archive."""
MAX_RATIO = 2000
"""So many times its size may a compressed archive grow (zeros grow about 10,000 times: a bomb)."""
SMALL = 1024 * 1024 * 1024
"""An archive may always grow to this, however small it is."""
LEFT_FREE = 256 * 1024 * 1024
"""What unpacking leaves of the disk: the site goes on meanwhile."""
JOLIET = 64
_PART = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._+~-]*")
_ZSTD, _ISO_AT, _TAR_AT = b"\x28\xb5\x2f\xfd", 16 * 2048 + 1, 257


class Carrier(Protocol):
    """Files by name."""

    @property
    def name(self) -> str:
        """What people call it."""
        ...

    @property
    def files(self) -> Mapping[str, int]:
        """Path and size of every file on it."""
        ...

    @property
    def is_shared(self) -> bool:
        """Whether several files may be read at once."""
        ...

    def open(self, path: str) -> BinaryIO:
        """A file for reading, to be closed. Raises RepositoryError when it can't be read."""
        ...


def check_name(path: str) -> str:
    """A path as it may stand in a repository. Raises RepositoryError (escape)."""
    parts = path.split("/")
    if len(path) > 500 or not all(_PART.fullmatch(part) for part in parts):
        raise RepositoryError("escape", path[:200], "this name could lead out of the repository; nothing was read")
    return path


def folder_around(paths: Iterable[str]) -> str:
    """The folder that all of a repository lies in, with its slash; empty when it lies where it should."""
    first = {path.partition("/")[0] for path in paths if path.endswith("metadata/1.root.json")}
    return f"{first.pop()}/" if len(first) == 1 and first != {"metadata"} else ""


class FolderCarrier:
    """A folder, also a mounted disc whose long names the system shows shortened (Joliet).

    Only ``metadata/`` and ``targets/`` are looked at: sticks carry all kinds of other files.
    """

    is_shared = True

    def __init__(self, folder: Path) -> None:
        inside = [path for path in folder.glob("*/metadata/1.root.json") if not (folder / "metadata").exists()]
        folder = inside[0].parents[1] if len(inside) == 1 else folder
        self.name, self.folder = folder.name, folder
        self.files: dict[str, int] = {}
        self._real: dict[str, Path] = {}
        for path in sorted(p for top in ("metadata", "targets") for p in (folder / top).rglob("*")):
            if path.is_dir() and not path.is_symlink():
                continue
            name = check_name(path.relative_to(folder).as_posix())
            if not stat.S_ISREG(path.lstat().st_mode):
                raise RepositoryError("escape", name, "it is a link or no file at all; nothing was read")
            if len(self.files) >= MAX_FILES:
                raise RepositoryError("broken", str(folder), f"more than {MAX_FILES} files lie there")
            self.files[name], self._real[name] = path.stat().st_size, path

    def rename_shortened(self, names: Iterable[str]) -> None:
        """Give files whose names were shortened their own again; ``names`` are those to be expected."""
        for name in names:
            short = shorten(name)
            if name not in self.files and short in self.files:
                self.files[name], self._real[name] = self.files.pop(short), self._real.pop(short)

    def open(self, path: str) -> BinaryIO:
        """A file for reading."""
        return self._real[path].open("rb", buffering=0)


def shorten(path: str) -> str:
    """A path whose last part has at most 64 signs, as Joliet allows: the begin of the checksum, the end of the name."""
    folder, _, name = path.rpartition("/")
    if len(name) > JOLIET:
        name = f"{name[:16]}~{name[64:][-(JOLIET - 17) :]}"
    return f"{folder}/{name}" if folder else name


class TarCarrier:
    """A tar archive, plain; members are read where they lie."""

    is_shared = True

    def __init__(self, path: Path, name: str) -> None:
        self.name, self._path = name, path
        self._at: dict[str, int] = {}
        self.files: dict[str, int] = {}
        size = path.stat().st_size
        try:
            with tarfile.open(path, "r:", tarinfo=BoundedTarInfo) as archive:
                for number, member in enumerate(archive):
                    if number >= MAX_MEMBERS:
                        raise RepositoryError("broken", name, f"more than {MAX_MEMBERS} entries are in it")
                    archive.members = []  # type: ignore[attr-defined]  # else all that was read stays in memory
                    self._take(member, size)
        except (tarfile.TarError, EOFError, ValueError) as error:
            raise RepositoryError("cut short", name, f"the archive can't be read to its end ({error})") from None
        if size < 1024 or not _ends_well(path, size):
            raise RepositoryError("cut short", name, "the archive has no end: it was cut short")
        self._unwrap()

    def _unwrap(self) -> None:
        """Leave out a folder that somebody packed around the repository."""
        top = folder_around(self.files)
        self.files = {path.removeprefix(top): size for path, size in self.files.items() if path.startswith(top)}
        self._at = {path.removeprefix(top): at for path, at in self._at.items() if path.startswith(top)}

    def _take(self, member: tarfile.TarInfo, size: int) -> None:
        if member.isdir():
            return
        name = check_name(member.name.removeprefix("./"))
        if not member.isreg():
            raise RepositoryError("escape", name, "it is a link or no file at all; nothing was read")
        if name in self.files:
            raise RepositoryError("broken", name, "it is in the archive twice")
        if member.size < 0 or member.offset_data + member.size > size:
            message = f"it says {member.size} bytes, the archive ends before"
            raise RepositoryError("cut short", name, message)
        if len(self.files) >= MAX_FILES:
            raise RepositoryError("broken", self.name, f"more than {MAX_FILES} files are in it")
        self._at[name], self.files[name] = member.offset_data, member.size

    def open(self, path: str) -> BinaryIO:
        """A file for reading."""
        return cast(BinaryIO, _Slice(self._path, self._at[path], self.files[path]))


def _ends_well(path: Path, size: int) -> bool:
    """Whether the archive ends with its two blocks of zeros."""
    with path.open("rb") as file:
        file.seek(size - 1024)
        return not any(file.read(1024))


class _Slice(io.RawIOBase):
    """A part of a file."""

    def __init__(self, path: Path, start: int, size: int) -> None:
        self._file = path.open("rb", buffering=0)
        self._file.seek(start)
        self._left = size

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        view = memoryview(buffer)[: self._left]
        count = self._file.readinto(view) or 0
        self._left -= count
        return count

    def close(self) -> None:
        self._file.close()
        super().close()


class IsoCarrier:
    """An ISO 9660 image with Rock Ridge names."""

    is_shared = False

    def __init__(self, path: Path, name: str) -> None:
        self.name, self._iso = name, pycdlib.PyCdlib()
        self.files: dict[str, int] = {}
        try:
            self._iso.open(str(path))
            if not self._iso.has_rock_ridge():
                raise RepositoryError("broken", name, "this disc image has no Rock Ridge names")
            self._walk(path.stat().st_size)
        except RepositoryError:
            raise
        except Exception as error:  # the library lets errors of every family out of an image that is none
            raise RepositoryError(
                "broken", name, f"the disc image can't be read: cut short or altered ({error})"
            ) from None

    def _walk(self, size: int) -> None:
        for folder, _, names in self._iso.walk(rr_path="/"):
            for each in names:
                path = check_name(f"{folder}/{each}".strip("/").replace("//", "/"))
                record: Any = self._iso.get_record(rr_path=f"/{path}")
                if not record.is_file() or (record.rock_ridge and record.rock_ridge.is_symlink()):
                    raise RepositoryError("escape", path, "it is a link or no file at all; nothing was read")
                length = record.get_data_length()
                if length < 0 or record.extent_location() * 2048 + length > size:
                    raise RepositoryError("cut short", path, f"it says {length} bytes, the image ends before")
                self.files[path] = length

    def open(self, path: str) -> BinaryIO:
        """A file for reading."""
        return cast(BinaryIO, _FromIso(self._iso, path))

    def close(self) -> None:
        """Let the image go."""
        self._iso.close()


class _FromIso(io.RawIOBase):
    def __init__(self, iso: pycdlib.PyCdlib, path: str) -> None:
        self._context: Any = cast(Any, iso).open_file_from_iso(rr_path=f"/{path}")
        self._file = self._context.__enter__()

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        piece = self._file.read(len(buffer))
        buffer[: len(piece)] = piece
        return len(piece)

    def close(self) -> None:
        if not self.closed:
            self._context.__exit__(None, None, None)
        super().close()


class SealedCarrier:
    """A sealed repository that is nowhere as a whole: its metadata, and its contents where they lie."""

    is_shared = True

    def __init__(self, name: str, metadata: Mapping[str, bytes], contents: Mapping[str, Content]) -> None:
        """``contents`` by target path."""
        self.name, self.contents = name, contents
        self._small = {f"metadata/{file}": raw for file, raw in metadata.items()}
        self._large = {f"targets/{prefixed(c.path, c.sha256)}": c for c in contents.values()}
        self.files = {path: len(raw) for path, raw in self._small.items()}
        self.files |= {path: content.size for path, content in self._large.items()}

    def open(self, path: str) -> BinaryIO:
        """A file for reading."""
        if path in self._small:
            return io.BytesIO(self._small[path])
        content = self._large[path]
        try:
            return content.source.open("rb", buffering=0)
        except FileNotFoundError:
            raise RepositoryError("missing", path, "its payload is not in the store any more") from None


class PartCarrier:
    """Some files of another carrier: one medium of several, or only what has changed."""

    def __init__(self, whole: Carrier, keep: Callable[[str], bool]) -> None:
        self.name, self.is_shared, self._whole = whole.name, whole.is_shared, whole
        self.files = {path: size for path, size in whole.files.items() if keep(path)}

    def open(self, path: str) -> BinaryIO:
        """A file for reading."""
        return self._whole.open(path)


@contextmanager
def open_carrier(path: Path, scratch: Path | None = None, small: int = SMALL) -> Iterator[Carrier]:
    """A folder, an archive (plain or zstd) or a disc image, told apart by its first bytes.

    A compressed archive is unpacked to ``scratch`` first and thrown away at the end.

    Raises:
        RepositoryError: it is none of these, is cut short, or names something outside itself.
    """
    if path.is_dir():
        yield FolderCarrier(path)
        return
    with path.open("rb") as file:
        start = file.read(4)
        file.seek(_TAR_AT)
        is_tar = file.read(5) == b"ustar"
        file.seek(_ISO_AT)
        is_iso = file.read(5) == b"CD001"
    if start == _ZSTD:
        with tempfile.TemporaryDirectory(prefix="unpacked-", dir=scratch) as folder:
            plain = Path(folder) / PurePosixPath(path.name).stem
            _unpack(path, plain, small)
            yield TarCarrier(plain, path.name)
    elif is_iso:
        image = IsoCarrier(path, path.name)
        try:
            yield image
        finally:
            image.close()
    elif is_tar:
        yield TarCarrier(path, path.name)
    else:
        raise RepositoryError("broken", path.name, _tell_packing(start))


_OTHERS = {b"\x1f\x8b": "gzip", b"\xfd7zX": "xz", b"PK\x03\x04": "zip", b"BZh": "bzip2", b"7z\xbc\xaf": "7-zip"}


def _tell_packing(start: bytes) -> str:
    """What to do with a file that is no carrier."""
    packing = next((name for mark, name in _OTHERS.items() if start.startswith(mark)), None)
    if packing is not None:
        return f"it is packed with {packing}; unpack it and bring the folder, or a .tar, .tar.zst or .iso"
    return "neither a folder nor a tar archive nor a disc image of a repository"


def _unpack(packed: Path, plain: Path, small: int) -> None:
    limit = max(small, packed.stat().st_size * MAX_RATIO)
    size = 0
    try:
        free = shutil.disk_usage(plain.parent).free - LEFT_FREE
        with packed.open("rb") as source, plain.open("wb") as target:
            engine = zstandard.ZstdDecompressor(max_window_size=2**27)
            reader = engine.stream_reader(source, read_size=CHUNK, read_across_frames=True)
            while piece := reader.read(CHUNK):
                size += len(piece)
                if size > limit:
                    raise RepositoryError("broken", packed.name, "it grows without end when unpacked; left alone")
                if size > free:
                    message = f"it is larger than the {max(free, 0)} bytes there is room for to unpack it"
                    raise RepositoryError("no room", packed.name, message)
                target.write(piece)
    except zstandard.ZstdError as error:
        raise RepositoryError("cut short", packed.name, f"the archive can't be unpacked ({error})") from None
    except OSError as error:
        raise no_room(error, packed.name) or error from None
