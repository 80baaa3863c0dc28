"""Plays what a server runs that was started from a disc, in a process of its own for each: ``--host MODULE``.

The process is told where the image is and how the controller is reached, as a line of JSON on its standard input, and
ends when that ends. It is killed at once when its server is reset, with whatever it has started itself, and what it
had in its memory is gone: that is the folder for its temporary files.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path

from ordnung.standins.hardware import Hardware


class HostProcesses:
    """One process for each server that runs from a disc; ``urls`` are filled in once the stand-ins listen."""

    def __init__(self, module: str, folder: Path, ca: Path, urls: Mapping[str, str]) -> None:
        self.module, self.folder, self.ca, self.urls = module, folder, ca, urls
        self.running: dict[str, subprocess.Popen[bytes]] = {}

    def start(self, device: Hardware, image: str) -> None:
        """Start it; what it says is kept in a file named for its server."""
        self.stop(device)
        memory = self._memory(device.name)
        memory.mkdir(parents=True)
        told = {
            "image": image, "ca": str(self.ca), "url": self.urls[device.name], "user": device.user,
            "password": device.password,
        }  # fmt: skip
        with (self.folder / f"{device.name}.log").open("ab") as said:
            process = subprocess.Popen(
                [sys.executable, "-m", self.module], stdin=subprocess.PIPE, stdout=said, stderr=subprocess.STDOUT,
                start_new_session=True, env={**os.environ, "TMPDIR": str(memory)},
            )  # fmt: skip
        assert process.stdin is not None
        process.stdin.write(json.dumps(told).encode() + b"\n")
        process.stdin.flush()
        self.running[device.name] = process

    def stop(self, device: Hardware) -> None:
        """End it at once, as a reset does."""
        process = self.running.pop(device.name, None)
        if process is not None:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            assert process.stdin is not None
            process.stdin.close()
            process.wait()
        shutil.rmtree(self._memory(device.name), ignore_errors=True)

    def _memory(self, name: str) -> Path:
        return self.folder / f"{name}.memory"

    def stop_all(self, devices: Mapping[str, Hardware]) -> None:
        """End all of them."""
        for name in list(self.running):
            self.stop(devices[name])
