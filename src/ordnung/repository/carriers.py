"""What carries a repository: a folder, an archive, a disc image, or the site's own store.

A carrier gives file names with sizes and opens files; nothing on it is trusted.
"""

from __future__ import annotations

import io
import shutil
import stat
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import BinaryIO, Protocol, cast

import zstandard

from ordnung.repository.contents import MAX_FILES, Contents, Extents, Lister, check_name, list_disc, list_tar
from ordnung.repository.seal import Content, prefixed
from ordnung.store.copying import CHUNK
from ordnung.store.errors import RepositoryError, no_room

MAX_RATIO = 2000
"""So many times its size may a compressed archive grow (zeros grow about 10,000 times: a bomb)."""
SMALL = 1024 * 1024 * 1024
"""An archive may always grow to this, however small it is."""
LEFT_FREE = 256 * 1024 * 1024
"""What unpacking leaves of the disk: the site goes on meanwhile."""
JOLIET = 64
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

    def open(self, path: str) -> BinaryIO:
        """A file for reading, to be closed; several at once. Raises RepositoryError when it can't be read."""
        ...


class FolderCarrier:
    """A folder, also a mounted disc whose long names the system shows shortened (Joliet).

    Only ``metadata/`` and ``targets/`` are looked at: sticks carry all kinds of other files.
    """

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


class ImageCarrier:
    """An archive or a disc image; its files are read where they lie."""

    def __init__(self, path: Path, name: str, contents: Contents) -> None:
        self.name, self._path, self._contents = name, path, contents
        self.files = {file: sum(size for _, size in extents) for file, extents in contents.items()}

    def open(self, path: str) -> BinaryIO:
        """A file for reading."""
        return cast(BinaryIO, _Pieces(self._path, self._contents[path]))

    def place(self, path: str) -> int:
        """The byte of the image that a file begins at."""
        return self._contents[path][0][0] if self._contents[path] else 0

    def read_at(self, place: int, size: int) -> bytes:
        """Bytes of the image itself, whatever file they belong to. Raises OSError."""
        with self._path.open("rb") as file:
            file.seek(place)
            return file.read(size)


class _Pieces(io.RawIOBase):
    """Some parts of a file, one after the other."""

    def __init__(self, path: Path, extents: Extents) -> None:
        self._file = path.open("rb", buffering=0)
        self._coming, self._left = list(reversed(extents)), 0

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        while not self._left and self._coming:
            start, self._left = self._coming.pop()
            self._file.seek(start)
        view = memoryview(buffer)[: self._left]
        count = self._file.readinto(view) or 0
        self._left -= count
        return count

    def close(self) -> None:
        self._file.close()
        super().close()


class SealedCarrier:
    """A sealed repository that is nowhere as a whole: its metadata, and its contents where they lie."""

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
        self.name, self._whole = whole.name, whole
        self.files = {path: size for path, size in whole.files.items() if keep(path)}

    def open(self, path: str) -> BinaryIO:
        """A file for reading."""
        return self._whole.open(path)


def _list_here(lister: Lister, path: Path, name: str) -> Contents:
    return lister(path, name)


ListedBy = Callable[[Lister, Path, str], Contents]
"""Has a lister do its work somewhere."""


@contextmanager
def open_carrier(
    path: Path, scratch: Path | None = None, small: int = SMALL, listed_by: ListedBy = _list_here
) -> Iterator[Carrier]:
    """A folder, an archive (plain or zstd) or a disc image, told apart by its first bytes.

    A compressed archive is unpacked to ``scratch`` first and thrown away at the end. ``listed_by`` says where what is
    in it is listed: a server has that done apart.

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
            yield ImageCarrier(plain, path.name, listed_by(list_tar, plain, path.name))
    elif is_iso:
        yield ImageCarrier(path, path.name, listed_by(list_disc, path, path.name))
    elif is_tar:
        yield ImageCarrier(path, path.name, listed_by(list_tar, path, path.name))
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
