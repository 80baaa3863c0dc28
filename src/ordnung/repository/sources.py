"""Where catalogs come from: a maker's mirror over HTTPS, a TUF repository, or a folder on this machine.

A source is looked at as a whole: what it offers is fetched, checked and handed over; nothing is
stored here but partly fetched files, which go on where they broke off.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from urllib.parse import urljoin, urlsplit

import aiohttp

from ordnung.formats.compressed import unpack
from ordnung.formats.documents import MAX_BYTES, load_json
from ordnung.formats.offers import Offer, newest_of, parse_index
from ordnung.formats.signatures import read_signature
from ordnung.repository.egress import UNREACHABLE, MirrorLine, Way
from ordnung.repository.transfer import collect
from ordnung.store.errors import RepositoryError

TIMEOUT_S = 120.0
CHUNK = 128 * 1024
MAX_SIGNATURE = 4096
Name = tuple[str, str]
"""(maker, catalog)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Brought:
    """One catalog file as it came: ``packed`` as it lies there, which is what a signature covers, and unpacked."""

    name: str
    packed: bytes
    raw: bytes
    signature: bytes | None = None
    vouched: str = ""
    """Who vouches for it where the source's own metadata do (TUF)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SourceReport:
    """What a look at a source brought. ``newest`` is what it passes off as the newest issue of each catalog."""

    files: tuple[Brought, ...] = ()
    etag: str = ""
    unchanged: bool = False
    newest: Mapping[Name, Offer] = field(default_factory=dict)
    offered: int = 0
    unread: tuple[str, ...] = ()
    """Roles to which a TUF repository delegates: what they offer was not looked at."""


Progress = Callable[[int], None]


class Mirror:
    """A maker's mirror: an index or a single catalog under one address. Use as an async context manager."""

    def __init__(self, url: str, partly: Path, way: Way, proxy: str = "") -> None:
        """``partly`` keeps what arrived of a file until it is whole; ``proxy`` is an ``http://`` address or empty."""
        self.url, self.partly, self.proxy = url, partly, proxy
        self._line = MirrorLine(way, aiohttp.ClientTimeout(total=TIMEOUT_S, sock_connect=10, sock_read=30))

    async def __aenter__(self) -> Mirror:
        await self._line.__aenter__()
        return self

    async def __aexit__(self, *_: object) -> None:
        await self._line.__aexit__()

    async def look(self, etag: str, known: Collection[tuple[str, str, str]], report: Progress) -> SourceReport:
        """Fetch what is new.

        Args:
            etag: that of the last answer; an unchanged source answers with nothing.
            known: (maker, catalog, issue) of what is at hand and need not come again.
            told: called with the bytes that have just arrived.

        Raises:
            RepositoryError: the mirror can't be reached, lacks a file, or sends one cut short or altered.
            FormatError: its index can't be read.
        """
        packed, tag = await self._small(self.url, etag)
        if packed is None:
            return SourceReport(etag=etag, unchanged=True)
        name = PurePosixPath(urlsplit(self.url).path).name
        raw = unpack(packed, name)
        if load_json(raw, name).get("format") != "ordnung.offers/1":
            signature = await self._signature(self.url)
            return SourceReport(
                files=(Brought(name=name, packed=packed, raw=raw, signature=signature),), etag=tag, offered=1
            )
        offers = parse_index(raw, name)
        fresh = [offer for offer in offers if (offer.maker, offer.catalog, offer.issue) not in known]
        files = [await self._offer(offer, report) for offer in fresh]
        return SourceReport(files=tuple(files), etag=tag, newest=newest_of(offers), offered=len(offers))

    async def _offer(self, offer: Offer, report: Progress) -> Brought:
        url = urljoin(self.url, offer.path)
        packed = await self._whole(url, offer, report)
        name = PurePosixPath(offer.path).name
        return Brought(name=name, packed=packed, raw=unpack(packed, name), signature=await self._signature(url))

    async def _small(self, url: str, etag: str = "") -> tuple[bytes | None, str]:
        """A file in one go, within the limit; None when it is as it was."""
        name = PurePosixPath(urlsplit(url).path).name
        try:
            async with self._line.ask(url, {"If-None-Match": etag} if etag else {}, self.proxy, name=name) as answer:
                if answer.status == 304:
                    return None, etag
                if answer.status != 200:
                    raise RepositoryError("unreachable", name, f"the mirror answered {answer.status}")
                raw = bytearray()
                async for piece in answer.content.iter_chunked(CHUNK):
                    raw += piece
                    if len(raw) > MAX_BYTES:
                        raise RepositoryError("altered", name, f"larger than {MAX_BYTES // 2**20} MiB")
                return bytes(raw), answer.headers.get("ETag", "")
        except (aiohttp.ClientError, OSError):
            raise RepositoryError("unreachable", name, UNREACHABLE) from None

    async def _signature(self, url: str) -> bytes | None:
        """The detached signature beside a file; None when there is none."""
        name = f"{PurePosixPath(urlsplit(url).path).name}.sig"
        try:
            async with self._line.ask(url + ".sig", {}, self.proxy, name=name) as answer:
                if answer.status in (403, 404, 410):
                    return None
                if answer.status != 200:
                    raise RepositoryError("unreachable", name, f"the mirror answered {answer.status}")
                return read_signature(await answer.content.read(MAX_SIGNATURE), name)
        except (aiohttp.ClientError, OSError):
            raise RepositoryError("unreachable", name, UNREACHABLE) from None

    async def _whole(self, url: str, offer: Offer, report: Progress) -> bytes:
        """A file of known length and checksum; what arrived earlier is kept and gone on with."""
        self.partly.mkdir(parents=True, exist_ok=True)
        path = self.partly / f"{offer.sha256}.part"
        report(path.stat().st_size if path.is_file() else 0)
        await collect(self._line, url, path, offer.size, offer.path, report, proxy=self.proxy)
        raw = path.read_bytes()
        path.unlink()
        if hashlib.sha256(raw).hexdigest() != offer.sha256:
            raise RepositoryError("altered", offer.path, "its checksum is not what the index says: altered")
        return raw


def look_into_folder(folder: Path, known: Collection[tuple[str, str, str]]) -> SourceReport:
    """The catalogs of a folder: by its ``index.json`` if there is one, else every catalog file that lies there.

    Raises:
        RepositoryError: the folder is not there, or a file is not what the index says.
        FormatError: the index can't be read.
    """
    if not folder.is_dir():
        raise RepositoryError("missing", str(folder), "there is no such folder on this machine")
    index = folder / "index.json"
    if index.is_file():
        offers = parse_index(index.read_bytes(), "index.json")
        fresh = [o for o in offers if (o.maker, o.catalog, o.issue) not in known]
        files = tuple(_from_folder(folder, folder / o.path, o) for o in fresh)
        return SourceReport(files=files, newest=newest_of(offers), offered=len(offers))
    paths = [p for p in sorted(folder.iterdir()) if p.name.endswith((".json", ".json.gz", ".json.zst"))]
    files = tuple(_from_folder(folder, path, None) for path in paths if _is_catalog(path))
    return SourceReport(files=files, offered=len(files))


def _is_catalog(path: Path) -> bool:
    """Whether a file claims to be a catalog; what claims it and is broken is told, other files are left alone."""
    if path.stat().st_size > MAX_BYTES:
        return False
    return b"ordnung.catalog/" in unpack(path.read_bytes(), path.name)[:4096]


def _from_folder(folder: Path, path: Path, offer: Offer | None) -> Brought:
    name = path.relative_to(folder).as_posix()
    if not path.resolve().is_relative_to(folder.resolve()) or not path.is_file():
        raise RepositoryError("missing", name, "the index names it, but it is not there")
    if path.stat().st_size > MAX_BYTES:
        raise RepositoryError("altered", name, f"larger than {MAX_BYTES // 2**20} MiB")
    packed = path.read_bytes()
    if offer is not None and (len(packed) != offer.size or hashlib.sha256(packed).hexdigest() != offer.sha256):
        raise RepositoryError("altered", name, "it is not what the index says: altered or cut short")
    beside = path.with_name(path.name + ".sig")
    signature = read_signature(beside.read_bytes()[: MAX_SIGNATURE + 1], beside.name) if beside.is_file() else None
    return Brought(name=name, packed=packed, raw=unpack(packed, name), signature=signature)


def has_packages(folder: Path) -> bool:
    """Whether firmware packages lie below a folder, to build a catalog from."""
    return any(folder.rglob("*.pldm")) or any(
        p.with_name(p.name.removesuffix(".json")).is_file() for p in folder.rglob("*.*.json")
    )


async def look(mirror: Mirror, etag: str, known: Collection[tuple[str, str, str]], report: Progress) -> SourceReport:
    """One look at a mirror, opened and closed again."""
    async with mirror:
        return await mirror.look(etag, known, report)
