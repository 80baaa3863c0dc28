"""The payload server's own process (``store/serving.py``): lines of JSON come in, and go out."""

from __future__ import annotations

import asyncio
import base64
import dataclasses
import errno
import json
import sys
from pathlib import Path
from typing import Any

from ordnung.store.content import ContentStore
from ordnung.store.serve import PayloadServer
from ordnung.store.serve_disc import ServedDisc

TAKEN_S, AGAIN_S = 5.0, 0.1
"""An address is waited for so long: the process before may still be ending."""
LONGEST = 2**26
"""Bytes of a line: a run of ten thousand servers names each and every payload."""


async def serve() -> None:
    """Serve as the first line says, open and close as the next ones do, until there are no more."""
    lines = asyncio.StreamReader(limit=LONGEST)
    await asyncio.get_running_loop().connect_read_pipe(lambda: asyncio.StreamReaderProtocol(lines), sys.stdin)
    place = json.loads(await lines.readline())
    server = PayloadServer(
        ContentStore(Path(place["store"])),
        bytes.fromhex(place["secret"]),
        lambda fetched: _tell({"fetched": dataclasses.asdict(fetched)}),
        lambda token: _tell({"rung": token}),
    )
    try:
        await _listen(server, place)
    except OSError as error:
        return _tell({"failed": str(error)})
    _tell({"bases": server.bases})
    async for line in lines:
        asked = json.loads(line)
        if "open" in asked:
            server.allow(asked["open"], asked["servers"], asked["sums"], _discs(asked.get("disc")))
            _tell({"opened": asked["open"]})
        else:
            server.close_run(asked["close"])
    await server.stop()
    return None


def _discs(asked: dict[str, Any] | None) -> dict[str, ServedDisc]:
    """For each server the image, with what is its own behind it."""
    if asked is None:
        return {}
    image = Path(asked["path"])
    return {name: ServedDisc(path=image, tail=base64.b64decode(tail)) for name, tail in asked["tails"].items()}


async def _listen(server: PayloadServer, place: dict[str, Any]) -> None:
    certificate, deadline = Path(place["certificate"]), asyncio.get_running_loop().time() + TAKEN_S
    while True:
        try:
            return await server.start(place["address"], place["port"], certificate, place["plain_port"])
        except OSError as error:
            await server.stop()
            if error.errno != errno.EADDRINUSE or asyncio.get_running_loop().time() > deadline:
                raise
        await asyncio.sleep(AGAIN_S)


def _tell(what: dict[str, Any]) -> None:
    sys.stdout.write(json.dumps(what) + "\n")
    sys.stdout.flush()


if __name__ == "__main__":
    asyncio.run(serve())
