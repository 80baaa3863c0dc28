"""The lines of a journal in a file, ``ordnung.journal/1``, and what they add up to (docs/formats/journal.md).

The first line names the format; then runs are opened, and their entries follow in the order in which they were made.
The field kit writes them (``fieldkit.journal``) and goes on by them; a site takes them in as runs of its record.
"""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from ordnung.engine.entries import Entry
from ordnung.engine.entry_codec import TapeFormatError, read_entry
from ordnung.engine.tape import advance
from ordnung.engine.tape_state import TapeState
from ordnung.formats.errors import FormatError

FORMAT = "ordnung.journal/1"


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenedRun:
    """What a run of the field kit was opened for, so that it can be gone on with in the same sense.

    ``packing`` is the checksum of the repository's packing list; ``back`` as in ``RunServer``; ``left_out`` are slots
    with the reason why they stay as they are; ``rules`` is the checksum of the rules that held instead of the
    repository's own, empty where those held.
    """

    run: str
    server: str
    at: datetime.datetime
    repository: str
    edition: int
    packing: str
    back: Mapping[str, str] | None = None
    left_out: Mapping[str, str] | None = None
    rules: str = ""


@dataclass(slots=True)
class Journaled:
    """Runs in the order in which they were opened, with the tape of each and its state."""

    runs: list[OpenedRun] = field(default_factory=list)
    tapes: dict[tuple[str, str], list[Entry]] = field(default_factory=dict)
    states: dict[tuple[str, str], TapeState] = field(default_factory=dict)

    def tape(self, run: str, server: str) -> list[Entry]:
        """The entries so far of a server in a run."""
        return list(self.tapes.get((run, server), ()))

    def state(self, run: str, server: str) -> TapeState:
        """What they add up to."""
        return self.states.get((run, server), TapeState())

    def keep(self, run: str, server: str, entry: Entry, after: TapeState) -> None:
        """Add an entry with the state that it leads to."""
        self.tapes.setdefault((run, server), []).append(entry)
        self.states[run, server] = after

    def read_line(self, source: str, number: int, line: bytes) -> None:
        """Take a line up. Raises FormatError, naming it, for one that can't be read or does not follow."""
        where = f"line {number}"
        try:
            body = json.loads(line)
            if number == 1:
                if body != {"format": FORMAT}:
                    raise FormatError(source, where, f"it does not begin with {FORMAT}: this is no journal")
            elif "opened" in body:
                self.runs.append(_read_opened(body))
            else:
                self._read_entry(body)
        except FormatError:
            raise
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError, TapeFormatError) as error:
            raise FormatError(source, where, f"it can't be read: {error}; nothing was done") from None

    def _read_entry(self, body: Mapping[str, Any]) -> None:
        at = _moment(body["at"])
        entry = read_entry(int(body["seq"]), at, int(body["version"]), body["kind"], body["body"])
        run, server = str(body["run"]), str(body["server"])
        before = self.state(run, server)
        if before.seq != entry.seq - 1:
            raise ValueError(f"entry {entry.seq} follows on {before.seq}")
        self.keep(run, server, entry, advance(before, entry))


def read_journal(raw: bytes, source: str) -> Journaled:
    """A whole journal. A last line without its end never counted, and is passed over.

    Raises:
        FormatError: it is none, or a line of it can't be read.
    """
    lines = raw.split(b"\n")[:-1]
    if not lines:
        raise FormatError(source, "", f"it does not begin with {FORMAT}: this is no journal")
    found = Journaled()
    for number, line in enumerate(lines, start=1):
        found.read_line(source, number, line)
    return found


def _moment(text: str) -> datetime.datetime:
    found = datetime.datetime.fromisoformat(text)
    if found.tzinfo is None:
        raise ValueError(f"{text} has no zone")
    return found


def _read_opened(body: Mapping[str, Any]) -> OpenedRun:
    return OpenedRun(
        run=str(body["opened"]), server=str(body["server"]), at=_moment(body["at"]),
        repository=str(body["repository"]), edition=int(body["edition"]), packing=str(body["packing"]),
        back=_pairs(body["back"]), left_out=_pairs(body["left_out"]),
        rules=str(body.get("rules", "")),
    )  # fmt: skip


def _pairs(body: Mapping[str, str] | None) -> dict[str, str] | None:
    return None if body is None else {str(slot): str(value) for slot, value in body.items()}
