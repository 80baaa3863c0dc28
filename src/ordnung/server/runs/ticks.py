"""What a server of a run waits for outside, and the ticks of people who have done it (P1, P3)."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Literal

from ordnung.core.errands import Errand, ErrandKind, tell_errand
from ordnung.server.audit.recording import record
from ordnung.server.problems import Problem
from ordnung.server.runs.models import RunServer
from ordnung.server.work.events import tell_place

ErrandKindName = Literal["hands before", "hands after", "move off", "take back", "healed"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ErrandRow:
    """What is asked for outside while a server waits. ``of``: the hook that was asked, empty where a person ticks.

    ``key`` names this very one; a tick is for it and no other.
    """

    errand: ErrandKindName
    text: str
    of: str
    since: datetime.datetime
    key: str
    ticked_by: str


def errand_row(place: RunServer) -> ErrandRow | None:
    """What a server waits for outside, None when for nothing."""
    errand = errand_of_place(place)
    if errand is None or place.errand is None:
        return None
    return ErrandRow(
        errand=errand.kind.value, text=tell_errand(errand, place.server.name), of=place.errand["of"],
        since=datetime.datetime.fromisoformat(place.errand["since"]), key=place.errand_key, ticked_by=place.ticked_by,
    )  # fmt: skip


def tick(place: RunServer, key: str, person: str, note: str) -> None:
    """A person says that it is done. Raises Problem: it is not what is asked for (any more), or it is ticked."""
    errand = errand_of_place(place)
    if errand is None or place.errand_key != key:
        message = f"{place.server.name} does not wait for that (any more). Look again."
        raise Problem("not-asked", message, status=409)
    text = tell_errand(errand, place.server.name)
    record(on={"server": place.server.name, "run": place.run_id}, after={"done": text, "note": note})
    if not RunServer.objects.tick(place.pk, key, person, note):
        raise Problem("ticked", f"Somebody has ticked it for {place.server.name} just now.", status=409)
    tell_place(place.run_id, place.server.name)


def errand_of_place(place: RunServer) -> Errand | None:
    """What is asked for outside for a server now."""
    told = place.errand
    if told is None:
        return None
    return Errand(kind=ErrandKind(told["kind"]), slot=told["slot"], to=told["to"], what=told["what"])
