"""A content store that copies nothing: payloads stay on the medium that brought them, which must stay too."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

from ordnung.store.content import ContentStore
from ordnung.store.copying import Progress, silent


class LinkedStore(ContentStore):
    """As ContentStore, for a disc that is mounted; a file that has a name is linked to, anything else copied."""

    def take_in(self, source: BinaryIO, sha256: str, name: str, report: Progress = silent) -> Path:
        """Link to the file that ``source`` was opened from. It must have been checked; it is again before each use."""
        named = getattr(source, "name", None)
        if not isinstance(named, str | Path) or self.has(sha256):
            return super().take_in(source, sha256, name, report)
        place = self.path(sha256)
        place.parent.mkdir(exist_ok=True)
        place.symlink_to(Path(named).resolve())
        return place

    def want_room(self, size: int, name: str) -> None:
        """Links need none."""
