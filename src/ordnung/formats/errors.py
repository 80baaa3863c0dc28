"""One error for every file that is not what it claims to be."""

from __future__ import annotations


class FormatError(Exception):
    """A file can't be read. ``place`` tells where (a JSON path or a byte offset), ``what`` why.

    ``code`` is stable and goes into problem documents.
    """

    code = "format"

    def __init__(self, source: str, place: str, what: str) -> None:
        self.source, self.place, self.what = source, place, what
        super().__init__(f"{source}: {place}: {what}" if place else f"{source}: {what}")
