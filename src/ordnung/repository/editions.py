"""Editions are counted: a series never gives one number twice, however quickly two are built after each other."""

from __future__ import annotations

import fcntl
import json
import os
from pathlib import Path


def next_edition(folder: Path, series: str) -> int:
    """The number of the next edition of a series, taken for good; one that was not used in the end is left out.

    Args:
        folder: where the sealing keys are kept: who has them counts.
    """
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "editions.json"
    with (folder / "editions.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        counted: dict[str, int] = json.loads(path.read_text()) if path.exists() else {}
        counted[series] = counted.get(series, 0) + 1
        temporary = path.with_suffix(".new")
        with temporary.open("w") as file:
            json.dump(counted, file)
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
    return counted[series]
