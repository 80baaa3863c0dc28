"""Verify a repository end to end, with the stock TUF client reading from whatever carries it."""

from __future__ import annotations

import datetime
import os
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from tuf.api import exceptions
from tuf.api.metadata import Metadata, Root, TargetFile, Targets
from tuf.api.serialization import DeserializationError
from tuf.ngclient import FetcherInterface, Updater, UpdaterConfig

from ordnung.repository.boot import find_boot_system, find_changed_loaders
from ordnung.repository.carriers import Carrier, FolderCarrier, ImageCarrier
from ordnung.repository.contents import LOADERS, check_name
from ordnung.repository.roots import load_root
from ordnung.repository.seal import prefixed
from ordnung.store.copying import CHUNK, Progress, copy_hashed, silent
from ordnung.store.errors import RepositoryError

MAX_METADATA = 64 * 1024 * 1024
WORKERS = min(4, os.cpu_count() or 1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Seal:
    """A seal that was found good: who made it, until when it lasts, and what it covers."""

    edition: int
    expires: datetime.datetime
    is_expired: bool
    root: bytes
    """The newest root it brings along, trusted by way of those before."""
    root_version: int
    root_key: str
    """The ids of the root's keys, to be compared at the far end."""
    targets: dict[str, TargetFile]

    @property
    def metadata(self) -> tuple[str, ...]:
        """The names of its metadata files."""
        roots = [f"{version}.root.json" for version in range(1, self.root_version + 1)]
        return (*roots, f"{self.edition}.targets.json", f"{self.edition}.snapshot.json", "timestamp.json")

    def place(self, target: str) -> str:
        """Where a target lies on a carrier."""
        return f"targets/{prefixed(target, self.targets[target].hashes['sha256'])}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Checked:
    """What a good repository holds, and by whom and until when it is sealed."""

    files: int
    bytes: int
    expires: datetime.datetime
    root_key: str
    unsealed: tuple[str, ...]
    """Files that lie there but that the seal doesn't know."""
    edition: int
    absent: tuple[str, ...] = ()
    """Targets that are not on this carrier, and may be missing from it."""


class _CarrierFetcher(FetcherInterface):
    """Reads what the TUF client asks for from the carrier and remembers the last name."""

    def __init__(self, carrier: Carrier) -> None:
        self.carrier, self.last = carrier, ""

    def _fetch(self, url: str) -> Iterator[bytes]:
        name = unquote(url.removeprefix("carrier:/"))
        if name not in self.carrier.files:
            raise exceptions.DownloadHTTPError(f"{name} is missing", 404)
        self.last = name
        with self.carrier.open(name) as file:
            while piece := file.read(CHUNK):
                yield piece


def root_ids(root: bytes) -> str:
    """The ids of the keys of a root, as people compare them. Raises RepositoryError."""
    return ",".join(sorted(load_root(root).signed.roles["root"].keyids))


def first_root(carrier: Carrier) -> bytes:
    """The first root that a carrier brings along. Raises RepositoryError when there is none."""
    name = "metadata/1.root.json"
    if name not in carrier.files:
        raise RepositoryError("missing", name, "it is not there: this is no sealed repository")
    with carrier.open(name) as file:
        raw = file.read(MAX_METADATA)
    try:
        load_root(raw)
    except RepositoryError as error:
        raise RepositoryError("altered", name, f"it can't be used: altered or cut short ({error.what})") from None
    return raw


def verify_seal(carrier: Carrier, root: bytes | None = None, *, allow_expired: bool = False) -> Seal:
    """Verify all signatures and versions; nothing but metadata is read.

    Args:
        root: the trusted root; None takes the carrier's own first one, which proves that all fits
            together but not who made it: compare ``root_key`` then.

    Raises:
        RepositoryError: ``expired``, ``missing``, ``altered``, ``mixed`` (parts of two editions),
            ``untrusted`` (signed by others), ``below threshold`` (by too few), ``escape``.
    """
    trusted = first_root(carrier) if root is None else root
    fetcher = _CarrierFetcher(carrier)
    with tempfile.TemporaryDirectory(prefix="ordnung-check-") as scratch:
        targets, newest, ends = _refresh(fetcher, Path(scratch), trusted, allow_expired)
    for name, info in targets.signed.targets.items():
        check_name(name)
        if "sha256" not in info.hashes:
            raise RepositoryError("broken", name, "the seal has no SHA-256 for it")
    signed = load_root(newest).signed
    return Seal(
        edition=targets.signed.version,
        expires=min(ends),
        is_expired=min(ends) <= datetime.datetime.now(datetime.UTC),
        root=newest,
        root_version=signed.version,
        root_key=",".join(sorted(signed.roles["root"].keyids)),
        targets=dict(targets.signed.targets),
    )


def _refresh(
    fetcher: _CarrierFetcher, scratch: Path, root: bytes, allow_expired: bool
) -> tuple[Metadata[Targets], bytes, list[datetime.datetime]]:
    limits = UpdaterConfig(targets_max_length=MAX_METADATA, snapshot_max_length=MAX_METADATA)
    try:
        updater = Updater(
            metadata_dir=str(scratch), metadata_base_url="carrier:/metadata/", target_base_url="carrier:/targets/",
            fetcher=fetcher, config=limits, bootstrap=root,
        )  # fmt: skip
        if allow_expired:
            # The stock client has no switch for this, but asks one moment throughout whether anything has expired.
            updater._trusted_set.reference_time = datetime.datetime.min.replace(tzinfo=datetime.UTC)
        updater.refresh()
    except exceptions.ExpiredMetadataError as error:
        raise RepositoryError("expired", _place(fetcher), f"the seal has expired ({error})") from None
    except exceptions.DownloadHTTPError as error:
        raise RepositoryError("missing", str(error).split(" ", 1)[0], "it is missing") from None
    except (exceptions.LengthOrHashMismatchError, exceptions.DownloadLengthMismatchError):
        what = "it is not what the seal says: altered or cut short"
        raise RepositoryError("altered", _place(fetcher), what) from None
    except exceptions.BadVersionNumberError as error:
        raise RepositoryError("mixed", _place(fetcher), f"parts of two editions lie together ({error})") from None
    except exceptions.UnsignedMetadataError:
        raise _refuse_signatures(fetcher, scratch, root) from None
    except (exceptions.RepositoryError, exceptions.DownloadError, ValueError) as error:
        raise RepositoryError("altered", _place(fetcher), f"it can't be used: altered or cut short ({error})") from None
    parts: list[Metadata[Any]] = [
        Metadata.from_file(str(scratch / f"{n}.json")) for n in ("targets", "snapshot", "timestamp")
    ]
    newest = (scratch / "root.json").read_bytes()
    return parts[0], newest, [part.signed.expires for part in (*parts, load_root(newest))]


def _place(fetcher: _CarrierFetcher) -> str:
    return fetcher.last or "metadata/1.root.json"


def _refuse_signatures(fetcher: _CarrierFetcher, scratch: Path, root: bytes) -> RepositoryError:
    """Why signatures don't do: by keys nobody trusts here, by too few, or over other bytes."""
    name = _place(fetcher)
    kept = scratch / "root.json"
    trusted: Root = load_root(kept.read_bytes() if kept.exists() else root).signed
    try:
        with fetcher.carrier.open(name) as file:
            metadata: Metadata[Any] = Metadata.from_bytes(file.read(MAX_METADATA))
    except DeserializationError:
        return RepositoryError("altered", name, "it can't be read: altered or cut short")
    role = trusted.roles[metadata.signed.type]
    own = [keyid for keyid in metadata.signatures if keyid in role.keyids]
    if not own and metadata.signatures:
        return RepositoryError("untrusted", name, "it is sealed by keys that are not trusted here")
    if len(own) < role.threshold:
        message = f"{len(own)} of {role.threshold} signatures are there"
        return RepositoryError("below threshold", name, message)
    return RepositoryError("altered", name, "its signature is wrong")


def check_carrier(
    carrier: Carrier,
    root: bytes | None = None,
    *,
    may_lack: Callable[[str, str], bool] = lambda _name, _sum: False,
    allow_expired: bool = False,
    report: Progress = silent,
    seal: Seal | None = None,
) -> Checked:
    """Verify every signature, every length and every checksum of a repository.

    Args:
        may_lack: whether a target (name, SHA-256) may be missing from this carrier.
        seal: what ``verify_seal`` found on this carrier just now.

    Raises:
        RepositoryError: as ``verify_seal``; a file ``missing``, ``cut short`` or ``altered``.
    """
    seal = seal or verify_seal(carrier, root, allow_expired=allow_expired)
    places = {seal.place(name): name for name in seal.targets}
    if isinstance(carrier, FolderCarrier):
        carrier.rename_shortened(places)
    here = {place: name for place, name in places.items() if place in carrier.files}
    absent = [name for place, name in places.items() if place not in carrier.files]
    for name in absent:
        if not may_lack(name, seal.targets[name].hashes["sha256"]):
            raise RepositoryError("missing", seal.place(name), "it is missing")
    for place, name in here.items():
        _check_length(place, carrier.files[place], seal.targets[name].length)
    with ThreadPoolExecutor(WORKERS) as pool:
        jobs = [pool.submit(_check_one, carrier, place, seal.targets[name], report) for place, name in here.items()]
        try:
            for job in jobs:
                job.result()
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise
    _check_loaders(carrier)
    known = {*places, *(f"metadata/{name}" for name in seal.metadata), *LOADERS}
    return Checked(
        files=len(here),
        bytes=sum(carrier.files[place] for place in here),
        expires=seal.expires,
        root_key=seal.root_key,
        unsealed=tuple(sorted(set(carrier.files) - known)),
        edition=seal.edition,
        absent=tuple(sorted(absent)),
    )


def _check_loaders(carrier: Carrier) -> None:
    """What a disc starts must be what it has under seal. Raises RepositoryError."""
    if not isinstance(carrier, ImageCarrier):
        return
    boot = find_boot_system(carrier)
    if boot is not None and (changed := find_changed_loaders(carrier, boot)):
        raise RepositoryError("altered", changed[0], "it is not what the sealed boot system makes: don't start from it")


def _check_length(place: str, size: int, length: int) -> None:
    if size != length:
        code = "cut short" if size < length else "altered"
        raise RepositoryError(code, place, f"it has {size} bytes, the seal says {length}: {code}")


def _check_one(carrier: Carrier, place: str, info: TargetFile, report: Progress) -> None:
    with carrier.open(place) as file:
        found, size = copy_hashed(file, None, report)
    _check_length(place, size, info.length)
    if found != info.hashes["sha256"]:
        raise RepositoryError("altered", place, "its checksum is wrong: altered")


def check_repository(folder: Path, root: bytes | None = None, report: Progress = silent) -> Checked:
    """Verify a repository that was written out as a folder. Raises as ``check_carrier``."""
    return check_carrier(FolderCarrier(folder), root, report=report)
