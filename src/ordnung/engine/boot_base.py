"""The boot system of a repository: a small Linux that was built beforehand, and this program's own field kit."""

from __future__ import annotations

import functools
import hashlib
import io
import json
import subprocess
import sys
import tarfile
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import ordnung
from ordnung.repository import Content
from ordnung.repository.boot import BOOT, PARTS
from ordnung.store import ContentStore, RepositoryError
from ordnung.store.content import is_sum

FORMAT = "ordnung.boot-base/1"
LIST, KIT = "base.json", "kit.tar"
KIT_PACKAGES = ("controllers", "core", "engine", "fieldkit", "formats", "repository", "store")
"""What of Ordnung lies on a disc; neither the site nor the stand-ins."""
_HOW = "build it with `make boot-base`"


@dataclass(frozen=True, slots=True, kw_only=True)
class BootBase:
    """A base that was built, as its list says: ``sums`` and ``sizes`` by file name."""

    folder: Path
    kernel: str
    sums: Mapping[str, str]
    sizes: Mapping[str, int]

    @property
    def size(self) -> int:
        """What it adds to a repository, the field kit included."""
        return sum(self.sizes.values()) + len(pack_kit())

    def contents(self, store: ContentStore) -> list[Content]:
        """Its parts, taken into the store and checked on the way.

        Raises:
            RepositoryError: a part is missing or not what the list says; the disk is full.
        """
        found = [self._document(store, LIST, (self.folder / LIST).read_bytes()), self._document(store, KIT, pack_kit())]
        for name, sha256 in self.sums.items():
            try:
                with (self.folder / name).open("rb") as file:
                    source = store.take_in(file, sha256, name)
            except FileNotFoundError:
                raise RepositoryError(
                    "missing", str(self.folder / name), f"the boot system is not whole: {_HOW}"
                ) from None
            found.append(Content(path=BOOT + name, source=source, sha256=sha256, size=source.stat().st_size))
        return found

    def checksums(self) -> set[str]:
        """The checksums of all its parts."""
        small = ((self.folder / LIST).read_bytes(), pack_kit())
        return {*self.sums.values(), *(hashlib.sha256(raw).hexdigest() for raw in small)}

    def _document(self, store: ContentStore, name: str, raw: bytes) -> Content:
        source = store.put(raw, name)
        return Content(path=BOOT + name, source=source, sha256=source.name, size=len(raw))


def load_boot_base(folder: Path) -> BootBase:
    """A base by its list; its large files are read only when they are packed.

    Raises:
        RepositoryError: there is none, or its list can't be read.
    """
    try:
        body = json.loads((folder / LIST).read_bytes())
    except FileNotFoundError:
        raise RepositoryError("missing", str(folder), f"there is no boot system: {_HOW}") from None
    except ValueError as error:
        raise RepositoryError("broken", str(folder / LIST), f"it can't be read ({error}): {_HOW}") from None
    try:
        sums = {name: entry["sha256"] for name, entry in body["files"].items()}
        sizes = {name: int(entry["size"]) for name, entry in body["files"].items()}
        kernel = str(body["kernel"])
    except (KeyError, TypeError, AttributeError, ValueError):
        raise RepositoryError("broken", str(folder / LIST), f"it is no list of a boot system: {_HOW}") from None
    if body.get("format") != FORMAT or {*sums, LIST, KIT} != set(PARTS) or not all(map(is_sum, sums.values())):
        raise RepositoryError("broken", str(folder / LIST), f"it is the list of another kind of boot system: {_HOW}")
    return BootBase(folder=folder, kernel=kernel, sums=sums, sizes=sizes)


def find_boot_base(folder: Path) -> BootBase | None:
    """As ``load_boot_base``; None where there is none that can be used."""
    try:
        return load_boot_base(folder)
    except RepositoryError:
        return None


@functools.cache
def pack_kit() -> bytes:
    """The field kit as an archive, compiled: the same program gives the same bytes. Takes seconds, the first time.

    What is compiled here is used by the disc where its Python is of the same version; else it compiles at each start.
    """
    home = Path(ordnung.__file__).parent
    with tempfile.TemporaryDirectory(prefix="ordnung-kit-") as folder:
        copy = Path(folder) / "ordnung"
        for path in [home / "__init__.py", *(p for name in KIT_PACKAGES for p in (home / name).rglob("*"))]:
            if path.suffix in (".py", ".json"):
                place = copy / path.relative_to(home)
                place.parent.mkdir(parents=True, exist_ok=True)
                place.write_bytes(path.read_bytes())
        # In a process of its own: what a compiled file looks like hangs on what else its process has loaded.
        told = ["-q", "--invalidation-mode", "unchecked-hash", "-s", folder, "-p", "/kit", str(copy)]
        subprocess.run([sys.executable, "-I", "-B", "-m", "compileall", *told], check=True)
        return _archive(copy)


def _archive(folder: Path) -> bytes:
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for path in sorted(path for path in folder.rglob("*") if path.is_file()):
            raw = path.read_bytes()
            info = tarfile.TarInfo(path.relative_to(folder.parent).as_posix())
            info.size, info.mode = len(raw), 0o444
            archive.addfile(info, io.BytesIO(raw))
    return packed.getvalue()
