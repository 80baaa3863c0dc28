"""Whose turn it is by a run's sheet: what the engine asks before a server begins and before each reset."""

from __future__ import annotations

import dataclasses
import datetime
import threading
import time
from collections.abc import Mapping, Sequence
from typing import Any

from ordnung.core.night.recurring import find_zone
from ordnung.core.turn import Span, Turn, WaveStand, bars_reset
from ordnung.server.clock import now
from ordnung.server.house.settings import house
from ordnung.server.house.windows import zone
from ordnung.server.runs.models import AwayLease, Run, RunServer

LOOKED_S = 0.5
"""Real seconds for which what was looked up of a run is believed: a server can only begin later for it."""


def windows_of(run: Run) -> tuple[Span, ...] | None:
    """The windows of a sheet, in the house's zone; None: at any time."""
    if not run.windows:
        return None
    place = zone()
    return tuple((_moment(w["start"], place), _moment(w["end"], place)) for w in run.windows)


def _moment(text: str, place: datetime.tzinfo) -> datetime.datetime:
    return datetime.datetime.fromisoformat(text).astimezone(place)


def window_bars_reset(run: int) -> str:
    """Why no reset of a run may begin now (T9); empty when it may."""
    row = Run.objects.only("windows").get(pk=run)
    return bars_reset(windows_of(row), now().astimezone(zone())) if row.windows else ""


def wave_begins(wave: Mapping[str, Any]) -> datetime.datetime | None:
    """Before which instant none of a wave begins, as it is kept with its run; None: whenever its turn comes."""
    told = wave.get("not_before")
    return None if told is None else datetime.datetime.fromisoformat(told)


def wave_stands(run: Run, places: Sequence[RunServer] | None = None) -> tuple[WaveStand, ...]:
    """How each wave of a run stands, in order."""
    if not run.waves:
        return ()
    rows = list(run.servers.select_related("server")) if places is None else places
    place, share = _told_by_house()
    return tuple(_stand(run, wave, [r for r in rows if r.wave == wave["name"]], place, share) for wave in run.waves)


ALL = "all"
"""By this name everybody on a sheet without waves is let go on."""


def whole_stand(run: Run, places: Sequence[RunServer]) -> WaveStand:
    """How a sheet without waves stands, as one: only that too many of it failed matters, and one is not too many."""
    wave: dict[str, object] = {"name": "", "wait_seconds": 0, "gate": "none"}
    found = _stand(run, wave, places, *_told_by_house())
    return dataclasses.replace(found, opened=ALL in run.opened, failed=found.failed if found.failed > 1 else 0)


def _told_by_house() -> tuple[datetime.tzinfo, float]:
    """Its zone, and which share of a wave may fail."""
    home = house()
    return find_zone(home.zone), home.stop_share / 100


def _stand(
    run: Run, wave: dict[str, object], rows: Sequence[RunServer], place: datetime.tzinfo, share: float
) -> WaveStand:
    """How one wave stands. One in which nobody goes is passed over with its wait and its gate (A22)."""
    ended = [row.since for row in rows if row.ended and row.since is not None]
    return WaveStand(
        name=str(wave["name"]),
        working=tuple(row.server.name for row in rows if not row.ended),
        troubled=tuple(row.server.name for row in rows if row.ended in ("failed", "left over", "stopped")),
        ended_at=max(ended).astimezone(place) if ended else None,
        wait_seconds=float(str(wave["wait_seconds"])) if rows else 0.0,
        gate=wave["gate"] == "person" and bool(rows),
        opened=wave["name"] in run.opened,
        failed=sum(row.ended == "failed" for row in rows),
        servers=len(rows),
        stop_share=share,
    )


class Turns:
    """Turns of servers, looked up a few times a second however many of a run are asked for."""

    def __init__(self) -> None:
        self._known: dict[int, tuple[float, dict[str, Turn]]] = {}
        self._lock = threading.Lock()

    def of(self, run: int, server: str) -> Turn:
        """The turn of a server; of one that has its place already, nothing is asked any more."""
        if AwayLease.objects.filter(run_id=run, server__name=server, ahead=False).exists():
            return Turn(server=server)
        with self._lock:
            asked, known = self._known.get(run, (0.0, {}))
            if time.monotonic() - asked > LOOKED_S or server not in known:
                known = turns_of(Run.objects.get(pk=run))
                self._known[run] = (time.monotonic(), known)
        return known.get(server, Turn(server=server))


def turns_of(run: Run) -> dict[str, Turn]:
    """The turns of all servers of a run."""
    rows = list(run.servers.select_related("server"))
    stands, windows, place = wave_stands(run, rows), windows_of(run), zone()
    before = {stand.name: stands[:number] for number, stand in enumerate(stands)}
    own = {stand.name: stand for stand in stands} or {"": whole_stand(run, rows)}
    begins = {wave["name"]: wave_begins(wave) for wave in run.waves}
    return {
        row.server.name: Turn(
            server=row.server.name,
            wave=row.wave,
            before=before.get(row.wave, ()),
            own=own.get(row.wave),
            windows=windows,
            needs_seconds=row.needs_seconds,
            not_before=_later(row.not_before, begins.get(row.wave), place),
        )
        for row in rows
    }


def _later(
    own: datetime.datetime | None, of_wave: datetime.datetime | None, place: datetime.tzinfo
) -> datetime.datetime | None:
    """What is wished of a server and of its wave: the later of both."""
    return max((moment.astimezone(place) for moment in (own, of_wave) if moment is not None), default=None)
