"""The engine's journal in a file, ``ordnung.journal/1``: a line of JSON for each entry, durable before it counts.

Its lines are those of ``engine.journal_lines`` (docs/formats/journal.md). A line that power was lost in has no end: it
never counted and is cut off when the file is opened again. Anything else that can't be read is an error, and nothing
is done.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, Self

from ordnung.core.away import AwayLimits, may_begin
from ordnung.engine.entries import Entry, PlaceTaken, TapeEntry
from ordnung.engine.entry_codec import VERSION, write_entry
from ordnung.engine.journal_lines import FORMAT, Journaled, OpenedRun
from ordnung.engine.ports import Clock, NoPlaceError, RecordsOutError, TapeConflictError
from ordnung.engine.tape import advance
from ordnung.engine.tape_state import TapeState
from ordnung.formats.errors import FormatError

MOST_BYTES = 1024 * 1024 * 1024


class JournalBusyError(Exception):
    """Another process works with this journal."""


class FileJournal:
    """Tapes in one file, held by one process at a time. Use as a context manager."""

    def __init__(self, path: Path, clock: Clock, limits: AwayLimits | None = None) -> None:
        self.path, self.clock, self.limits = path, clock, limits or AwayLimits()
        self._kept = Journaled()
        self.heard: Callable[[Entry], None] = lambda _: None
        """Told of each entry once it is durable."""
        self._file, self._end = -1, 0

    def __enter__(self) -> Self:
        """Open it, making it where there is none.

        Raises:
            JournalBusyError: another process holds it.
            FormatError: it can't be read; the line is named.
            OSError: it can't be opened or written.
        """
        self._file = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self._take_up()
        except BlockingIOError:
            os.close(self._file)
            raise JournalBusyError(f"{self.path}: another ordnung works with this journal; wait for its end") from None
        except BaseException:
            os.close(self._file)
            raise
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self._file)

    @property
    def runs(self) -> list[OpenedRun]:
        """The runs in the order in which they were opened."""
        return self._kept.runs

    def tape(self, run: str, server: str) -> list[Entry]:
        """The entries so far of a server in a run."""
        return self._kept.tape(run, server)

    def state(self, run: str, server: str) -> TapeState:
        """What they add up to."""
        return self._kept.state(run, server)

    def open_run(self, opened: OpenedRun) -> None:
        """Begin a run; ``opened.run`` must be new. Raises OSError when it can't be written."""
        body = {"server": opened.server, "repository": opened.repository, "edition": opened.edition}
        body |= {"packing": opened.packing, "back": opened.back, "left_out": opened.left_out}
        body |= {"rules": opened.rules} if opened.rules else {}
        self._write({"opened": opened.run, "at": opened.at.isoformat(), **body})
        self.runs.append(opened)

    async def load(self, run: str, server: str) -> list[Entry]:
        """The tape so far."""
        return self.tape(run, server)

    async def append(self, run: str, server: str, seq: int, value: TapeEntry) -> Entry:
        """Add one entry; when this returns it would survive a power cut.

        Raises:
            TapeConflictError: its number is taken.
            NoPlaceError: a place was to be taken that the limits don't allow.
            RecordsOutError: it could not be written; what counts in the file is what counted before.
        """
        before = self.state(run, server)
        if before.seq != seq - 1:
            raise TapeConflictError(f"{server}: entry {seq} of run {run} is taken")
        if isinstance(value, PlaceTaken):
            places = [state.place for state in self._kept.states.values() if state.place is not None]
            refusal = may_begin(places, self.limits, value.place)
            if refusal is not None:
                raise NoPlaceError(refusal)
        entry = Entry(seq=seq, at=self.clock.now(), value=value)
        after = advance(before, entry)
        kind, body = write_entry(value)
        line = {"run": run, "server": server, "seq": seq, "at": entry.at.isoformat(), "version": VERSION}
        try:
            self._write({**line, "kind": kind, "body": body})
        except OSError as error:
            raise RecordsOutError(f"{self.path}: {error.strerror or error}") from error
        self._kept.keep(run, server, entry, after)
        self.heard(entry)
        return entry

    def _write(self, line: Mapping[str, Any]) -> None:
        """One line at the end of what counts; whatever a failed write left behind it is gone."""
        raw = json.dumps(line, ensure_ascii=True, separators=(",", ":")).encode() + b"\n"
        try:
            os.ftruncate(self._file, self._end)
            written = os.pwrite(self._file, raw, self._end)
            if written != len(raw):
                raise OSError(28, "no room for the journal", str(self.path))
            os.fsync(self._file)
        except OSError:
            with contextlib.suppress(OSError):  # else the next write does it first
                os.ftruncate(self._file, self._end)
            raise
        self._end += len(raw)

    def _take_up(self) -> None:
        if os.fstat(self._file).st_size > MOST_BYTES:
            raise FormatError(str(self.path), "", f"larger than {MOST_BYTES // 2**20} MiB: this is no journal")
        raw = self.path.read_bytes()
        whole = raw[: raw.rfind(b"\n") + 1]
        for number, line in enumerate(whole.split(b"\n")[:-1], start=1):
            self._kept.read_line(str(self.path), number, line)
            self._end += len(line) + 1
        if len(whole) != len(raw):
            os.ftruncate(self._file, self._end)
        if not whole:
            self._write({"format": FORMAT})
            _settle_name(self.path.parent)


def _settle_name(folder: Path) -> None:
    """Make the new file's name in its folder survive a power cut."""
    place = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(place)
    finally:
        os.close(place)
