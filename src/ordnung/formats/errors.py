"""One error for every file that is not what it claims to be."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from ordnung.formats.text import shown

SHOWN = 5
"""So many faults go into the sentence; all are in ``faults``."""


class Fault(NamedTuple):
    """One thing that is wrong: ``place`` is a JSON path or a byte offset, ``what`` says why."""

    place: str
    what: str


class FormatError(Exception):
    """A file can't be read. ``place`` tells where the first fault lies, ``what`` why; ``faults`` has all of them.

    What it quotes of the file is data: made safe to show, and cut where it has no end.
    ``code`` is stable and goes into problem documents.
    """

    code = "format"

    def __init__(self, source: str, place: str, what: str, faults: Sequence[Fault] = ()) -> None:
        self.source, self.place, self.what = shown(source), shown(place), shown(what)
        self.faults = tuple(Fault(shown(one.place), shown(one.what)) for one in faults or (Fault(place, what),))
        super().__init__(": ".join(part for part in (self.source, self.place, self.what) if part))

    def __reduce__(self) -> tuple[type[FormatError], tuple[str, str, str, tuple[Fault, ...]]]:
        """From one process to another, whole."""
        return type(self), (self.source, self.place, self.what, self.faults)

    @classmethod
    def of(cls, source: str, faults: Sequence[Fault]) -> FormatError:
        """One error for all faults of a file, the first of which leads."""
        first, *others = faults
        message = "; ".join(f"{fault.place}: {fault.what}" for fault in others[: SHOWN - 1])
        more = f" and {len(faults) - SHOWN} more" if len(faults) > SHOWN else ""
        what = f"{first.what}; also {message}{more}" if others else first.what
        return cls(source, first.place, what, faults)
