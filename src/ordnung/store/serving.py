"""The payload server in a process of its own: whatever comes in there, the engine goes on undisturbed.

The engine starts ``python -m ordnung.store.serve_alone`` and speaks with it over its standard streams, a line of
JSON at a time: what it is to serve, what it is to open and close; back come what was fetched and who rang. The process
ends when the engine does. One that has died is started again at the same addresses, with what was open.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import json
import sys
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import structlog

from ordnung.store.content import ContentStore
from ordnung.store.serve import Addresses, Fetched

MOST_BELLS = 1000
"""Bells waiting for a knock at once; the oldest are forgotten."""
PAUSES_S = (0.2, 1.0, 5.0, 30.0)
"""Before a server that has died is started again; the last of them from then on."""
OPENED_S, END_S = 10.0, 5.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RunDisc:
    """The disc image of a run, and by server what lies behind it there."""

    path: Path
    tails: Mapping[str, bytes]


class PayloadProcess(Addresses):
    """The engine's side: starts the server, tells it what to open, hears what was fetched."""

    def __init__(self, store: ContentStore, secret: bytes, on_fetched: Callable[[Fetched], None] | None = None) -> None:
        """``on_fetched`` is told of every request that was answered; it must not block."""
        super().__init__(secret)
        self.store, self.on_fetched = store, on_fetched
        self._open: dict[str, dict[str, Any]] = {}
        self._bells: dict[str, asyncio.Event] = {}
        self._place: dict[str, Any] = {}
        self._process: asyncio.subprocess.Process | None = None
        self._opened: dict[str, asyncio.Event] = {}
        self._watch: asyncio.Task[None] | None = None

    async def start(self, address: str, port: int, certificate: Path) -> None:
        """Listen. Raises OSError when the address or port is taken."""
        self._place = {"address": address, "port": port, "certificate": str(certificate), "plain_port": 0}
        await self._begin()
        self._watch = asyncio.create_task(self._go_on())

    async def stop(self) -> None:
        """Stop listening."""
        if self._watch is not None:
            self._watch.cancel()
            await asyncio.gather(self._watch, return_exceptions=True)
        if self._process is not None:
            await _end(self._process)

    async def allow(self, run: str, servers: Iterable[str], sums: Iterable[str], disc: RunDisc | None = None) -> None:
        """Let the controllers of a run fetch these payloads, and its disc; when this returns they can."""
        self._open[run] = {"servers": list(servers), "sums": sorted(set(sums))}
        if disc is not None:
            tails = {server: base64.b64encode(tail).decode() for server, tail in disc.tails.items()}
            self._open[run]["disc"] = {"path": str(disc.path), "tails": tails}
        if self._process is not None:
            opened = self._opened[run] = asyncio.Event()
            self._say({"open": run, **self._open[run]})
            with contextlib.suppress(TimeoutError):  # it has died: what is open is told to the next one
                async with asyncio.timeout(OPENED_S):
                    await opened.wait()

    def close_run(self, run: str) -> None:
        """End the run's paths."""
        if self._open.pop(run, None) is not None and self._process is not None:
            self._say({"close": run})

    def hang(self, protocol: str) -> tuple[str, asyncio.Event] | None:
        """A fresh address that notices a knock, and what is set then; None when not served over this protocol."""
        if protocol not in self.bases:
            return None
        token = self.new_bell()
        self._bells[token] = asyncio.Event()
        if len(self._bells) > MOST_BELLS:
            self._bells.pop(next(iter(self._bells)))
        return f"{self.bases[protocol]}/bell/{token}", self._bells[token]

    async def _begin(self) -> None:
        """Start a server and open what is to be open. Raises OSError when it can't listen."""
        command = [sys.executable, "-m", "ordnung.store.serve_alone"]
        pipe = asyncio.subprocess.PIPE
        self._process = await asyncio.create_subprocess_exec(*command, stdin=pipe, stdout=pipe, start_new_session=True)
        self._say({"store": str(self.store.root), "secret": self.secret.hex(), **self._place})
        for run, what in self._open.items():
            self._say({"open": run, **what})
        assert self._process.stdout is not None
        told = json.loads(await self._process.stdout.readline() or '{"failed": "it ended at once"}')
        if "failed" in told:
            await _end(self._process)
            raise OSError(told["failed"])
        self.bases = told["bases"]
        for protocol, name in (("HTTPS", "port"), ("HTTP", "plain_port")):
            self._place[name] = int(self.bases[protocol].rpartition(":")[2])

    async def _go_on(self) -> None:
        """Hear what the server tells; start it again when it has died."""
        deaths = 0
        while True:
            assert self._process is not None
            assert self._process.stdout is not None
            async for line in self._process.stdout:
                self._hear(json.loads(line))
            await self._process.wait()
            status, pause = self._process.returncode, PAUSES_S[min(deaths, len(PAUSES_S) - 1)]
            structlog.get_logger().error("the payload server ended", status=status, again_in_s=pause)
            deaths += 1
            await asyncio.sleep(pause)
            try:
                await self._begin()
            except OSError as error:
                structlog.get_logger().error("the payload server can't be started again", why=str(error))

    def _hear(self, told: dict[str, Any]) -> None:
        if "fetched" in told and self.on_fetched is not None:
            self.on_fetched(Fetched(**told["fetched"]))
        elif "rung" in told:
            bell = self._bells.pop(told["rung"], None)
            if bell is not None:
                bell.set()
        elif "opened" in told:
            self._opened.pop(told["opened"], asyncio.Event()).set()

    def _say(self, line: dict[str, Any]) -> None:
        assert self._process is not None
        assert self._process.stdin is not None
        if not self._process.stdin.is_closing():
            self._process.stdin.write(json.dumps(line).encode() + b"\n")


async def _end(process: asyncio.subprocess.Process) -> None:
    assert process.stdin is not None
    process.stdin.close()
    try:
        async with asyncio.timeout(END_S):
            await process.wait()
    except TimeoutError:
        process.kill()
        await process.wait()
