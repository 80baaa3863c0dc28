"""A base for discs that boot, as ``boot/build.py`` leaves it, only that nothing in it would start."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path

from ordnung.repository.boot import PARTS

BUILT = [part for part in PARTS if part not in ("base.json", "kit.tar")]


def make_base(place: Path, **changes) -> Path:
    place.mkdir(exist_ok=True)
    for name in BUILT:
        (place / name).write_bytes(name.encode() * 500)
    write_list(place, **changes)
    return place


def write_list(place: Path, **changes) -> None:
    files = {n: {"sha256": hashlib.sha256((place / n).read_bytes()).hexdigest(), "size": len(n) * 500} for n in BUILT}
    body = {"format": "ordnung.boot-base/1", "kernel": "6.1.0", "python": "3.11", "packages": [], "files": files}
    (place / "base.json").write_text(json.dumps(body | changes))
