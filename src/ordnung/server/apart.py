"""Reading foreign files apart: in a process of its own that may use so much time and memory, and no more.

A reader that a file makes run wild, or an error in one of the libraries below it, ends that process and nobody else's
work. One helper is kept warm; for each file it forks a reader, which costs some milliseconds. Started as
``python -m ordnung.server.apart`` by whoever reads first; it ends with the process that started it.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import pickle
import resource
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import ParamSpec, TypeVar

from ordnung.formats.errors import FormatError


@dataclass(frozen=True, slots=True)
class Budget:
    """What reading one file may take: seconds of work, seconds in all, and bytes beyond what the helper has itself."""

    cpu_s: int
    wall_s: float
    memory: int


BUDGET = Budget(cpu_s=60, wall_s=90.0, memory=2 * 2**30)
"""Our largest files take a tenth of it."""
READERS = ("ordnung.formats.catalog", "ordnung.formats.csaf", "ordnung.formats.host_report", "ordnung.formats.pldm",
           "ordnung.formats.server_list", "ordnung.formats.compressed", "ordnung.repository.contents",
           "ordnung.engine.journal_lines")  # fmt: skip
"""What the helper has loaded before it forks."""
READY = b"r"
P = ParamSpec("P")
T = TypeVar("T")


def apart(reader: Callable[P, T], source: str, /, *args: P.args, **kwargs: P.kwargs) -> T:
    """What ``reader``, a function of a module, makes of a foreign file; ``source`` names the file.

    Raises:
        FormatError: reading it took more time or memory than any file of its kind may, or broke the reader.
        Exception: whatever the reader raised.
    """
    budget = BUDGET
    answer = _ask(budget, pickle.dumps((budget, reader, args, kwargs)))
    if not answer:
        most = f"{budget.cpu_s} s of work, {budget.wall_s:.0f} s in all or {budget.memory // 2**20} MiB"
        what = f"reading it took more than {most}, or broke the reader; nothing of it was taken"
        raise FormatError(source, "", what)
    error, value = pickle.loads(answer)  # noqa: S301 - of our own process
    if error is not None:
        raise error
    found: T = value
    return found


def _ask(budget: Budget, request: bytes) -> bytes:
    """The answer of a reader; nothing when it has ended without one, or takes too long."""
    ours = _helper.fork_reader()
    with ours:
        ours.settimeout(budget.wall_s)
        try:
            _send(ours, request)
            return _receive(ours)
        except OSError:
            return b""


class _Helper:
    """The helper of this process, started when it is needed first or has ended."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._control: socket.socket | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._owner = 0
        atexit.register(self.end)

    def fork_reader(self) -> socket.socket:
        """Where a new reader listens. Raises OSError when no helper can be started."""
        with self._lock:
            if self._owner != os.getpid():
                self._control = self._process = None
            return self._hand_over() or self._hand_over(anew=True) or _fail()

    def _hand_over(self, *, anew: bool = False) -> socket.socket | None:
        """None when the helper has ended meanwhile: then nothing was read yet, and another one may be asked."""
        if anew:
            self.end()
        self._control = self._control or self._start()
        ours, theirs = socket.socketpair()
        with theirs, contextlib.suppress(OSError):
            socket.send_fds(self._control, [READY], [theirs.fileno()])
        if ours.recv(1) == READY:
            return ours
        ours.close()
        return None

    def _start(self) -> socket.socket:
        ours, theirs = socket.socketpair()
        with theirs:
            command = [sys.executable, "-m", "ordnung.server.apart", str(theirs.fileno())]
            own = {name: value for name, value in os.environ.items() if not name.startswith("ORDNUNG_")}
            self._process = subprocess.Popen(
                command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, start_new_session=True, env=own
            )
        self._owner = os.getpid()
        return ours

    def end(self) -> None:
        """End the helper; it is started again when it is needed."""
        if self._control is not None and self._process is not None and self._owner == os.getpid():
            self._control.close()
            self._process.wait()
        self._control = self._process = None


def _fail() -> socket.socket:
    raise OSError("no process for reading foreign files could be started")


_helper = _Helper()


def _send(end: socket.socket, raw: bytes) -> None:
    end.sendall(len(raw).to_bytes(8, "big") + raw)


def _receive(end: socket.socket) -> bytes:
    """One message; nothing when the other side has ended before it was whole."""
    head = _exactly(end, 8)
    return _exactly(end, int.from_bytes(head, "big")) if head else b""


def _exactly(end: socket.socket, size: int) -> bytes:
    found = bytearray()
    while len(found) < size:
        piece = end.recv(min(size - len(found), 2**20))
        if not piece:
            return b""
        found += piece
    return bytes(found)


def serve(control: socket.socket) -> None:
    """Fork a reader for every end that is handed over, until nobody is there to hand one over."""
    for name in READERS:
        import_module(name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        message, ends, _, _ = socket.recv_fds(control, 1, 1)
        if not message:
            return
        if os.fork() == 0:
            control.close()
            try:
                _read_one(socket.socket(fileno=ends[0]))
            finally:  # whatever happens, a reader never goes on as the helper
                os._exit(0)
        os.close(ends[0])


def _read_one(end: socket.socket) -> None:
    end.sendall(READY)
    budget, reader, args, kwargs = pickle.loads(_receive(end))  # noqa: S301 - of our own process
    _limit(budget)
    try:
        answer = pickle.dumps((None, reader(*args, **kwargs)))
    except MemoryError:
        return
    except Exception as error:
        answer = pickle.dumps((error, None))
    _send(end, answer)


def _limit(budget: Budget) -> None:
    """Bound this process; its memory from what the helper had before."""
    with open("/proc/self/statm") as file:  # noqa: PTH123 - a path of the kernel
        size = int(file.read().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (size + budget.memory, size + budget.memory))
    resource.setrlimit(resource.RLIMIT_CPU, (budget.cpu_s, budget.cpu_s))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.nice(5)


if __name__ == "__main__":
    serve(socket.socket(fileno=int(sys.argv[1])))
