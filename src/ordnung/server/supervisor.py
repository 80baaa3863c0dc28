"""Start the processes of a site, wait until they answer, watch them, stop them all."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

WAIT_S = 60.0
STOP_S = 8.0


class SupervisorError(Exception):
    """A site can't be started or has lost a process; the sentence says which and why."""


@dataclass
class Child:
    """One supervised process."""

    name: str
    process: subprocess.Popen
    log: Path


@dataclass
class Supervisor:
    """Owns the children; they end with it."""

    home: Path
    environment: Mapping[str, str]
    children: list[Child] = field(default_factory=list)
    stopping: bool = False

    def __post_init__(self) -> None:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._on_signal)

    def start(self, name: str, *command: str) -> Child:
        """Start one process; its output goes to a log of its own."""
        logs = self.home / "logs"
        logs.mkdir(parents=True, exist_ok=True)
        log = logs / f"{name}.log"
        with log.open("wb") as out:
            process = subprocess.Popen(
                [sys.executable, "-m", *command],
                env={**os.environ, **self.environment},
                stdout=out,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )
        child = Child(name, process, log)
        self.children.append(child)
        return child

    def wait_until(self, child: Child, ready: Callable[[], bool]) -> None:
        """Wait until a child is ready. Raises SupervisorError when it dies or takes too long."""
        end = time.monotonic() + WAIT_S
        while not ready():
            self.check()
            if self.stopping:
                raise SupervisorError("Stopped before everything was up.")
            if time.monotonic() > end:
                raise SupervisorError(f"{child.name} did not answer within {WAIT_S:.0f} s; see {child.log}.")
            time.sleep(0.05)

    def check(self) -> None:
        """Raises SupervisorError when a child has died."""
        for child in self.children:
            code = child.process.poll()
            if code is not None and not self.stopping:
                last = child.log.read_text(errors="replace").strip().splitlines()
                told = f" Its last words: {last[-1]}" if last else ""
                raise SupervisorError(f"{child.name} ended with status {code}.{told} See {child.log}.")

    def watch(self) -> None:
        """Watch until a signal asks to stop. Raises SupervisorError when a child dies."""
        while not self.stopping:
            self.check()
            time.sleep(0.2)

    def _on_signal(self, _number: int, _frame: object) -> None:
        self.stopping = True

    def stop(self) -> None:
        """Stop all children, the last started first; those that don't listen are killed."""
        self.stopping = True
        for child in reversed(self.children):
            if child.process.poll() is None:
                child.process.terminate()
        end = time.monotonic() + STOP_S
        for child in self.children:
            try:
                child.process.wait(max(0.1, end - time.monotonic()))
            except subprocess.TimeoutExpired:
                child.process.kill()
                child.process.wait()


def demand_free(address: str, port: int, what: str) -> None:
    """Raises SupervisorError when a port is taken."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((address, port))
        except OSError:
            told = f"Port {port} at {address}, which {what} needs, is taken."
            raise SupervisorError(f"{told} Stop what uses it or choose another with --port.") from None


def answers(url: str) -> bool:
    """Whether an HTTP server answers there."""
    try:
        with urllib.request.urlopen(url, timeout=2):  # noqa: S310  our own address
            return True
    except urllib.error.HTTPError:
        return True
    except OSError:
        return False


def start_site(supervisor: Supervisor, host: str, port: int) -> str:
    """Migrate, then start web and engine; returns the address. Raises SupervisorError."""
    demand_free(host, port, "the web server")
    ready = supervisor.home / "engine.ready"
    ready.unlink(missing_ok=True)
    migrated = subprocess.run(
        [sys.executable, "-m", "ordnung.server.manage", "migrate", "--verbosity", "0"],
        env={**os.environ, **supervisor.environment},
        capture_output=True,
        text=True,
        check=False,
    )
    if migrated.returncode:
        raise SupervisorError(f"The database can't be brought up to date: {migrated.stderr.strip().splitlines()[-1]}")
    web = supervisor.start("web", "ordnung.server.web", "--host", host, "--port", str(port))
    engine = supervisor.start("engine", "ordnung.server.engine")
    url = f"http://{host}:{port}"
    supervisor.wait_until(engine, ready.exists)
    supervisor.wait_until(web, lambda: answers(f"{url}/api/v1/me"))
    return url
