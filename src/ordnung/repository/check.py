"""Verify a written-out repository end to end, with the stock TUF client reading from the folder."""

from __future__ import annotations

import datetime
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote

from tuf.api import exceptions
from tuf.api.metadata import Metadata, Targets
from tuf.ngclient import FetcherInterface, Updater

from ordnung.repository.build import prefixed
from ordnung.repository.errors import RepositoryError
from ordnung.repository.identity import read_package

CHUNK = 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class Checked:
    """What a good repository holds, and by whom and until when it is sealed."""

    files: int
    bytes: int
    expires: datetime.datetime
    root_key: str
    unsealed: tuple[str, ...]
    """Files that lie there but that the seal doesn't know."""


class _FolderFetcher(FetcherInterface):
    """Reads what the TUF client asks for from the folder and remembers the last name."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.last = folder, ""

    def _fetch(self, url: str) -> Iterator[bytes]:
        name = unquote(url.removeprefix("folder:/"))
        path = self.folder / name
        if not path.is_file():
            raise exceptions.DownloadHTTPError(f"{name} is missing", 404)
        self.last = name
        with path.open("rb") as file:
            while piece := file.read(CHUNK):
                yield piece


def check_repository(folder: Path, root: bytes | None = None) -> Checked:
    """Verify every signature, every length and every checksum of a repository.

    Args:
        folder: the written-out repository.
        root: the trusted root metadata; None takes the folder's own, which proves that the folder
            is whole but not who sealed it: compare ``root_key`` then.

    Raises:
        RepositoryError: altered, cut short, expired, missing or broken, with the file named.
    """
    first = folder / "metadata" / "1.root.json"
    if not first.is_file():
        raise RepositoryError("missing", "metadata/1.root.json", "it is not there: this is no sealed repository")
    fetcher = _FolderFetcher(folder)
    with tempfile.TemporaryDirectory(prefix="ordnung-check-") as scratch:
        targets = _verify_metadata(fetcher, scratch, root or first.read_bytes())
    size = sum(_verify_target(folder, name, targets.signed) for name in targets.signed.targets)
    known = {f"targets/{prefixed(n, t.hashes['sha256'])}" for n, t in targets.signed.targets.items()}
    known |= {f"metadata/{name}" for name in ("1.root.json", "1.targets.json", "1.snapshot.json", "timestamp.json")}
    present = {str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file()}
    root_role = Metadata.from_bytes(root or first.read_bytes()).signed
    return Checked(
        files=len(targets.signed.targets),
        bytes=size,
        expires=targets.signed.expires,
        root_key=",".join(root_role.roles["root"].keyids),
        unsealed=tuple(sorted(present - known)),
    )


def _verify_metadata(fetcher: _FolderFetcher, scratch: str, root: bytes) -> Metadata[Targets]:
    try:
        updater = Updater(
            metadata_dir=scratch,
            metadata_base_url="folder:/metadata/",
            target_base_url="folder:/targets/",
            fetcher=fetcher,
            bootstrap=root,
        )
        updater.refresh()
    except exceptions.ExpiredMetadataError:
        raise RepositoryError("expired", fetcher.last or "metadata/1.root.json", "the seal has expired") from None
    except exceptions.DownloadHTTPError as error:
        raise RepositoryError("missing", str(error).split(" ", 1)[0], "it is missing") from None
    except (exceptions.LengthOrHashMismatchError, exceptions.DownloadLengthMismatchError):
        raise RepositoryError("altered", fetcher.last, "it is not what the seal says: altered or cut short") from None
    except exceptions.UnsignedMetadataError:
        raise RepositoryError("altered", fetcher.last or "metadata/1.root.json", "its signature is wrong") from None
    except (exceptions.RepositoryError, exceptions.DownloadError) as error:
        where = fetcher.last or "metadata/1.root.json"
        raise RepositoryError("altered", where, f"it can't be used: altered or cut short ({error})") from None
    return Metadata[Targets].from_file(str(Path(scratch) / "targets.json"))


def _verify_target(folder: Path, name: str, targets: Targets) -> int:
    info = targets.targets[name]
    place = f"targets/{prefixed(name, info.hashes['sha256'])}"
    path = (folder / place).resolve()
    if not path.is_relative_to(folder.resolve()) or not path.is_file():
        raise RepositoryError("missing", place, "it is missing")
    size = path.stat().st_size
    if size != info.length:
        code = "cut short" if size < info.length else "altered"
        raise RepositoryError(code, place, f"it has {size} bytes, the seal says {info.length}: {code}")
    try:
        with path.open("rb") as file:
            info.verify_length_and_hashes(file)
    except exceptions.LengthOrHashMismatchError:
        raise RepositoryError("altered", place, "its checksum is wrong: altered") from None
    if name.endswith(".pldm"):
        read_package(path, place)
    return size
