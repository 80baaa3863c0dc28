"""What people do with runs: start, hold, stop, throw a draft away, answer for a check."""

from __future__ import annotations

import datetime

from django.conf import settings
from django.db import IntegrityError, transaction

from ordnung.engine.entries import Answer, Question
from ordnung.server.assessment.current import current_assessment
from ordnung.server.audit.recording import record
from ordnung.server.clock import is_near, now
from ordnung.server.problems import Problem
from ordnung.server.room import demand_room
from ordnung.server.runs.approvals import demand_approval
from ordnung.server.runs.by_disc import demand_disc
from ordnung.server.runs.documents import keep_revision
from ordnung.server.runs.layout import LAID_FIELDS, lay_out_sheet, places_of
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.night import forecast_row
from ordnung.server.runs.sheets import expected_stop, what_is_missing
from ordnung.server.runs.turns import ALL
from ordnung.server.work.events import tell, tell_place
from ordnung.server.work.orders import ask_for


def start_run(run: Run, person: str) -> None:
    """Put a draft before the engine.

    Raises:
        Problem: a payload is not packed, its repository's seal has ended, its disc is gone, its window is over, the
            house wants it approved or another person to start it, it was started already, one of its servers is in
            another run, or there is no room for its records.
    """
    demand_room()
    missing = what_is_missing(run)
    if missing:
        first, more = missing[0], f" and {len(missing) - 1} more" if len(missing) > 1 else ""
        message = f"{first.product} {first.version}{more} is not packed. Pack a repository for these servers first."
        raise Problem("not-packed", message, status=409)
    _demand_seal(run)
    demand_disc(run)
    if run.windows and all(datetime.datetime.fromisoformat(w["end"]) <= now() for w in run.windows):
        raise Problem("window-over", f"The window of {run.name} is over. Lay it into another one.", status=409)
    demand_approval(run, person)
    if "runs" in settings.TWO_PEOPLE and run.drafted_by == person:
        message = f"You drafted {run.name}; this house wants another person to start it."
        raise Problem("second-person", message, status=403)
    try:
        with transaction.atomic():
            keep_revision(run, person, "started as it stood")
            at = now()
            if not Run.objects.start(run.pk, person, at):
                raise Problem("not-a-draft", f"{run.name} was started already.", status=409)
            _lay_from(run, at)
            run.servers.update(active=True)
            ask_for("run", run.name, run.servers.count(), "servers", {"run": run.pk})
    except IntegrityError:
        message = "One of these servers is in another run. Wait for it to end."
        raise Problem("server-busy", message, status=409) from None
    names = list(run.servers.values_list("server__name", flat=True))
    record(on={"servers": names}, after={"name": run.name, "servers": len(names), "drafted_by": run.drafted_by})
    tell("runs", id=run.pk)
    run.refresh_from_db()
    # A forecast of a thousand servers takes seconds: it holds no lock, and what becomes of it changes no start.
    transaction.on_commit(lambda: _foretell(run.pk), robust=True)


def _foretell(pk: int) -> None:
    """Keep what the forecast says at the start, to hold the run to it afterwards."""
    end = forecast_row(Run.objects.get(pk=pk)).end
    Run.objects.filter(pk=pk).update(foretold={"p50": end.p50, "p90": end.p90, "p99": end.p99})


def _demand_seal(run: Run) -> None:
    ends = run.repository.expires if run.repository is not None else None
    if ends is not None and ends <= now():
        message = f"The seal of {run.source} ended {ends:%Y-%m-%d %H:%M}. Seal it anew, then plan these servers again."
        raise Problem("seal-ended", message, status=409)


def _lay_from(run: Run, at: datetime.datetime) -> None:
    """The lanes count from the start: who has no place any more from here on is said before anything is sent."""
    places = places_of(run)
    lay_out_sheet(run, places, at)
    Run.objects.filter(pk=run.pk).update(
        planned_seconds=run.planned_seconds, bound_seconds=run.bound_seconds, lanes_from=at
    )
    RunServer.objects.bulk_create(
        places, update_conflicts=True, unique_fields=["id"], update_fields=LAID_FIELDS, batch_size=200
    )


def open_wave(run: Run, wave: str, person: str) -> None:
    """A person lets a run go on after a wave, before it has ended or after.

    Raises:
        Problem: the run is not under way, or there is no such wave.
    """
    if run.state != Run.State.RUNNING:
        raise Problem("not-running", f"{run.name} is not under way.", status=409)
    if wave not in ({w["name"] for w in run.waves} or {ALL}):
        raise Problem("no-such-wave", f"{run.name} has no wave {wave[:100]}.", status=404)
    run.opened = {**run.opened, wave: {"by": person, "at": now().isoformat()}}
    run.save(update_fields=["opened"])
    record(on={"run": run.pk}, after={"wave": wave})
    tell("runs", id=run.pk)


def extend_window(run: Run, until: datetime.datetime) -> None:
    """The last window of a run under way ends later: what is half way may go on.

    Raises:
        Problem: the run is not under way or has no window, or it would end earlier than it does.
    """
    if run.state != Run.State.RUNNING or not run.windows:
        raise Problem("not-running", f"{run.name} is not under way in a window.", status=409)
    last = max(run.windows, key=lambda window: datetime.datetime.fromisoformat(window["end"]))
    if until <= datetime.datetime.fromisoformat(last["end"]):
        raise Problem("format", "A window of a run under way can only end later, never earlier.", field="until")
    if not is_near(until):
        raise Problem("format", "That is more than ten years away.", field="until")
    record(on={"run": run.pk}, before={"ends": last["end"]}, after={"ends": until.isoformat()})
    run.windows = [{**w, "end": until.isoformat()} if w is last else w for w in run.windows]
    run.save(update_fields=["windows"])
    tell("runs", id=run.pk)


def discard_draft(run: Run) -> None:
    """Throw a draft away. Raises Problem for what was started: it stays on record."""
    if run.state != Run.State.DRAFT:
        raise Problem("not-a-draft", f"{run.name} was started; it stays on record.", status=409)
    pk = run.pk
    record(before={"name": run.name, "drafted_by": run.drafted_by})
    run.delete()
    tell("runs", id=pk)


def override_check(place: RunServer, check: str, reason: str, person: str) -> None:
    """A person answers, with a reason, for the check that is expected to stop a server of a draft.

    Raises:
        Problem: no such check is expected to, it may not be overridden, the run was started, or the server has no
            reading.
    """
    with transaction.atomic():
        _demand_draft(place)
        if not check or check != place.stopping:
            name = place.server.name
            raise Problem("not-expected", f"Nothing that may be overridden as {check} is expected to stop {name}.")
        record(on={"server": place.server.name}, after={"check": check, "reason": reason})
        _settle(place, {**place.overrides, check: f"{reason} ({person})"}, person)


def drop_overrides(place: RunServer, person: str) -> None:
    """Take back every override of a server of a draft. Raises Problem as ``override_check`` does."""
    with transaction.atomic():
        _demand_draft(place)
        _settle(place, {}, person)


ANSWERS: dict[str, tuple[str, ...]] = {
    Question.LET_IN: (Answer.LEAVE,),
    Question.TRY_REMEDY: (Answer.TRY, Answer.LEAVE),
    Question.FORCE_RESTART: (Answer.FORCE, Answer.LEAVE),
}
"""What may be answered to which question. That somebody is let in again is seen, not said."""


def answer_question(place: RunServer, answer: str, person: str) -> None:
    """Answer what a server waits with; it goes on as soon as it has looked for the answer.

    Raises:
        Problem: it asks nothing (any more), was answered, or asks for another answer.
    """
    if place.question and answer not in ANSWERS.get(place.question_kind, ("force", "leave")):
        raise Problem("not-asked", f"{place.server.name} does not ask that.", status=409, field="answer")
    record(on={"server": place.server.name}, after={"question": place.question, "answer": answer})
    if not RunServer.objects.answer_question(place.pk, answer, person):
        message = f"{place.server.name} asks nothing, or was answered already."
        raise Problem("not-asked", message, status=409)
    tell_place(place.run_id, place.server.name)


def _demand_draft(place: RunServer) -> None:
    if place.run.state != Run.State.DRAFT:
        raise Problem("not-a-draft", f"{place.run.name} was started; checks are overridden on a draft.", status=409)


def _settle(place: RunServer, overrides: dict[str, str], person: str) -> None:
    standing = current_assessment().standings.get(place.server.name)
    if standing is None:
        raise Problem("not-read", f"{place.server.name} has no reading. Read it again first.", status=409)
    place.overrides = overrides
    place.detail, place.stopping = expected_stop(standing, overrides)
    place.save(update_fields=["overrides", "detail", "stopping"])
    keep_revision(place.run, person, f"checks of {place.server.name}")
    tell("runs", id=place.run_id)
