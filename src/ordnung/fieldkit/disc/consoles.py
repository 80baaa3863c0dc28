"""One terminal on several consoles: all show the same, and any may be typed at."""

from __future__ import annotations

import codecs
import contextlib
import fcntl
import os
import select
import struct
import subprocess
import termios
import tty
from collections.abc import Mapping, Sequence
from pathlib import Path

LINES, COLUMNS = 25, 80
PIECE = 4096
HAS = frozenset(bytes(range(32, 256)).decode("cp437")) | frozenset("→←↑↓↔•§¶►◄▲▼\a\b\t\n\r\x1b")
"""What the screen of a server has before anybody gives it another font."""
INSTEAD = {"…": ".", "–": "-", "—": "-", "‘": "'", "’": "'", "“": '"', "”": '"', "×": "x", "−": "-"}


def share(command: Sequence[str], consoles: Sequence[Path]) -> int:
    """Run a command in a terminal of 80 by 25 that every console shows; returns its exit status.

    A screen is shown other signs for those that it hasn't, a serial line what was written.
    A console that isn't there, or that nobody empties, is left out: it must never hold up what is being done.
    """
    inner, outer = os.openpty()
    fcntl.ioctl(outer, termios.TIOCSWINSZ, struct.pack("HHHH", LINES, COLUMNS, 0, 0))
    found = [(_open(console), _is_screen(console)) for console in consoles]
    opened = {place: is_screen for place, is_screen in found if place >= 0}
    with subprocess.Popen(
        command, stdin=outer, stdout=outer, stderr=outer, start_new_session=True, preexec_fn=_take_terminal
    ) as child:
        os.close(outer)
        _pass_on(inner, opened)
        return child.wait()


def _take_terminal() -> None:
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)


def _open(console: Path) -> int:
    with contextlib.suppress(OSError, termios.error):
        place = os.open(console, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
        tty.setraw(place)
        return place
    return -1


def _is_screen(console: Path) -> bool:
    return console.name.removeprefix("tty").isdigit()


def spell(text: str) -> str:
    """The same in signs that a screen has."""
    return "".join(sign if sign in HAS else INSTEAD.get(sign, "?") for sign in text)


def _pass_on(inner: int, consoles: dict[int, bool]) -> None:
    """Until the command has closed its terminal."""
    reader = codecs.getincrementaldecoder("utf-8")("replace")
    while True:
        ready, _, _ = select.select([inner, *consoles], [], [])
        for place in ready:
            try:
                piece = os.read(place, PIECE)
            except BlockingIOError:
                continue
            except OSError:
                piece = b""
            if place != inner and not piece:
                del consoles[place]
            elif not piece:
                return
            elif place == inner:
                _show(reader.decode(piece), consoles)
            else:
                os.write(inner, piece)


def _show(text: str, consoles: Mapping[int, bool]) -> None:
    for console, is_screen in consoles.items():
        left = (spell(text) if is_screen else text).encode()
        # A serial line takes a page in half a second; what it won't take by then nobody reads.
        while left and select.select([], [console], [], 0.5)[1]:
            try:
                left = left[os.write(console, left) :]
            except OSError:
                break
