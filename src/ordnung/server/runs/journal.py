"""The engine's journal on the database: an entry, what follows from it, and the event that tells of it, in one
transaction. The connection runs with ``synchronous=FULL``: a commit survives a power cut.
"""

from __future__ import annotations

import threading

from django.db import IntegrityError, transaction

from ordnung.core.away import AwayLimits, may_begin
from ordnung.core.turn import may_turn
from ordnung.engine.entries import Entry, PlaceTaken, TapeEntry
from ordnung.engine.entry_codec import VERSION, write_entry
from ordnung.engine.ports import NoPlaceError, TapeConflictError
from ordnung.engine.tape import advance, fold
from ordnung.engine.tape_state import TapeState
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group
from ordnung.server.house.settings import at_once, house
from ordnung.server.runs.derived import derived_of, healing_places, load_tape, taken_places, write_derived
from ordnung.server.runs.models import TapeEntry as TapeRow
from ordnung.server.runs.records import ask_records
from ordnung.server.runs.turns import Turns
from ordnung.server.work.events import tell, tell_place


def away_limits() -> AwayLimits:
    """How many may be away of each group, rack and room, and how many are worked on at once, at this site."""
    row = house()
    groups = dict(Group.objects.values_list("name", "may_be_away"))
    return AwayLimits(groups=groups, racks=row.racks, rooms=row.rooms, at_once=at_once(row))


class DatabaseJournal:
    """Tapes as rows. Folds are remembered between two entries of one tape, and checked against its last number."""

    def __init__(self) -> None:
        self._states: dict[tuple[str, str], TapeState] = {}
        self._lock = threading.Lock()
        self._turns = Turns()

    async def load(self, run: str, server: str) -> list[Entry]:
        """The tape so far."""
        return await ask_records(load_tape, int(run), server)

    async def append(self, run: str, server: str, seq: int, value: TapeEntry) -> Entry:
        """Add one entry, durably.

        Raises:
            TapeConflictError: its number is taken.
            NoPlaceError: a place was to be taken and the sheet or the site's limits don't allow it now.
            RecordsOutError: the database can't be written just now.
        """
        return await ask_records(self.append_now, run, server, seq, value)

    def append_now(self, run: str, server: str, seq: int, value: TapeEntry) -> Entry:
        """As ``append``, for code that may block."""
        entry = Entry(seq=seq, at=now(), value=value)
        if isinstance(value, PlaceTaken) and not value.place.ahead:
            self._demand_turn(int(run), server)
        kind, body = write_entry(value)
        with self._lock:
            before = self._states.pop((run, server), None)
        try:
            with transaction.atomic():
                if before is None or before.seq != seq - 1:
                    before = fold(load_tape(int(run), server))
                    if before.seq != seq - 1:
                        raise TapeConflictError(f"{server}: entry {seq} of run {run} is taken")
                if isinstance(value, PlaceTaken):
                    self._demand_place(value)
                after = advance(before, entry)
                TapeRow.objects.create(
                    run_id=int(run), server=server, seq=seq, at=entry.at, version=VERSION, kind=kind, body=body
                )
                if derived_of(after) != derived_of(before):
                    write_derived(int(run), server, after, entry.at)
                self._tell(int(run), server, after, before)
        except IntegrityError:
            raise TapeConflictError(f"{server}: entry {seq} of run {run} is taken") from None
        if after.ended is None:
            with self._lock:
                self._states[run, server] = after
        return entry

    def _demand_turn(self, run: int, server: str) -> None:
        """Before anything is locked: hundreds may be waiting for their wave."""
        not_yet = may_turn(self._turns.of(run, server), now())
        if not_yet is not None:
            raise NoPlaceError(not_yet)

    def _demand_place(self, value: PlaceTaken) -> None:
        refusal = may_begin([*taken_places(), *healing_places()], away_limits(), value.place)
        if refusal is not None:
            raise NoPlaceError(refusal)

    def _tell(self, run: int, server: str, after: TapeState, before: TapeState) -> None:
        if derived_of(after) != derived_of(before):
            tell_place(run, server)
        else:
            tell("lane", run=run, server=server)
        if after.ended != before.ended:
            tell("work")
