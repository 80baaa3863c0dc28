"""Servers that were left away: given back by a reading that proves them back, or by a person with a reason."""

from __future__ import annotations

from ordnung.core.components import Server as ServerValue
from ordnung.core.errands import ErrandKind
from ordnung.engine.compare import proves_back
from ordnung.engine.entries import PlaceGiven
from ordnung.engine.tape import fold
from ordnung.server.problems import Problem
from ordnung.server.runs.derived import load_tape
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import AwayLease
from ordnung.server.work.events import tell


def return_if_proved(server: ServerValue) -> bool:
    """After a reading: give back the place of a server that was left away, when the reading proves it back.

    Returns:
        Whether it was given back. Where it is not, the lease says why.
    """
    lease = AwayLease.objects.filter(server__name=server.name, kept=True).first()
    if lease is None:
        return False
    tape = load_tape(lease.run_id, server.name)
    state = fold(tape)
    doubt = proves_back(state.before, server)
    if state.is_moved_off:
        doubt = "its work is still elsewhere: take it back, then say that the server is back"
    elif doubt is None and any(errand.kind is ErrandKind.HEALED for errand, _ in state.given_up):
        doubt = "its group has not said that it is whole again; a person says so"
    if doubt is not None:
        AwayLease.objects.filter(pk=lease.pk).update(doubt=doubt[:2000])
        return False
    given = PlaceGiven(by="a reading", why="it runs, and everything that was there is there")
    DatabaseJournal().append_now(str(lease.run_id), server.name, len(tape) + 1, given)
    tell("readings", servers=[server.name])
    return True


def give_back(name: str, person: str, reason: str) -> None:
    """A person says that a server is back.

    Raises:
        Problem: it was not left away, or a run is at work on it.
    """
    lease = AwayLease.objects.filter(server__name=name).first()
    if lease is None:
        raise Problem("not-away", f"{name} is not counted as away.", status=404)
    if not lease.kept:
        message = f"A run is at work on {name}; its place is given back when that has ended."
        raise Problem("under-way", message, status=409)
    tape = load_tape(lease.run_id, name)
    DatabaseJournal().append_now(str(lease.run_id), name, len(tape) + 1, PlaceGiven(by=person, why=reason))
    tell("readings", servers=[name])
