"""One engine per site: a lock on a file, held for life and let go by the kernel when the process is gone."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path
from typing import TextIO


class EngineRunsError(Exception):
    """Another engine works for this site; the sentence says which."""


def take_engine_lock(home: Path) -> TextIO:
    """The lock of a site; keep what is returned for as long as the engine works.

    Raises:
        EngineRunsError: another engine holds it. Its work is taken over only when it is gone.
    """
    path = home / "engine.lock"
    path.parent.mkdir(parents=True, exist_ok=True)
    file = path.open("a+")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.seek(0)
        who = file.read().strip()
        file.close()
        message = f"Another engine (process {who or 'unknown'}) works for this site and holds {path}."
        raise EngineRunsError(f"{message} Two would write to the same servers. Stop that one first.") from None
    file.truncate(0)
    file.write(f"{os.getpid()}\n")
    file.flush()
    return file
