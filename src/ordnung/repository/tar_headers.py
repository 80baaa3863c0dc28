"""Headers of tar archives that strangers wrote, kept small before the library takes them apart.

The library reads an extension header whole, however long it says it is, and looks through it with patterns that
take the square of its length: 12 KiB of a compressed archive filled the memory, 80 kB took a quarter of a minute.
"""

from __future__ import annotations

import re
import tarfile
from typing import Any

MAX_EXTENSION = 64 * 1024
"""Bytes of an extension header (POSIX.1-2001 pax, GNU long names): real ones have some hundred."""
_LONG_NUMBER = re.compile(rb"\d{65}")
"""No header of a real archive has one; the library's patterns begin anew at each digit."""


class RefusedHeaderError(tarfile.TarError):
    """A header that no real archive has."""


class BoundedTarInfo(tarfile.TarInfo):
    """A member whose extension headers are bounded, and that is not sparse: a repository's files never are.

    Which method takes which header apart is the library's own matter; it has been the same since Python 3.2.
    """

    def _proc_member(self, archive: Any) -> Any:
        if self.type == tarfile.GNUTYPE_SPARSE:
            raise RefusedHeaderError("a sparse file")
        if self.type in (*_EXTENSIONS, tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK):
            _look_ahead(archive, self.size)
        return super()._proc_member(archive)  # type: ignore[misc]


_EXTENSIONS = (tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.SOLARIS_XHDTYPE)


def _look_ahead(archive: tarfile.TarFile, size: int) -> None:
    """Raises SubsequentHeaderError when the header that comes next is none that a real archive has."""
    if not 0 <= size <= MAX_EXTENSION:
        raise RefusedHeaderError(f"an extension header of {size} bytes")
    file: Any = archive.fileobj
    at = file.tell()
    raw = file.read(size)
    file.seek(at)
    if b"GNU.sparse" in raw:
        raise RefusedHeaderError("a sparse file")
    if _LONG_NUMBER.search(raw):
        raise RefusedHeaderError("an extension header with a number without end")
