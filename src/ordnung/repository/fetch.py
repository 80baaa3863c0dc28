"""Fetch payloads from a maker's mirror: TLS verified, resumed where it broke off, checked on arrival."""

from __future__ import annotations

import asyncio
import shutil
import ssl
from collections.abc import Callable, Sequence
from pathlib import Path
from urllib.parse import unquote, urlsplit

import aiohttp

from ordnung.core.catalog import Payload
from ordnung.repository.errors import RepositoryError
from ordnung.repository.store import CHUNK, ContentStore

TIMEOUT_S = 600.0
Progress = Callable[[int], None]
"""Called with the bytes that have just arrived."""


class Fetcher:
    """Fetches into a store. Use as an async context manager."""

    def __init__(self, store: ContentStore, ca: str | None, folders: Sequence[Path] = ()) -> None:
        """``ca`` is the path of a CA certificate for the mirror; None means the system's.

        ``folders`` are those from which ``file:`` addresses may be taken.
        """
        self.store, self.folders = store, tuple(folder.resolve() for folder in folders)
        self.context = ssl.create_default_context(cafile=ca)
        self._http: aiohttp.ClientSession | None = None

    async def __aenter__(self) -> Fetcher:
        timeout = aiohttp.ClientTimeout(total=TIMEOUT_S, sock_connect=10, sock_read=60)
        self._http = aiohttp.ClientSession(timeout=timeout, connector=aiohttp.TCPConnector(limit_per_host=4))
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._http is not None:
            await self._http.close()

    async def fetch(self, base: str, payload: Payload, progress: Progress) -> Path:
        """The payload in the store, fetched if it is not there yet.

        Raises:
            RepositoryError: the mirror can't be reached or lacks it, or what came is cut short or
                altered. What arrived so far is kept for the next try only if it can still be right.
        """
        if self.store.has(payload.sha256):
            progress(payload.size)
            return self.store.path(payload.sha256)
        collected = self.store.partial_path(payload.sha256)
        have = collected.stat().st_size if collected.exists() else 0
        if have > payload.size:
            collected.unlink()
            have = 0
        progress(have)
        if base.startswith("file://"):
            await asyncio.to_thread(self._copy, base, payload, collected)
            progress(payload.size - have)
        elif have < payload.size:
            await self._collect(base, payload, collected, have, progress)
        return await asyncio.to_thread(self.store.adopt, payload.sha256, payload.path)

    def _copy(self, base: str, payload: Payload, into: Path) -> None:
        """From a folder on this machine that the house allows."""
        path = Path(unquote(urlsplit(base + payload.path).path)).resolve()
        if not any(path.is_relative_to(folder) for folder in self.folders):
            raise RepositoryError("foreign", payload.path, "it lies outside the folders this house allows")
        if not path.is_file():
            raise RepositoryError("missing", payload.path, "it is not in its folder any more")
        if path.stat().st_size != payload.size:
            raise RepositoryError("altered", payload.path, "its length is not what the catalog says")
        shutil.copyfile(path, into)

    async def _collect(self, base: str, payload: Payload, into: Path, have: int, progress: Progress) -> None:
        assert self._http is not None
        headers = {"Range": f"bytes={have}-"} if have else {}
        try:
            async with self._http.get(base + payload.path, ssl=self.context, headers=headers) as answer:
                if answer.status not in (200, 206):
                    what = f"the mirror answered {answer.status}"
                    raise RepositoryError("unreachable", payload.path, what)
                resumed = answer.status == 206
                with into.open("ab" if resumed else "wb") as file:
                    have = have if resumed else 0
                    async for piece in answer.content.iter_chunked(CHUNK):
                        have += len(piece)
                        if have > payload.size:
                            raise RepositoryError(
                                "altered", payload.path, "the mirror sends more than the catalog says"
                            )
                        file.write(piece)
                        progress(len(piece))
        except (aiohttp.ClientError, OSError, TimeoutError) as error:
            what = f"the mirror can't be reached ({type(error).__name__})"
            raise RepositoryError("unreachable", payload.path, what) from None
        if have < payload.size:
            into.unlink()
            what = f"{have} of {payload.size} bytes came: the mirror's copy is cut short"
            raise RepositoryError("cut short", payload.path, what)
