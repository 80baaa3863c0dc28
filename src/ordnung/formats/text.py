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
