"""Put a repository together: its packing list, its documents, its seal."""

from __future__ import annotations

import datetime
import hashlib
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ordnung.core.assessment import Standing
from ordnung.core.media import Spread, spread
from ordnung.core.packing import Packed, Trim
from ordnung.engine.boot_base import BootBase
from ordnung.formats.packing import PackedCatalog, PackedPayload, PackingList, write_packing
from ordnung.repository import Content
from ordnung.repository.carry_in import PACKING
from ordnung.store import ContentStore

SEAL_DAYS = 90
METADATA_BYTES = 64 * 1024
"""Put aside for the seal on each medium, beside 600 bytes a file."""
BOOT_BYTES = 512 * 1024
"""And for the loaders outside the seal and what rounding to sectors takes."""
_UNSAFE = re.compile(r"[^A-Za-z0-9._+-]")


@dataclass(frozen=True, slots=True, kw_only=True)
class CatalogFile:
    """One issue as its maker published it."""

    maker: str
    catalog: str
    issue: str
    raw: bytes
    signed_by: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Documents:
    """What belongs to the payloads: the catalogs they come from, the rules that chose them, advisories."""

    catalogs: Sequence[CatalogFile] = ()
    advisories: Mapping[str, bytes] = field(default_factory=dict)
    rules: bytes = b""
    follows: Sequence[Mapping[str, str]] = ()

    def by_path(self) -> dict[str, bytes]:
        """Every document by its target path."""
        found = {catalog_path(c.catalog, c.issue): c.raw for c in self.catalogs}
        found |= {f"advisories/{_safe(name)}.json": raw for name, raw in self.advisories.items()}
        return found | ({"rules.json": self.rules} if self.rules else {})


@dataclass(frozen=True, slots=True, kw_only=True)
class Heading:
    """What a repository is called and whom it is for."""

    name: str
    series: str
    edition: int
    made_at: datetime.datetime
    made_by: str
    revision: int
    servers: tuple[str, ...]
    trims: tuple[Trim, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Composed:
    """A repository before it is sealed."""

    packing: PackingList
    contents: tuple[Content, ...]
    spread: Spread


def catalog_path(catalog: str, issue: str) -> str:
    """Where a catalog lies in a repository."""
    return f"catalogs/{_safe(catalog)}-{_safe(issue)}.json"


def _safe(text: str) -> str:
    name = _UNSAFE.sub("-", text).lstrip("._+-")
    return name[:100] or "x"


def payload_paths(lines: Sequence[Packed]) -> dict[tuple[str, str], str]:
    """Where each payload lies in a repository: by product, under its own file name."""
    paths: dict[tuple[str, str], str] = {}
    taken: set[str] = set()
    for line in lines:
        assert line.release.payload is not None
        name = _safe(line.release.payload.path.rsplit("/", 1)[-1])
        path = f"payloads/{_safe(line.product.id)}/{name}"
        if path in taken:
            path = f"payloads/{_safe(line.product.id)}/{_safe(line.release.version)}-{name}"
        taken.add(path)
        paths[line.name] = path
    return paths


def everywhere_bytes(documents: Documents, files: int, boot: BootBase | None = None) -> int:
    """What must lie on each medium, a little rounded up: the seal, the packing list, the documents, the boot system."""
    system = boot.size + BOOT_BYTES if boot is not None else 0
    return METADATA_BYTES + 600 * files + sum(len(raw) + 2048 for raw in documents.by_path().values()) + system


def compose(
    lines: Sequence[Packed], documents: Documents, heading: Heading, store: ContentStore, capacity: int | None = None,
    boot: BootBase | None = None,
) -> Composed:  # fmt: skip
    """Write the packing list and put all documents into the store; payloads must be there already.

    With ``boot``, a disc image of the repository boots by itself.

    Raises:
        TooLargeError: something doesn't fit on an empty medium.
        RepositoryError: the disk is full.
    """
    paths = payload_paths(lines)
    files = documents.by_path()
    sizes = [(paths[line.name], line.size) for line in lines]
    placed = spread(sizes, capacity, everywhere_bytes(documents, len(files) + len(lines), boot))
    payloads = tuple(_payload(line, paths[line.name], placed.places[paths[line.name]]) for line in lines)
    packing = PackingList(
        name=heading.name, series=heading.series, edition=heading.edition,
        made_at=heading.made_at.replace(microsecond=0), made_by=heading.made_by, revision=heading.revision,
        servers=heading.servers, payloads=payloads,
        catalogs=tuple(_catalog(c) for c in documents.catalogs),
        advisories=tuple(path for path in files if path.startswith("advisories/")),
        rules="rules.json" if documents.rules else "",
        follows=tuple(documents.follows), media=placed.count,
        trims=tuple({"by": trim.by, "value": trim.value} for trim in heading.trims),
    )  # fmt: skip
    files[PACKING] = write_packing(packing)
    contents = [_document(store, path, raw) for path, raw in files.items()]
    contents += boot.contents(store) if boot is not None else []
    contents += [Content(path=p.path, source=store.path(p.sha256), sha256=p.sha256, size=p.size) for p in payloads]
    return Composed(packing=packing, contents=tuple(contents), spread=placed)


def _catalog(c: CatalogFile) -> PackedCatalog:
    path = catalog_path(c.catalog, c.issue)
    return PackedCatalog(path=path, maker=c.maker, catalog=c.catalog, issue=c.issue, signed_by=c.signed_by)


def _payload(line: Packed, path: str, medium: int) -> PackedPayload:
    payload = line.release.payload
    assert payload is not None
    return PackedPayload(
        product=line.product.id, name=line.product.name, kind=line.product.kind, version=line.release.version,
        path=path, sha256=payload.sha256, size=payload.size, reasons=line.reasons, servers=line.servers, medium=medium,
    )  # fmt: skip


def _document(store: ContentStore, path: str, raw: bytes) -> Content:
    source = store.put(raw, path)
    return Content(path=path, source=source, sha256=source.name, size=len(raw))


def sums_of(lines: Sequence[Packed], documents: Documents) -> set[str]:
    """What will have to be held before anything is fetched; the packing list itself comes later."""
    sums = {line.release.payload.sha256 for line in lines if line.release.payload is not None}
    return sums | {hashlib.sha256(raw).hexdigest() for raw in documents.by_path().values()}


def issues_of(standings: Sequence[Standing]) -> set[tuple[str, str, str]]:
    """(maker, catalog, issue) of every issue by which something of these servers is known: they travel along."""
    return {
        (issue.maker, issue.catalog, issue.issue)
        for standing in standings
        for position in standing.positions
        if (issue := position.match.issue) is not None
    }
