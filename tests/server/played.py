"""A run that goes on without devices: the entries and steps of an engine at work, by its own journal and reporter."""

from __future__ import annotations

import random
from collections.abc import Iterable, Iterator

from asgiref.sync import async_to_sync
from django.utils import timezone

from ordnung.controllers import Marker
from ordnung.core.away import AwayPlace
from ordnung.engine import entries as e
from ordnung.engine.entry_codec import parse_rounds
from ordnung.engine.ports import NoPlaceError
from ordnung.server.assessment.current import current_assessment
from ordnung.server.fleet.models import Group
from ordnung.server.house.models import House
from ordnung.server.runs.adapters import DatabaseReporter
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.work.events import newest_event, tell

AT_ONCE = 25


class Played:
    """Starts a draft as it is, with its first so many servers, and goes on by one entry or step whenever asked."""

    def __init__(self, pk: int, servers: int) -> None:
        self.pk, self.dice = pk, random.Random(1)
        self.journal, self.reporter = DatabaseJournal(), DatabaseReporter()
        places = list(RunServer.objects.filter(run=pk).select_related("server").order_by("place"))
        RunServer.objects.filter(pk__in=[place.pk for place in places[servers:]]).delete()
        House.objects.update(at_once=AT_ONCE)
        Group.objects.update(may_be_away=AT_ONCE)
        values = current_assessment().standings
        self.tapes = {p.server.name: enumerate(_tape(p, values[p.server.name].server), 1) for p in places[:servers]}
        self.waiting, self.busy = list(self.tapes), list[str]()
        Run.objects.filter(pk=pk).update(state=Run.State.RUNNING, started_at=timezone.now())
        tell("runs", id=pk)

    def go_on(self, is_entry: bool) -> Iterable[int]:
        """One entry, or one step of progress; the numbers of the events that told of it."""
        before = newest_event()
        if is_entry or not self.busy:
            self._enter()
        else:
            self._step()
        return range(before + 1, newest_event() + 1)

    def _enter(self) -> None:
        if self.waiting and len(self.busy) < AT_ONCE:
            self.busy.append(self.waiting.pop(0))
            name = self.busy[-1]
        else:
            name = self.dice.choice(self.busy)
        seq, value = next(self.tapes[name])
        try:
            self.journal.append_now(str(self.pk), name, seq, value)
        except NoPlaceError as error:
            raise RuntimeError(f"{name} has no place: {error}") from error
        if isinstance(value, e.Ended):
            self.busy.remove(name)

    def _step(self) -> None:
        name = self.dice.choice(self.busy)
        percent = self.dice.randrange(100)
        async_to_sync(self.reporter.step)(str(self.pk), name, "writing", f"{percent} %", percent)


def _tape(place: RunServer, server) -> Iterator[e.TapeEntry]:  # type: ignore[no-untyped-def]
    rounds = parse_rounds(place.rounds)
    yield e.PlaceTaken(place=AwayPlace(server=place.server.name))
    yield e.Read(server=server, why=e.ReadWhy.BEFORE)
    yield e.Plan(rounds=rounds)
    for step in rounds:
        for planned in step.writes:
            yield e.WriteIntent(planned=planned, way="HTTPS", known_tasks=())
            yield e.WriteSent(task="/t/1")
            yield e.WriteDone(evidence=e.Evidence.TASK)
        if step.reset:
            yield e.ResetIntent(kind=e.ResetKind(step.reset), marker=Marker(system="a"), type="ForceRestart")
            yield e.ResetSent()
            yield e.ResetSeen(evidence=e.Evidence.RESET_TIME)
            yield e.Back(marker=Marker())
        yield e.Confirmed(versions=step.activates)
    yield e.Ended(ending=e.Ending.LEVEL, reason=e.Reason.LEVEL_ALREADY)
