"""What every open page is given when something has changed, so that none of them has to ask: made once for all.

The frame of each page shows the same three answers; a page that shows a run under way shows its lanes. Two hundred
pages that each asked for them whenever one of five hundred servers went on would leave the server no time.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from ordnung.server.api.site import SHOWN, site_row, site_trouble, works_by_urgency
from ordnung.server.runs.calls import CALLS
from ordnung.server.runs.live import tell_part
from ordnung.server.runs.models import Run
from ordnung.server.runs.outlook import wanted
from ordnung.server.shapes import write_json
from ordnung.server.work.hub import Message, Told
from ordnung.server.work.rows import work_row

LANES, STALE, FORETOLD = "lanes", "stale", "foretold"
"""Told of a run; an answer is told by its own name."""
LOOK_S = 2.0
"""So often it is looked whether the engine is in trouble, which no event tells."""
AGAIN_S = 15.0
"""So often the clock is given anew, and what becomes due by time alone."""
JUDGED = {"readings", "catalogs", "baselines"}


@dataclass(frozen=True, slots=True)
class _Answer:
    """An answer of the API that takes no parameters: its address, when it is another, and how it is made."""

    key: str
    topics: frozenset[str]
    make: Callable[[], Any]


ANSWERS = (
    _Answer("site", frozenset({*JUDGED, "work", "repositories", "house", "runs", "places"}), site_row),
    _Answer("work", frozenset({"work"}), lambda: [work_row(work) for work in works_by_urgency()[:SHOWN]]),
    _Answer("calls", CALLS.topics, CALLS.get),
)


class Giver:
    """Remembers what it gave last: what is no other is not given again."""

    def __init__(self) -> None:
        self._given: dict[str, str] = {}
        self._looked = self._gave = 0.0
        self._trouble = ""
        self._foretold: dict[int, str] = {}

    def give(self, events: Sequence[Told]) -> list[Message]:
        """What follows from some events, or from time that has gone by."""
        topics = {topic for _, topic, _ in events}
        is_again, is_trouble = self._is_time(), self._is_other_trouble()
        answers = [a for a in ANSWERS if topics & a.topics or is_again or (is_trouble and a.key == "site")]
        told = [*self._parts(events), *(m for answer in answers if (m := self._answer(answer)) is not None)]
        return [*told, *self._forecasts()] if is_again else told

    def last(self) -> list[Message]:
        """The last of each answer that was given."""
        return [(None, key, told) for key, told in self._given.items()]

    def forget(self) -> None:
        """Nobody listens any more: what was given grows old."""
        self._given.clear()
        self._foretold.clear()

    def _parts(self, events: Sequence[Told]) -> list[Message]:
        runs = {body.get("run") for _, topic, body in events if topic == "lane"}
        runs |= {body.get("id") for _, topic, body in events if topic == "runs"}
        return [_part(run) for run in Run.objects.filter(pk__in=runs - {None}).exclude(state=Run.State.DRAFT)]

    def _forecasts(self) -> list[Message]:
        """What has become of the forecasts that pages show: they slide by themselves."""
        before, self._foretold = self._foretold, {pk: told.decode() for pk, told in wanted()}
        others = [(pk, told) for pk, told in self._foretold.items() if before.get(pk) != told]
        return [(None, FORETOLD, f'{{"run":{pk},"forecast":{told}}}') for pk, told in others]

    def _answer(self, answer: _Answer) -> Message | None:
        told = write_json(answer.make()).decode()
        if self._given.get(answer.key) == told:
            return None
        self._given[answer.key] = told
        return None, answer.key, told

    def _is_time(self) -> bool:
        if time.monotonic() - self._gave < AGAIN_S:
            return False
        self._gave = time.monotonic()
        return True

    def _is_other_trouble(self) -> bool:
        if time.monotonic() - self._looked < LOOK_S:
            return False
        self._looked, before = time.monotonic(), self._trouble
        self._trouble = site_trouble()
        return self._trouble != before


def _part(run: Run) -> Message:
    part = tell_part(run)
    return (None, STALE, {"run": run.pk}) if part is None else (None, LANES, write_json(part).decode())
