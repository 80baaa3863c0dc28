"""Files that a request brings."""

from __future__ import annotations

from typing import TYPE_CHECKING

from django.core.files.uploadedfile import UploadedFile

from ordnung.server.problems import Problem

if TYPE_CHECKING:
    SentFile = UploadedFile[bytes]
else:
    SentFile = UploadedFile  # generic for the type checker only


def read_file(file: SentFile, most: int) -> tuple[str, bytes]:
    """Name and contents of a file. Raises Problem when it is larger than ``most`` bytes."""
    name = file.name or "the file"
    if (file.size or 0) > most:
        raise Problem("too-large", f"{name} is larger than {most // 2**20} MiB.", status=413, field="file")
    raw: bytes = file.read()
    return name, raw
