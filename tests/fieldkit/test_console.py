"""The person at the kit's console: what they see, what they are asked, and what they settle."""

from __future__ import annotations

import asyncio
import io
import os
import pty
import re
import time

from rich.console import Console

from ordnung.controllers import ControllerError, Endpoint
from ordnung.core.errands import Errand, ErrandKind
from ordnung.engine.ports import HelpState
from ordnung.fieldkit.console import ConsolePorts, Keyboard, LiveScreen, PlainScreen
from ordnung.fieldkit.settling import ConsoleAccess
from ordnung.formats.siteclock import SiteClock
from tests.engine.test_tape import INTENT, PLACE, PLAN, READ, SENT, tape


def test_the_screen_fits_a_console_of_80_by_25():
    shown = io.StringIO()
    screen = LiveScreen("surge-07 from annex, edition 3", Console(file=shown, width=80, height=25, force_terminal=True))
    for entry in tape(PLACE, READ, PLAN, INTENT, SENT) * 6:
        screen.entry(entry)
    screen.step("writing", "bios 2.4.1", 47, 600.0)
    time.sleep(0.5)
    screen.close()
    frames = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", shown.getvalue())
    assert "writing: bios 2.4.1, 47 % (about 10 min left by the plan)" in frames
    assert (
        "Ctrl-C stops before the next step. Nothing is cut short." in frames
        and max(map(len, frames.splitlines())) <= 80
    )
    assert "its turn" not in frames, "there are no turns with one server"


class Asked:
    """A person at a terminal of their own."""

    def __init__(self, tmp_path) -> None:
        self.hand, theirs = pty.openpty()
        self.keyboard = Keyboard(os.fdopen(theirs, "r"))
        self.ports = ConsolePorts(PlainScreen(), self.keyboard, SiteClock(), tmp_path / "errors.log", lambda _: 0.0)

    def types(self, line: str) -> None:
        os.write(self.hand, f"{line}\n".encode())


async def test_the_person_at_the_console_is_asked(tmp_path, capsys):
    asked = Asked(tmp_path)
    assert asked.keyboard.is_there and await asked.ports.order("1", "s") == "go"
    errand = Errand(kind=ErrandKind.HANDS_BEFORE, slot="power-1", to="2.0", what="pull the second feed")
    asked.types("done, feed B")
    helped = await asked.ports.ask("1", "s", errand, "k")
    assert (helped.state, helped.note) == (HelpState.DONE, "done, feed B")
    assert "pull the second feed Press Enter when it is done." in capsys.readouterr().out.replace(". ", " ")
    await asked.ports.step("1", "s", "waiting", "Try it alone?", None)
    for typed, answer in (("y", "try"), ("n", "leave")):
        asked.types(typed)
        assert (await asked.ports.reply("1", "s")).answer == answer
    waiting = asyncio.ensure_future(asked.ports.reply("1", "s"))
    await asyncio.sleep(0)
    asked.ports.stop()
    assert await waiting is None and await asked.ports.order("1", "s") == "stop"
    number = await asked.ports.trouble("1", "s", ValueError("odd"))
    assert (
        number in (tmp_path / "errors.log").read_text() and "ValueError: odd" in (tmp_path / "errors.log").read_text()
    )


HERE = Endpoint(name="s", url="https://127.0.0.1", user="u", password="old", pin="ab" * 32)


def shut_out(cause: str, seen: str | None = None) -> ControllerError:
    return ControllerError("s", cause, "as it was told", seen=seen)


async def test_a_yes_accepts_the_certificate_that_was_shown_in_full_and_no_other(tmp_path, capsys):
    asked = Asked(tmp_path)
    access = ConsoleAccess(HERE, tmp_path / "password", asked.ports, asks=True)
    assert (await access.known("s")).endpoint == HERE
    await access.keep_out("s", shut_out("certificate changed", "cd" * 32))
    assert "cd" * 32 in capsys.readouterr().out, "it can only be compared as a whole"
    asked.types("n")
    assert (await asked.ports.reply("1", "s")).answer == "leave" and (await access.known("s")).endpoint == HERE
    await access.keep_out("s", shut_out("certificate changed", "cd" * 32))
    asked.types("y")
    await asked.ports.reply("1", "s")
    assert (await access.known("s")).endpoint.pin == "cd" * 32
    assert await access.settled_by("s") == "the person here" and asked.ports.settle is None


async def test_a_yes_reads_the_password_anew_and_says_when_it_can_not(tmp_path, capsys):
    asked, file = Asked(tmp_path), tmp_path / "password"
    access = ConsoleAccess(HERE, file, asked.ports, asks=True)
    await access.keep_out("s", shut_out("signed out"))
    asked.types("y")
    await asked.ports.reply("1", "s")
    assert (await access.known("s")).endpoint == HERE and "password" in capsys.readouterr().out
    file.write_text("new\n")
    asked.types("y")
    await asked.ports.reply("1", "s")
    assert (await access.known("s")).endpoint.password == "new"


async def test_where_nobody_can_be_asked_it_ends_with_what_is_needed_to_start_it_again(tmp_path, capsys):
    ports = ConsolePorts(PlainScreen(), Keyboard(io.StringIO()), SiteClock(), tmp_path / "errors.log", lambda _: 0.0)
    access = ConsoleAccess(HERE, tmp_path / "password", ports, asks=False)
    await access.keep_out("s", shut_out("certificate changed", "cd" * 32))
    told = capsys.readouterr().out
    assert "cd" * 32 in told and "--pin" in told and await access.known("s") is None
