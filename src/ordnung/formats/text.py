"""Text that others wrote, made safe to show: names and messages of devices and files are data."""

from __future__ import annotations

import re

_UNSAFE = re.compile("[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]")


def clean(text: str) -> str:
    """Text without what could steer a terminal, a log or a page: blanks for white space, a mark for the rest.

    Taken out are control characters, zero-width and direction marks, and halves of surrogate pairs.

    >>> clean("R9\\tRAID\\x1b[2J")
    'R9 RAID\ufffd[2J'
    """
    return _UNSAFE.sub(lambda found: " " if found[0] in "\t\n\r\v\f" else "\ufffd", text)


MOST_SHOWN = 1000
"""So much of a text that others wrote is told in an error, in characters."""


def shown(text: str) -> str:
    """A text that others wrote as it may stand in an error: clean, and cut where it has no end."""
    return clean(text if len(text) <= MOST_SHOWN else f"{text[: MOST_SHOWN - 1]}…")


MOST_DIGITS = 18
"""A number of more digits is none that anything here counts, and no longer fits a database's."""


def whole_number(text: str) -> int | None:
    """A whole number that is not negative, in ASCII digits; None for anything else, ``²`` and ``٣`` included.

    >>> whole_number("42"), whole_number("²"), whole_number("-1"), whole_number("9" * 40)
    (42, None, None, None)
    """
    return int(text) if text.isascii() and text.isdigit() and len(text) <= MOST_DIGITS else None
