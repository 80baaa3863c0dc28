"""Fetch what a packing list names and make sure that each payload is what it claims."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from ordnung.core.packing import Packed
from ordnung.repository import Fetcher, check_identity, check_payload_signature
from ordnung.store import RepositoryError

Keys = Mapping[str, Mapping[str, bytes]]
"""Trusted public keys by maker and name."""


@dataclass(frozen=True, slots=True, kw_only=True)
class PackedState:
    """How far one line of the packing list is: waiting, fetching, packed or refused.

    ``signer`` is the trusted key that signed the payload, empty where none did.
    """

    product: str
    version: str
    state: str
    bytes: int = 0
    message: str = ""
    signer: str = ""


Report = Callable[[PackedState], Awaitable[None]]


async def fetch_all(
    packed: Sequence[Packed],
    fetcher: Fetcher,
    report: Report,
    keys: Keys | None = None,
    proxies: Mapping[str, str] | None = None,
) -> list[tuple[Packed, Path]]:
    """Fetch and identify every payload; returns those that are good.

    A payload that is missing or not what it claims is told as refused; the others go on.

    Args:
        proxies: the proxy by which a catalog's own base is reached.
    """
    good: list[tuple[Packed, Path]] = []

    async def one(line: Packed) -> None:
        product, version = line.name
        try:
            path, signer = await _fetch_one(line, fetcher, report, keys or {}, proxies or {})
        except RepositoryError as error:
            await report(PackedState(product=product, version=version, state="refused", message=str(error)))
            return
        await report(PackedState(product=product, version=version, state="packed", bytes=line.size, signer=signer))
        good.append((line, path))

    await asyncio.gather(*(one(line) for line in packed))
    return sorted(good, key=lambda pair: pair[0].name)


async def _fetch_one(
    line: Packed, fetcher: Fetcher, report: Report, keys: Keys, proxies: Mapping[str, str]
) -> tuple[Path, str]:
    payload, name = line.release.payload, f"{line.product.name} {line.release.version}"
    if payload is None:
        raise RepositoryError("missing", name, line.release.lacks)
    # Before a byte is fetched: a signature by an unknown key is a refusal whatever comes.
    signer = check_payload_signature(payload, name, keys.get(line.issue.maker, {}))
    loop = asyncio.get_running_loop()
    arrived = 0
    tasks: set[asyncio.Task[None]] = set()

    def tell_on() -> None:
        state = PackedState(product=line.product.id, version=line.release.version, state="fetching", bytes=arrived)
        task = asyncio.ensure_future(_tell(report, state))
        tasks.add(task)
        task.add_done_callback(tasks.discard)

    def progress(size: int) -> None:
        nonlocal arrived
        arrived = max(0, arrived + size)
        loop.call_soon_threadsafe(tell_on)

    try:
        path = await fetcher.fetch(line.issue.base, payload, progress, proxies.get(line.issue.base, ""))
    finally:
        await asyncio.sleep(0)  # progress told from a thread comes first: what is said last must be how it ended
        await asyncio.gather(*tasks)
    await asyncio.to_thread(check_identity, path, line.product, line.release.version, payload.path)
    return path, signer


async def _tell(report: Report, state: PackedState) -> None:
    await report(state)
