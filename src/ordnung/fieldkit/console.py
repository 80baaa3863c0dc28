"""The engine's ports towards the one person at the console: what is told, what is asked, when to stop."""

from __future__ import annotations

import asyncio
import datetime
import secrets
import sys
import traceback
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, Protocol, TextIO

import click
from rich.console import Console, Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from ordnung.core.components import Server
from ordnung.core.errands import Errand, tell_errand
from ordnung.core.facts import tell_span
from ordnung.core.orders import Order
from ordnung.engine.entries import Answer, Entry, PlaceGiven, PlaceTaken
from ordnung.engine.entry_codec import write_entry
from ordnung.engine.ports import Clock, Help, HelpState, Reply
from ordnung.engine.telling import tell_entry
from ordnung.fieldkit.show import print_line
from ordnung.formats.text import clean

SHOWN_LINES = 14
"""Of what was done, on a screen of 25 lines."""
BAR = 60
UNTOLD = (PlaceTaken, PlaceGiven)
"""What means nothing where there is but one server."""


class Screen(Protocol):
    """Where a run is told."""

    def entry(self, entry: Entry) -> None:
        """Something stands on the tape."""
        ...

    def step(self, state: str, detail: str, percent: int | None, left_s: float) -> None:
        """What is under way, and how many seconds all that is planned will still take."""
        ...

    def say(self, text: str) -> None:
        """A sentence of the kit's own."""
        ...

    def close(self) -> None:
        """Nothing more is told here until something is."""
        ...


class EventScreen:
    """A line of JSON for everything, for programs."""

    def entry(self, entry: Entry) -> None:
        """``{"event": "entry", …}`` as in the journal, with its sentence."""
        kind, body = write_entry(entry.value)
        body = {} if kind == "read" else body
        told = {"seq": entry.seq, "at": entry.at.isoformat(), "kind": kind, "body": body}
        print_line({"event": "entry", **told, "text": clean(tell_entry(entry.value))})

    def step(self, state: str, detail: str, percent: int | None, left_s: float) -> None:
        """``{"event": "step", …}``."""
        told = {"state": state, "detail": detail, "percent": percent, "left_seconds": round(left_s)}
        print_line({"event": "step", **told})

    def say(self, text: str) -> None:
        """``{"event": "note", …}``."""
        print_line({"event": "note", "text": text})

    def close(self) -> None:
        """Nothing is open."""


class PlainScreen:
    """A line for each thing that happens, with the time; percent only in quarters: it goes into logs."""

    def __init__(self) -> None:
        self._last: tuple[str, str, int] = ("", "", 0)

    def entry(self, entry: Entry) -> None:
        """What was done."""
        if not isinstance(entry.value, UNTOLD):
            click.echo(f"{entry.at:%H:%M:%S} {clean(tell_entry(entry.value))}")

    def step(self, state: str, detail: str, percent: int | None, left_s: float) -> None:
        """What is under way, where that is news."""
        now = (state, detail, (percent or 0) // 25)
        if now != self._last:
            self._last = now
            click.echo(f"         {_told_step(state, detail, percent)}{_told_left(left_s)}")

    def say(self, text: str) -> None:
        """A sentence of the kit's own."""
        click.echo(text)

    def close(self) -> None:
        """Nothing is open."""


class LiveScreen:
    """One screen that fits a console of 80 by 25: what was done last, what is under way, what to press."""

    def __init__(self, title: str, console: Console | None = None) -> None:
        self.title, self._lines = title, list[str]()
        self._step: tuple[str, str, int | None, float] = ("", "beginning", None, 0.0)
        self._live = Live(console=console or Console(highlight=False), refresh_per_second=4, transient=True)

    def entry(self, entry: Entry) -> None:
        """What was done, below what was done before."""
        if not isinstance(entry.value, UNTOLD):
            self.say(f"{entry.at:%H:%M:%S} {clean(tell_entry(entry.value))}")

    def step(self, state: str, detail: str, percent: int | None, left_s: float) -> None:
        """What is under way."""
        self._step = (state, detail, percent, left_s)
        self._draw()

    def say(self, text: str) -> None:
        """A sentence of the kit's own."""
        self._lines.append(text)
        self._draw()

    def close(self) -> None:
        """The screen goes, what was done stays on the console."""
        if self._live.is_started:
            self._live.stop()
            for line in self._lines:
                self._live.console.print(Text(line))
            self._lines.clear()

    def _draw(self) -> None:
        if not self._live.is_started:
            self._live.start()
        state, detail, percent, left_s = self._step
        done = Table.grid()
        for line in self._lines[-SHOWN_LINES:]:
            done.add_row(Text(line, overflow="ellipsis", no_wrap=True))
        now = Table.grid()
        now.add_row(Text(_told_step(state, detail, percent) + _told_left(left_s), style="bold"))
        now.add_row(Text(_bar(percent) if percent is not None else ""))
        now.add_row(Text("Ctrl-C stops before the next step. Nothing is cut short.", style="dim"))
        self._live.update(Group(Text(self.title, style="bold"), done, now))


def _bar(percent: int) -> str:
    """How far it is, in signs that every console has: the screen of a server that was just started has few."""
    done = BAR * max(0, min(percent, 100)) // 100
    return "█" * done + "░" * (BAR - done)


def _told_step(state: str, detail: str, percent: int | None) -> str:
    share = f", {percent} %" if percent is not None else ""
    return clean(f"{state}: {detail}{share}" if detail else f"{state}{share}")


def _told_left(left_s: float) -> str:
    return f" (about {tell_span(left_s)} left by the plan)" if left_s >= 1 else ""


class Keyboard:
    """Lines that a person types, waited for without holding up anything else."""

    def __init__(self, source: TextIO | None = None) -> None:
        self.source = source or sys.stdin

    @property
    def is_there(self) -> bool:
        """Whether somebody can be asked."""
        return self.source.isatty()

    async def line(self) -> str:
        """The next line, without its end; empty when nothing more will come."""
        loop, typed = asyncio.get_running_loop(), asyncio.Event()
        loop.add_reader(self.source, typed.set)
        try:
            await typed.wait()
            return self.source.readline().rstrip("\n")
        finally:
            loop.remove_reader(self.source)


class ConsolePorts:
    """Reporter, orders and helpers of the engine, towards one console."""

    def __init__(
        self, screen: Screen, keyboard: Keyboard, clock: Clock, troubles: Path, left: Callable[[int | None], float]
    ) -> None:
        """``troubles`` is where errors of our own are kept; ``left`` tells how many seconds the plan still takes."""
        self.screen, self.keyboard, self.clock, self.troubles, self.left = screen, keyboard, clock, troubles, left
        self.overridden: Mapping[str, str] = {}
        self.stopped = asyncio.Event()
        self.settle: Callable[[], None] | None = None
        """What a yes to the question under way does here, besides being the answer."""
        self._detail = ""

    def stop(self) -> None:
        """End before the next step; what is under way is not cut short."""
        if not self.stopped.is_set():
            self.stopped.set()
            self.screen.say("Stopping before the next step; what is under way is not cut short.")

    # Reporter

    async def step(self, run: str, server: str, state: str, detail: str, percent: int | None) -> None:
        """The present step."""
        self._detail = detail
        self.screen.step(state, detail, percent, self.left(percent))

    async def reading(self, run: str, server: Server, pin: str) -> None:
        """A reading made on the way stands on the tape."""

    async def trouble(self, run: str, server: str, error: Exception) -> str:
        """An error of our own, with its traceback in a file under the id that is returned."""
        number = secrets.token_hex(4)
        with self.troubles.open("a") as kept:
            kept.write(f"{datetime.datetime.now(datetime.UTC):%Y-%m-%d %H:%M:%S} {number}\n")
            kept.writelines(traceback.format_exception(error))
        return number

    # Orders

    async def order(self, run: str, server: str) -> str:
        """Stop once that was wanted, else go on."""
        return Order.STOP if self.stopped.is_set() else Order.GO

    async def bars_reset(self, run: str, server: str) -> str:
        """There are no windows here."""
        return ""

    async def overrides(self, run: str, server: str) -> Mapping[str, str]:
        """Checks that the command overrode, with the reasons."""
        return self.overridden

    async def reply(self, run: str, server: str) -> Reply | None:
        """What the person answers to the question under way."""
        answer = await self._ask(f"{self._detail} [y/n]")
        if answer is None:
            return None
        is_yes = answer.lower() in ("y", "yes")
        if is_yes and self.settle is not None:
            self.settle()
        elif not is_yes:
            self.settle = None
        return Reply(answer=Answer.TRY if is_yes else Answer.LEAVE, by="the person here")

    # Helpers

    async def helper(self, run: str, server: str, errand: Errand) -> str:
        """The person here, always."""
        return ""

    async def ask(self, run: str, server: str, errand: Errand, key: str) -> Help:
        """Ask the person to do it and to say so."""
        answer = await self._ask(f"{tell_errand(errand, server)} Press Enter when it is done.")
        state = HelpState.PENDING if answer is None else HelpState.DONE
        return Help(state=state, by="the person here", note=answer or "")

    async def _ask(self, question: str) -> str | None:
        """What is typed; None when a stop came first, or nobody is there."""
        if not self.keyboard.is_there:
            return None
        self.screen.close()
        click.echo(clean(question))
        typed = asyncio.ensure_future(self.keyboard.line())
        stopped = asyncio.ensure_future(self.stopped.wait())
        try:
            await asyncio.wait((typed, stopped), return_when=asyncio.FIRST_COMPLETED)
            return typed.result() if typed.done() else None
        finally:
            for task in (typed, stopped):
                task.cancel()


def event(name: str, **body: Any) -> None:
    """One event of the kit's own, for programs."""
    print_line({"event": name, **body})
