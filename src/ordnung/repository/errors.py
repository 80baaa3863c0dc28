"""What can be wrong with a payload or a repository."""

from __future__ import annotations


class RepositoryError(Exception):
    """A payload or a repository was refused. ``file`` names the culprit, ``what`` says why.

    ``code`` is one of: missing, altered, cut short, expired, older, foreign, unreachable, broken.
    """

    def __init__(self, code: str, file: str, what: str) -> None:
        self.code, self.file, self.what = code, file, what
        super().__init__(f"{file}: {what}")
