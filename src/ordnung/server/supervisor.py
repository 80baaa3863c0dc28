"""Start the processes of a site, wait until they answer, watch them, stop them all."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import socket
import sqlite3
import ssl
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Mapping
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

WAIT_S = 60.0
STOP_S = 8.0
PAUSES_S = (1.0, 2.0, 5.0, 15.0, 60.0)
"""How long to wait before a process is started again, longer each time it ends soon after its start."""
STEADY_S = 120.0
"""A process that lived so long counts as sound again."""
_PR_SET_PDEATHSIG = 1


class SupervisorError(Exception):
    """A site can't be started or has lost a process; the sentence says which and why."""


@dataclass
class Child:
    """One supervised process. ``is_essential``: without it everything stops; else it is started again."""

    name: str
    command: tuple[str, ...]
    process: subprocess.Popen[bytes]
    log: Path
    is_essential: bool = True
    started_at: float = 0.0
    failures: int = 0
    again_at: float | None = None


def die_with_parent() -> None:
    """In a child, before it begins: the kernel ends it when the supervisor is gone, however that ended.

    Linux only (``prctl(2)``, PR_SET_PDEATHSIG); elsewhere nothing happens.
    """
    parent = os.getppid()
    libc = ctypes.CDLL(None, use_errno=True)
    if hasattr(libc, "prctl"):
        libc.prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:  # it went in between
        os._exit(1)


@dataclass
class Supervisor:
    """Owns the children; they end with it.

    ``ticks`` are called several times a second while it watches. ``state_path`` tells the web process how the engine
    is: see ``write_state``.
    """

    home: Path
    environment: Mapping[str, str]
    children: list[Child] = field(default_factory=list)
    stopping: bool = False
    ticks: list[Callable[[], None]] = field(default_factory=list)

    def __post_init__(self) -> None:
        os.umask(0o077)  # what a site keeps is nobody else's on this machine
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._on_signal)

    def start(self, name: str, *command: str, is_essential: bool = True) -> Child:
        """Start ``python -m COMMAND``; its output goes to a log in the home folder."""
        log = self.home / "logs" / f"{name}.log"
        log.parent.mkdir(parents=True, exist_ok=True)
        log.unlink(missing_ok=True)
        child = Child(name, command, self._spawn(command, log), log, is_essential, time.monotonic())
        self.children.append(child)
        return child

    def _spawn(self, command: tuple[str, ...], log: Path) -> subprocess.Popen[bytes]:
        with _open_log(log) as out:
            return subprocess.Popen(
                [sys.executable, "-m", *command],
                env={**os.environ, **self.environment},
                stdout=out,
                stderr=subprocess.STDOUT,
                start_new_session=True,
                preexec_fn=die_with_parent,
            )

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
            if child.process.poll() is not None and child.again_at is None and not self.stopping:
                raise SupervisorError(f"{_tell_end(child)} See {child.log}.")

    def watch(self) -> None:
        """Watch until a signal asks to stop. Raises SupervisorError when a child dies without which nothing works."""
        while not self.stopping:
            for child in self.children:
                self._look_after(child)
            for tick in self.ticks:
                with contextlib.suppress(OSError):  # a disk that is full for a while ends nothing; it is done next time
                    tick()
            time.sleep(0.2)

    def _look_after(self, child: Child) -> None:
        """Start a child that has ended again, after a pause that grows; the essential ones are not."""
        now = time.monotonic()
        if child.again_at is not None:
            if now >= child.again_at:
                child.process, child.started_at, child.again_at = self._spawn(child.command, child.log), now, None
                self.write_state(child, "")
            return
        if child.process.poll() is None:
            return
        if child.is_essential:
            raise SupervisorError(f"{_tell_end(child)} See {child.log}.")
        child.failures = 1 if now - child.started_at > STEADY_S else child.failures + 1
        pause = PAUSES_S[min(child.failures, len(PAUSES_S)) - 1]
        child.again_at = now + pause
        self.write_state(child, f"{_tell_end(child)} It is started again in {pause:g} s.")

    def write_state(self, child: Child, trouble: str) -> None:
        """Tell the web process how a child is: a file with its trouble in words, empty while it works.

        Where there is no room for that, the web process tells of the room itself.
        """
        path = self.home / f"{child.name}.trouble"
        temporary = path.with_suffix(".new")
        with contextlib.suppress(OSError):
            temporary.write_text(trouble)
            temporary.replace(path)

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


def _open_log(log: Path) -> BinaryIO:
    """Where a child's output goes; nowhere, while its file can't be opened: better without a log than not at all."""
    try:
        return log.open("ab")
    except OSError:
        return Path(os.devnull).open("ab")


def _tell_end(child: Child) -> str:
    last = child.log.read_text(errors="replace").strip().splitlines() if child.log.exists() else []
    message = f" Its last words: {last[-1][:300]}" if last else ""
    return f"{child.name} ended with status {child.process.returncode}.{message}"


def demand_free(address: str, port: int, what: str) -> None:
    """Raises SupervisorError when a port is taken."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((address, port))
        except OSError:
            message = f"Port {port} at {address}, which {what} needs, is taken."
            raise SupervisorError(f"{message} Stop what uses it or choose another with --port.") from None


def answers(url: str) -> bool:
    """Whether an HTTP server answers there; whoever vouches for its certificate: it was just started here."""
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        with urllib.request.urlopen(url, timeout=2, context=context):  # noqa: S310  our own address
            return True
    except urllib.error.HTTPError:
        return True
    except OSError:
        return False


def _refuse_unreleased(supervisor: Supervisor) -> None:
    """A database made before the first release has other tables than its list of migrations says."""
    path = Path(supervisor.environment["ORDNUNG_HOME"]) / "ordnung.sqlite3"
    if not path.exists():
        return
    with closing(sqlite3.connect(path)) as database:
        known = database.execute("SELECT name FROM sqlite_master WHERE name = 'runs_awaylease'").fetchall()
        older = database.execute("SELECT name FROM sqlite_master WHERE name = 'runs_tapeentry'").fetchall()
    if older and not known:
        message = f"{path} was made by an earlier, unreleased Ordnung, whose tables can't be brought up to date."
        raise SupervisorError(f"{message} Move it away and begin again (make demo-fresh for the demo).")


def start_site(supervisor: Supervisor, host: str, port: int, tls: Path | None = None) -> str:
    """Migrate, then start web and engine; returns the address. Raises SupervisorError.

    Args:
        tls: key and certificate in one PEM file, to serve the site with.
    """
    demand_free(host, port, "the web server")
    ready = supervisor.home / "engine.ready"
    ready.unlink(missing_ok=True)
    _refuse_unreleased(supervisor)
    migrated = subprocess.run(
        [sys.executable, "-m", "ordnung.server.manage", "migrate", "--verbosity", "0", "--skip-checks"],
        env={**os.environ, **supervisor.environment},
        capture_output=True,
        text=True,
        check=False,
    )
    if migrated.returncode:
        raise SupervisorError(f"The database can't be brought up to date: {migrated.stderr.strip().splitlines()[-1]}")
    serving = ["--host", host, "--port", str(port), *(["--tls", str(tls)] if tls else [])]
    web = supervisor.start("web", "ordnung.server.web", *serving)
    engine = supervisor.start("engine", "ordnung.server.engine", is_essential=False)
    supervisor.write_state(engine, "")
    url = f"{'https' if tls else 'http'}://{host}:{port}"
    supervisor.wait_until(engine, ready.exists)
    supervisor.wait_until(web, lambda: answers(f"{url}/api/v1/me"))
    return url
