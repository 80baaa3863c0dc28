"""One file over HTTP: gone on with where it broke off, its length watched while it comes."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from pathlib import Path

import aiohttp

from ordnung.repository.egress import UNREACHABLE, MirrorLine
from ordnung.store.copying import CHUNK, Progress
from ordnung.store.errors import RepositoryError, no_room

GONE = (403, 404, 410)


class Pace:
    """Holds a stream back to so many bytes a second, however many share it; 0 is no limit."""

    def __init__(
        self,
        bytes_per_s: float = 0,
        now: Callable[[], float] = time.monotonic,
        sleep: Callable[[float], Awaitable[object]] = asyncio.sleep,
    ) -> None:
        self.bytes_per_s, self._now, self._sleep = bytes_per_s, now, sleep
        self._free_at = 0.0

    async def take(self, size: int) -> None:
        """Wait until ``size`` more bytes may have gone by."""
        if not self.bytes_per_s:
            return
        start = max(self._now(), self._free_at)
        self._free_at = start + size / self.bytes_per_s
        wait = self._free_at - self._now()
        if wait > 0:
            await self._sleep(wait)


async def collect(
    line: MirrorLine,
    url: str,
    into: Path,
    size: int,
    name: str,
    report: Progress,
    *,
    proxy: str = "",
    pace: Pace | None = None,
) -> None:
    """Bring ``into`` to ``size`` bytes; what is there already is not asked for again.

    Its checksum is for the caller to look at. What has come stays in ``into`` when this breaks off,
    unless it can't be right.

    Args:
        told: called with the bytes that have just arrived; with a negative number when the other side
            begins anew and what was told before doesn't count.

    Raises:
        RepositoryError: ``unreachable`` (may be tried again), ``foreign``, ``missing``, ``cut short`` (the other side
            has less than ``size``), ``altered`` (it has more), ``no room``.
    """
    have = _length(into)
    if have > size:
        into.unlink()
        have = 0
    if have == size:
        return
    headers = {"Range": f"bytes={have}-"} if have else {}
    try:
        async with line.ask(url, headers, proxy, name=name) as answer:
            if answer.status == 416:
                raise RepositoryError("cut short", name, f"there are no more than {have} of {size} bytes there")
            if answer.status not in (200, 206):
                code = "missing" if answer.status in GONE else "unreachable"
                raise RepositoryError(code, name, f"the mirror answered {answer.status}")
            if have and answer.status == 200:
                report(-have)
                have = 0
            have = await _receive(answer, into, have, size, name, report, pace)
    except aiohttp.ClientPayloadError:
        told_ = f"the line broke after {_length(into)} of {size} bytes; the next try goes on from there"
        raise RepositoryError("unreachable", name, told_) from None
    except OSError as error:
        raise no_room(error, name) or RepositoryError("unreachable", name, UNREACHABLE) from None
    if have < size:
        raise RepositoryError("cut short", name, f"{have} of {size} bytes came: the mirror's copy is cut short")


def _length(path: Path) -> int:
    return path.stat().st_size if path.is_file() else 0


async def _receive(
    answer: aiohttp.ClientResponse, into: Path, have: int, size: int, name: str, report: Progress, pace: Pace | None
) -> int:
    with into.open("ab" if have else "wb") as file:
        async for piece in answer.content.iter_chunked(CHUNK):
            have += len(piece)
            if have > size:
                file.close()
                into.unlink()
                raise RepositoryError("altered", name, "the mirror sends more than the catalog says")
            file.write(piece)
            report(len(piece))
            if pace is not None:
                await pace.take(len(piece))
    return have
