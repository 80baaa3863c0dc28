"""A site's proxy: it only tunnels (RFC 9110 clause 9.3.6, CONNECT), and remembers for whom."""

from __future__ import annotations

import asyncio
import contextlib


class Proxy:
    """Listens on a free port of loopback; ``refuses`` makes it answer 403."""

    def __init__(self) -> None:
        self.tunnels: list[str] = []
        self.refuses = False
        self.url = ""
        self._server: asyncio.Server | None = None

    async def start(self) -> None:
        """Begin to listen."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        self.url = f"http://127.0.0.1:{self._server.sockets[0].getsockname()[1]}"

    async def stop(self) -> None:
        """Stop listening; tunnels under way end with their connections."""
        if self._server is not None:
            self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError):
            head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1")
            method, target, _ = head.split("\r\n", 1)[0].split(" ")
            if method != "CONNECT" or self.refuses:
                writer.write(b"HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\n\r\n")
                await writer.drain()
            else:
                self.tunnels.append(target)
                host, _, port = target.rpartition(":")
                there = await asyncio.open_connection(host, int(port))
                writer.write(b"HTTP/1.1 200 Connection established\r\n\r\n")
                await asyncio.gather(_pour(reader, there[1]), _pour(there[0], writer))
        writer.close()


async def _pour(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with contextlib.suppress(OSError):
        while piece := await reader.read(65536):
            writer.write(piece)
            await writer.drain()
    with contextlib.suppress(OSError):
        writer.close()
