"""A server in software (QEMU) that boots a disc; its controller is a stand-in, whose resets it follows."""

from __future__ import annotations

import asyncio
import json
import os
import re
import socket
import subprocess
import threading
import time
from contextlib import suppress
from pathlib import Path

SLOW_S = 480.0
"""Everything is emulated, instruction by instruction."""
ESCAPES = re.compile(r"\x1b\[[0-9;?]*[a-zA-Z]|\x1b[()][A-Z0-9]")
GATEWAY = "10.0.2.2"
"""Where QEMU's own network shows the loopback of the machine that runs it."""


class Emulated:
    """One start of QEMU, spoken to by its serial console. Use as a context manager."""

    def __init__(self, folder: Path, *extra: str | Path) -> None:
        self.serial, self.control = folder / "serial.sock", folder / "control.sock"
        for path in (self.serial, self.control):
            path.unlink(missing_ok=True)
        self.command = [
            "qemu-system-x86_64", "-machine", "q35", "-cpu", "max", "-m", "1024", "-display", "none",
            "-serial", f"unix:{self.serial},server=on,wait=off", "-qmp", f"unix:{self.control},server=on,wait=off",
            *map(str, extra),
        ]  # fmt: skip
        self.text, self._at = "", 0
        self._new = threading.Condition()

    def __enter__(self) -> Emulated:
        # Below the rest: what is emulated has time, the journeys beside it have not.
        self.process = subprocess.Popen(self.command, preexec_fn=lambda: os.nice(5))
        self._console, self._qmp = _connect(self.serial), _connect(self.control)
        self._answers = self._qmp.makefile("rw")
        self._answers.readline()
        self.order("qmp_capabilities")
        self._reader = threading.Thread(target=self._read)
        self._reader.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.process.kill()
        self.process.wait()
        self._reader.join()
        self._console.close()
        self._answers.close()
        self._qmp.close()

    def _read(self) -> None:
        raw = b""
        with suppress(OSError):
            while piece := self._console.recv(4096):
                raw += piece
                whole = raw.decode("utf-8", "ignore")
                with self._new:
                    self.text = ESCAPES.sub("", whole)
                    self._new.notify_all()

    def expect(self, pattern: str, within_s: float = SLOW_S) -> re.Match[str]:
        """Wait for something on the console after what was last expected; fails with what is there."""
        end = time.monotonic() + within_s
        with self._new:
            while (found := re.compile(pattern).search(self.text, self._at)) is None:
                assert self._new.wait(end - time.monotonic()), f"no {pattern!r} in:\n{self.text[-3000:]}"
            self._at = found.end()
            return found

    def type(self, line: str) -> None:
        """Type a line."""
        self._console.sendall(line.encode() + b"\r")

    def answer(self, pattern: str, line: str) -> None:
        """Wait for a question and answer it."""
        self.expect(pattern)
        self.type(line)

    def order(self, command: str) -> None:
        """An order to QEMU itself (QMP)."""
        self._answers.write(json.dumps({"execute": command}) + "\n")
        self._answers.flush()
        while "return" not in (line := self._answers.readline()):
            assert line, f"{command}: QEMU has ended"


def _connect(path: Path) -> socket.socket:
    end = time.monotonic() + 20
    while True:
        one = socket.socket(socket.AF_UNIX)
        try:
            one.connect(str(path))
        except OSError:
            one.close()
            assert time.monotonic() < end, f"{path} does not open"
            time.sleep(0.05)
        else:
            return one


class Passage:
    """A port on 127.0.0.1 that leads to a stand-in's address, which the emulated network does not reach."""

    def __init__(self, live, name: str) -> None:
        self.live, self.name = live, name

    def __enter__(self) -> Passage:
        self.live.do(self._open())
        return self

    def __exit__(self, *_: object) -> None:
        self.live.do(self._close())

    async def _open(self) -> None:
        self._server = await asyncio.start_server(self._lead, "127.0.0.1", 0)
        self.port = self._server.sockets[0].getsockname()[1]

    async def _close(self) -> None:
        self._server.close()

    async def _lead(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        host, _, port = self.live.floor.urls[self.name].removeprefix("https://").partition(":")
        try:
            inner, outer = await asyncio.open_connection(host, int(port))
        except OSError:
            writer.close()
            return
        await asyncio.gather(_pump(reader, outer), _pump(inner, writer))


async def _pump(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with suppress(OSError):
        while piece := await reader.read(65536):
            writer.write(piece)
            await writer.drain()
    writer.close()


class Follower:
    """Resets the emulated server when its stand-in's log says that the server was."""

    def __init__(self, device, emulated: Emulated) -> None:
        self.device, self.emulated, self.resets = device, emulated, 0
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._follow)

    def __enter__(self) -> Follower:
        self._seen = self._count()
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _count(self) -> int:
        log = list(self.device.log)
        return sum(e["what"] == "reset" and e["kind"] in ("server reboot", "power cycle") for e in log)

    def _follow(self) -> None:
        while not self._stop.wait(0.1):
            if (now := self._count()) > self._seen:
                self._seen, self.resets = now, self.resets + 1
                self.emulated.order("system_reset")
