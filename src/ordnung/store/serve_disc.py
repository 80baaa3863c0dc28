"""A disc image as a controller gets it: the image, and behind it what is for one server alone. In ranges, as asked."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from pathlib import Path

from aiohttp import web

from ordnung.store.copying import CHUNK

SILENT_S = 60.0
"""A piece that nobody takes for so long ends the answer: a controller that reads on asks again."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ServedDisc:
    """An image in a file, and what follows it."""

    path: Path
    tail: bytes = b""

    @property
    def size(self) -> int:
        """In bytes, all in all. Raises OSError."""
        return self.path.stat().st_size + len(self.tail)

    def read(self, start: int, size: int) -> bytes:
        """So many bytes from a place on, or up to the end. Raises OSError."""
        body = self.path.stat().st_size
        found = b""
        if start < body:
            with self.path.open("rb") as file:
                file.seek(start)
                found = file.read(min(size, body - start))
        begins = max(0, start + len(found) - body)
        return found + self.tail[begins : begins + size - len(found)] if len(found) < size else found


async def send_disc(request: web.Request, disc: ServedDisc) -> web.StreamResponse:
    """Send it, or the one range of it that is asked for (RFC 9110, 14.2). Raises HTTPException."""
    try:
        size = await asyncio.to_thread(lambda: disc.size)
    except OSError:
        raise web.HTTPNotFound(text="not here\n") from None
    start, end, is_part = _span(request, size)
    headers = {
        "Content-Type": "application/octet-stream", "Cache-Control": "no-store", "Accept-Ranges": "bytes",
        "Content-Length": str(end - start),
    }  # fmt: skip
    if is_part:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{size}"
    answer = web.StreamResponse(status=206 if is_part else 200, headers=headers)
    await answer.prepare(request)
    if request.method == "HEAD":
        return answer
    while start < end:
        piece = await asyncio.to_thread(disc.read, start, min(CHUNK, end - start))
        if not piece:
            raise ConnectionResetError("the image became shorter while it was sent")
        async with asyncio.timeout(SILENT_S):
            await answer.write(piece)
        start += len(piece)
    await answer.write_eof()
    return answer


def _span(request: web.Request, size: int) -> tuple[int, int, bool]:
    """First byte, the one after the last, and whether that is a part. Several ranges at once are sent whole."""
    asked = request.headers.get("Range")
    if asked is None or "," in asked:
        return 0, size, False
    try:
        span = request.http_range
    except ValueError:
        span = slice(size, None)
    start = span.start if span.start is not None else 0
    start = max(0, size + start) if start < 0 else start
    end = min(span.stop if span.stop is not None else size, size)
    if start >= end:
        raise web.HTTPRequestRangeNotSatisfiable(headers={"Content-Range": f"bytes */{size}"})
    return start, end, True
