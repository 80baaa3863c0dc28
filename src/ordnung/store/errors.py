"""What can be wrong with a payload or a repository."""

from __future__ import annotations

import errno

from ordnung.formats.text import shown

CODES = (
    "missing", "altered", "cut short", "expired", "older", "mixed", "foreign", "untrusted", "retired",
    "below threshold", "escape", "unreachable", "broken", "no room", "unsigned",
)  # fmt: skip
"""Every reason for which something is refused."""
_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)


class RepositoryError(Exception):
    """A payload or a repository was refused. ``file`` names the culprit, ``what`` says why.

    ``code`` is one of ``CODES``.
    """

    def __init__(self, code: str, file: str, what: str) -> None:
        self.code, self.file, self.what = code, shown(file), shown(what)
        super().__init__(f"{self.file}: {self.what}")

    def __reduce__(self) -> tuple[type[RepositoryError], tuple[str, str, str]]:
        """As it is, also from another process."""
        return type(self), (self.code, self.file, self.what)


def no_room(error: OSError, name: str) -> RepositoryError | None:
    """The error as a refusal when the disk is full, or None when it is another one."""
    if error.errno not in _FULL:
        return None
    return RepositoryError("no room", name, "the disk is full; nothing was lost, free some room and go on")
