"""Make a repository: fetch what the packing list names, identify it, write it out under seal."""

from __future__ import annotations

import asyncio
import datetime
import json
import tempfile
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from ordnung.core.catalog import Issue
from ordnung.core.packing import Packed
from ordnung.formats.catalog import write_catalog
from ordnung.repository import Content, Fetcher, RepositoryError, SealKeys, check_identity, write_out

AT_ONCE = 4
SEAL_DAYS = 90


@dataclass(frozen=True, slots=True, kw_only=True)
class PackedState:
    """How far one line of the packing list is: waiting, fetching, packed or refused."""

    product: str
    version: str
    state: str
    bytes: int = 0
    message: str = ""


Told = Callable[[PackedState], Awaitable[None]]


async def fetch_all(packed: Sequence[Packed], fetcher: Fetcher, told: Told) -> list[tuple[Packed, Path]]:
    """Fetch and identify every payload; returns those that are good.

    A payload that is missing or not what it claims is told as refused; the others go on.
    """
    gate = asyncio.Semaphore(AT_ONCE)
    good: list[tuple[Packed, Path]] = []

    async def one(line: Packed) -> None:
        product, version = line.product.id, line.release.version
        async with gate:
            try:
                path = await _fetch_one(line, fetcher, told)
            except RepositoryError as error:
                await told(PackedState(product=product, version=version, state="refused", message=str(error)))
                return
        size = line.release.payload.size if line.release.payload else 0
        await told(PackedState(product=product, version=version, state="packed", bytes=size))
        good.append((line, path))

    await asyncio.gather(*(one(line) for line in packed))
    return sorted(good, key=lambda pair: (pair[0].product.id, pair[0].release.version))


async def _fetch_one(line: Packed, fetcher: Fetcher, told: Told) -> Path:
    payload, name = line.release.payload, f"{line.product.name} {line.release.version}"
    if payload is None:
        raise RepositoryError("missing", name, "the catalog names no payload for it")
    arrived = 0
    tasks: set[asyncio.Task[None]] = set()

    def progress(size: int) -> None:
        nonlocal arrived
        arrived += size
        state = PackedState(product=line.product.id, version=line.release.version, state="fetching", bytes=arrived)
        task = asyncio.ensure_future(_tell(told, state))
        tasks.add(task)
        task.add_done_callback(tasks.discard)

    path = await fetcher.fetch(line.issue.base, payload, progress)
    await asyncio.gather(*tasks)
    await asyncio.to_thread(check_identity, path, line.product, line.release.version, payload.path)
    return path


async def _tell(told: Told, state: PackedState) -> None:
    await told(state)


def write_repository(
    folder: Path,
    good: Sequence[tuple[Packed, Path]],
    issues: Sequence[Issue],
    keys: SealKeys,
    now: datetime.datetime,
) -> datetime.datetime:
    """Write the repository out and seal it; returns when the seal ends. Raises OSError."""
    expires = now.replace(microsecond=0) + datetime.timedelta(days=SEAL_DAYS)
    with tempfile.TemporaryDirectory(prefix="ordnung-pack-") as scratch:
        contents = [
            Content(path=line.release.payload.path, source=path)
            for line, path in good
            if line.release.payload is not None
        ]
        packing = Path(scratch) / "packing.json"
        packing.write_text(json.dumps(packing_document([line for line, _ in good]), indent=2) + "\n")
        contents.append(Content(path="packing.json", source=packing))
        for issue in used_issues(good, issues):
            path = Path(scratch) / f"{issue.catalog}-{issue.issue}.json"
            path.write_bytes(write_catalog(issue))
            contents.append(Content(path=f"catalogs/{path.name}", source=path))
        write_out(folder, contents, keys, expires)
    return expires


def used_issues(good: Sequence[tuple[Packed, Path]], issues: Sequence[Issue]) -> list[Issue]:
    """The issues that speak of what is packed: they travel with it."""
    used = {line.product.id for line, _ in good}
    return [issue for issue in issues if any(product.id in used for product in issue.products)]


def packing_document(packed: Sequence[Packed]) -> dict[str, object]:
    """The packing list as it lies in a repository, ``ordnung.packing/1``."""
    return {
        "format": "ordnung.packing/1",
        "payloads": [
            {
                "product": line.product.id,
                "version": line.release.version,
                "path": line.release.payload.path if line.release.payload else None,
                "sha256": line.release.payload.sha256 if line.release.payload else None,
                "reasons": list(line.reasons),
                "servers": list(line.servers),
            }
            for line in packed
        ],
    }
