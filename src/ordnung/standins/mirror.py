"""A maker's content site: catalogs and payloads over HTTPS, with ranges, and with faults of its own."""

from __future__ import annotations

from pathlib import Path

from aiohttp import web

from ordnung.formats.offers import parse_index, write_index

FAULT_KINDS = ("altered", "cut short", "dead", "older", "broken off", "redirected")
"""``older``: an index passes the issue before the newest off as the newest; ``broken off``: the line dies half-way;
``redirected``: it says that the file lies at ``elsewhere``."""


class Mirror:
    """Serves a folder. ``faults`` maps a path to what is wrong with it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.faults: dict[str, str] = {}
        self.requests: list[str] = []
        self.elsewhere = "https://198.51.100.7/"

    def application(self) -> web.Application:
        """The aiohttp application."""
        app = web.Application()
        app.router.add_get("/{path:.+}", self._serve)
        return app

    async def _serve(self, request: web.Request) -> web.StreamResponse:
        path = request.match_info["path"]
        self.requests.append(path)
        file = (self.folder / path).resolve()
        if not file.is_relative_to(self.folder.resolve()) or not file.is_file():
            raise web.HTTPNotFound(text=f"{path} is not here\n")
        match self.faults.get(path):
            case "dead":
                raise web.HTTPServiceUnavailable(text="out of order\n")
            case "altered":
                raw = bytearray(file.read_bytes())
                raw[len(raw) // 2] ^= 0x01
                return web.Response(body=bytes(raw))
            case "cut short":
                return web.Response(body=file.read_bytes()[: file.stat().st_size // 2])
            case "older":
                return web.Response(body=_without_newest(file.read_bytes()))
            case "redirected":
                raise web.HTTPFound(self.elsewhere)
            case "broken off":
                return await _break_off(request, file.read_bytes())
        return web.FileResponse(file)


def _without_newest(raw: bytes) -> bytes:
    offers = parse_index(raw)
    newest = max(offer.issued for offer in offers)
    return write_index([offer for offer in offers if offer.issued < newest])


async def _break_off(request: web.Request, raw: bytes) -> web.StreamResponse:
    """Promise everything, send half of what was asked for, hang up."""
    start = request.http_range.start or 0
    answer = web.StreamResponse(status=206 if start else 200)
    answer.content_length = len(raw) - start
    await answer.prepare(request)
    await answer.write(raw[start : start + (len(raw) - start) // 2])
    if request.transport is not None:
        request.transport.close()
    return answer
