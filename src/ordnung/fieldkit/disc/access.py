"""What the field kit needs to reach a controller, and where it is kept over resets."""

from __future__ import annotations

import json
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path

FILE = "access.json"


@dataclass(frozen=True, slots=True, kw_only=True)
class Access:
    """The controller and who signs in there; ``name`` and ``group`` are the house's words for this server."""

    url: str
    user: str
    password: str = field(repr=False)
    pin: str
    name: str = ""
    group: str = ""


def read_access(folder: Path) -> Access | None:
    """What was kept before; None where nothing was, or where it can't be read."""
    with suppress(OSError, ValueError, TypeError):
        return Access(**json.loads((folder / FILE).read_bytes()))
    return None


def keep_access(folder: Path, access: Access) -> None:
    """Keep it for after the next reset. Raises OSError."""
    place = folder / FILE
    place.touch(mode=0o600)
    place.write_text(json.dumps(asdict(access)) + "\n")


def forget_access(folder: Path) -> None:
    """Keep it no longer."""
    (folder / FILE).unlink(missing_ok=True)
