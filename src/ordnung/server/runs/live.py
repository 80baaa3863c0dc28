"""Runs under way as many people watch them: what changed is made once, however many look.

A run of five hundred servers is a megabyte of lanes and takes a tenth of a second to read. The events say which of
its servers have gone on since; only those are read again. Kept in each web process, and as new as the newest event.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Collection
from typing import cast

import orjson

from ordnung.server.audit.recording import UNDONE
from ordnung.server.compression import Packed, pack
from ordnung.server.runs.approvals import ApprovalRow, approval_rows
from ordnung.server.runs.derived import load_acts
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.rows import RunRow, RunServerRow, lane_row, with_lanes
from ordnung.server.shapes import write_json
from ordnung.server.work.events import KEEP, newest_event
from ordnung.server.work.models import Event

KEPT_S = 60.0
"""Real seconds after which all lanes are made anew, for what no event tells of."""
MOST_TOLD = 60
"""So many lanes are told to open pages at once; of more they had better ask for the whole."""
ITS_OWN = ("lane", "places", "step")
"""Events of one server of one run."""
OF_ALL = ("house", "repositories")
"""Events after which any lane may be another."""


class LiveRun:
    """One run under way, with its lanes as they are sent."""

    def __init__(self, pk: int) -> None:
        self._pk = pk
        self._lock = threading.Lock()
        self._event = -1
        self._made = 0.0
        self._places: dict[str, RunServer] = {}
        self._lanes: dict[str, bytes] = {}
        self._approvals: list[ApprovalRow] = []
        self._untold: set[str] = set()
        """Servers whose lanes became others since ``part`` was last asked for."""
        self._packed: tuple[tuple[int, float], Packed] | None = None
        """The whole of it, with the event and the moment as of which it was made."""

    def whole(self) -> Packed:
        """The run as it stands."""
        known, is_fresh = self._packed, time.monotonic() - self._made <= KEPT_S
        if known is not None and is_fresh and known[0] == (newest_event(), self._made):
            return known[1]
        with self._lock:
            return self._pack(self._renew())

    def part(self) -> RunRow | None:
        """The same with only those lanes that are others than when it was asked for last; None if they are many."""
        with self._lock:
            run = self._renew()
            untold, self._untold = self._untold, set()
            return None if len(untold) > MOST_TOLD else self._with(run, untold)

    def _pack(self, run: Run) -> Packed:
        """Made once for all who ask before anything else happens."""
        as_of = (self._event, self._made)
        if self._packed is None or self._packed[0] != as_of:
            self._packed = (as_of, pack(write_json(self._with(run, self._lanes))))
        return self._packed[1]

    def _with(self, run: Run, names: Collection[str]) -> RunRow:
        lanes = [orjson.Fragment(lane) for name, lane in self._lanes.items() if name in names]
        return with_lanes(
            run, list(self._places.values()), cast(list[RunServerRow], lanes), self._approvals, self._event
        )

    def _renew(self) -> Run:
        newest = newest_event()  # before the rows: they are at least as new
        run = Run.objects.get(pk=self._pk)
        names = self._concerned(newest)
        if names is None:
            self._made = time.monotonic()
            self._approvals = approval_rows(run)
        if names is None or names:
            self._read(run, names)
        self._event = newest
        return run

    def _concerned(self, newest: int) -> set[str] | None:
        """The servers that events since the last time name; None for all of them."""
        if self._event < 0 or not 0 <= newest - self._event < KEEP or time.monotonic() - self._made > KEPT_S:
            return None
        names: set[str] = set()
        events = Event.objects.filter(pk__gt=self._event, pk__lte=newest)
        for topic, body in events.values_list("topic", "body"):
            if topic in OF_ALL or (topic == "runs" and body.get("id", self._pk) == self._pk):
                return None
            if topic in ITS_OWN and body.get("run") == self._pk:
                names.add(body["server"])
                if topic != "step":
                    # It may have been read, and told, before its event: a page then puts an older step over it.
                    self._untold.add(body["server"])
            if topic == "readings":
                if "servers" not in body:
                    return None
                names.update(name for name in body["servers"] if name in self._places)
        return names

    def _read(self, run: Run, names: set[str] | None) -> None:
        rows = run.servers.select_related("server")
        acts = load_acts(run, names)
        for place in rows if names is None else rows.filter(server__name__in=names):
            name = place.server.name
            lane = write_json(lane_row(run, place, acts.get(name, ())))
            if self._lanes.get(name) != lane:
                self._untold.add(name)
            self._places[name], self._lanes[name] = place, lane


_lock = threading.Lock()
_kept: dict[int, LiveRun] = {}


def live_answer(run: Run) -> Packed:
    """A run under way as it stands: only what has changed since somebody last looked is made."""
    return _live(run).whole()


def tell_part(run: Run) -> RunRow | None:
    """What open pages are told of a started run that has gone on: as it stands, with the lanes that became others.

    None where they had better ask for all of it.
    """
    told = _live(run).part()
    if run.state == Run.State.ENDED:
        _kept.pop(run.pk, None)
    return told


def _live(run: Run) -> LiveRun:
    with _lock:
        return _kept.setdefault(run.pk, LiveRun(run.pk))


def forget() -> None:
    """Drop what is kept: it may come from rows that were rolled back, or of a database that is gone."""
    with _lock:
        _kept.clear()


UNDONE.append(forget)
