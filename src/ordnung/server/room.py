"""Room on the disk that the site's records lie on: without it no step of a run can be kept, so none is taken."""

from __future__ import annotations

import os
from pathlib import Path

from django.db import connection

from ordnung.server.problems import Problem

MIB = 2**20
LOW = 1024 * MIB
"""With less the page says so, while there is time to make room."""
LEAST = 256 * MIB
"""With less no run is started, and no payload is fetched: what is left is for the records of what is under way."""


def records_folder() -> Path:
    """Where the site's records lie."""
    return Path(str(connection.settings_dict["NAME"])).parent


def free_bytes(folder: Path) -> int | None:
    """Bytes that are free there for a file of ours; None where nothing can be written at all.

    Raises:
        OSError: the folder is gone.
    """
    found = os.statvfs(folder)
    return None if found.f_flag & os.ST_RDONLY else found.f_bavail * found.f_frsize


def room_trouble() -> str:
    """What is wrong with the room for records, and what a person can do, in words; empty while there is enough."""
    folder = records_folder()
    try:
        free = free_bytes(folder)
    except OSError as error:
        return f"The folder of Ordnung's records, {folder}, can't be looked at ({error.strerror})."
    if free is None:
        return f"{folder} can't be written to: Ordnung can't keep what it does and sends nothing until it can."
    if free < MIB:
        return f"No room is left in {folder}: Ordnung can't keep what it does and sends nothing until it can."
    if free < LOW:
        return f"Only {free // MIB} MiB are free in {folder}. Make room: when none is left, runs stand still."
    return ""


def demand_room() -> None:
    """See that a run can be kept from its first step to its last. Raises Problem (no-room)."""
    free = free_bytes(records_folder())
    if free is None or free < LEAST:
        left = f"{free // MIB} MiB are free" if free is not None else "nothing can be written"
        message = (
            f"{left[0].upper()}{left[1:]} in {records_folder()}; a run needs {LEAST // MIB} MiB there for its records. "
            "Make room first; nothing was started."
        )
        raise Problem("no-room", message, status=409)
