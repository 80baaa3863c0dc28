"""A maker's content site: catalogs and payloads over HTTPS, with ranges, and with faults of its own."""

from __future__ import annotations

from pathlib import Path

from aiohttp import web

FAULT_KINDS = ("altered", "cut short", "dead")


class Mirror:
    """Serves a folder. ``faults`` maps a path to what is wrong with it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.faults: dict[str, str] = {}
        self.requests: list[str] = []

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
        return web.FileResponse(file)
