"""Catalogs from a maker's TUF repository, with the stock client: signed, never older than seen, never expired."""

from __future__ import annotations

import http.client
import urllib.error
from collections.abc import Callable, Collection, Iterator
from pathlib import Path, PurePosixPath

from tuf.api import exceptions
from tuf.api.metadata import Metadata, Root, Targets
from tuf.ngclient import FetcherInterface, Updater, UpdaterConfig

from ordnung.formats.compressed import unpack
from ordnung.formats.documents import MAX_BYTES
from ordnung.formats.resolving import NotAllowedError
from ordnung.repository.egress import BARRED, UNREACHABLE, Way, open_blocking
from ordnung.repository.sources import Brought, SourceReport
from ordnung.store.errors import RepositoryError

TIMEOUT_S = 30
CHUNK = 128 * 1024
KINDS = (".json", ".json.gz", ".json.zst")


class _HttpsFetcher(FetcherInterface):
    """Fetches for the TUF client, over TLS that is always verified, through the proxy where there is one."""

    def __init__(self, way: Way, proxy: str, report: Callable[[int], None]) -> None:
        self._open, self._told = open_blocking(way, proxy).open, report

    def _fetch(self, url: str) -> Iterator[bytes]:
        name = PurePosixPath(url).name
        try:
            answer = self._open(url, timeout=TIMEOUT_S)
        except urllib.error.HTTPError as error:
            raise exceptions.DownloadHTTPError(f"{name}: the mirror answered {error.code}", error.code) from None
        except (OSError, ValueError, http.client.HTTPException) as error:
            barred = isinstance(getattr(error, "reason", error), NotAllowedError)
            raise exceptions.DownloadError(f"{name}: {BARRED if barred else UNREACHABLE}") from None
        with answer:
            while piece := answer.read(CHUNK):
                self._told(len(piece))
                yield piece


def read_root(raw: bytes) -> str:
    """The short fingerprint of root metadata brought as trusted. Raises RepositoryError for anything else."""
    try:
        root = Metadata[Root].from_bytes(raw)
        root.verify_delegate("root", root)
        keys = root.signed.roles["root"].keyids
    except (exceptions.RepositoryError, ValueError, KeyError, AttributeError, TypeError) as error:
        raise RepositoryError("broken", "root.json", f"this is no root metadata ({type(error).__name__})") from None
    return ", ".join(key[:12] for key in sorted(keys))


def look_into_tuf(
    url: str,
    root: bytes,
    folder: Path,
    known: Collection[str],
    report: Callable[[int], None],
    way: Way,
    proxy: str = "",
) -> SourceReport:
    """Fetch what is new from a TUF repository. Blocks: call it in a thread.

    Args:
        url: where ``metadata/`` and ``targets/`` lie, with a final slash.
        root: the trusted root metadata.
        folder: keeps the metadata last seen, so that an older state passed off as new is refused.
        known: checksums of catalog files that are at hand.

    Raises:
        RepositoryError: unreachable, expired, older than what was seen, or not signed by the trusted keys.
    """
    folder.mkdir(parents=True, exist_ok=True)
    fetcher = _HttpsFetcher(way, proxy, report)
    config = UpdaterConfig(targets_max_length=MAX_BYTES)
    try:
        updater = Updater(
            metadata_dir=str(folder), metadata_base_url=f"{url}metadata/", target_base_url=f"{url}targets/",
            fetcher=fetcher, config=config, bootstrap=root,
        )  # fmt: skip
        updater.refresh()
        signed = Metadata[Targets].from_file(str(folder / "targets.json")).signed
        targets = signed.targets
        names = sorted(name for name in targets if name.endswith(KINDS) and PurePosixPath(name).name != "packing.json")
        files = [
            _fetch(updater, name, folder, read_root(root))
            for name in names
            if targets[name].hashes.get("sha256") not in known
        ]
    except exceptions.ExpiredMetadataError:
        raise RepositoryError("expired", "metadata", "its metadata have expired: nothing newer was published") from None
    except exceptions.BadVersionNumberError as error:
        told_ = f"it is older than what was seen here before: {error}"
        raise RepositoryError("older", "metadata", told_) from None
    except exceptions.UnsignedMetadataError as error:
        raise RepositoryError("altered", "metadata", f"not signed by the keys this house trusts: {error}") from None
    except exceptions.DownloadError as error:
        raise RepositoryError("unreachable", "metadata", str(error)) from None
    except exceptions.RepositoryError as error:
        raise RepositoryError("altered", "metadata", f"altered or cut short: {error}") from None
    catalogs = tuple(f for f in files if b"ordnung.catalog/" in f.raw[:4096])
    return SourceReport(files=catalogs, offered=len(names), unread=_delegated(signed))


def _delegated(targets: Targets) -> tuple[str, ...]:
    """The roles that targets delegate to (TUF 1.0, clause 4.5). They are named, not read."""
    delegations = targets.delegations
    if delegations is None:
        return ()
    bins = delegations.succinct_roles
    return (*(delegations.roles or ()), *([f"{bins.name_prefix}-*"] if bins is not None else []))


def _fetch(updater: Updater, name: str, folder: Path, vouched: str) -> Brought:
    info = updater.get_targetinfo(name)
    assert info is not None
    place = folder / "target"
    updater.download_target(info, str(place))
    packed = place.read_bytes()
    place.unlink()
    short = PurePosixPath(name).name
    return Brought(name=short, packed=packed, raw=unpack(packed, short), vouched=f"TUF root {vouched}")
