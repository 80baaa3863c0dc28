"""A house for the field kit: one reading of a live floor, and its makers' catalogs with the mirror's own addresses."""

from __future__ import annotations

import json
from pathlib import Path

from tests.fieldkit.test_commands import run


def read_house(live, folder: Path, mirror: Path) -> None:
    """Put ``readings`` and ``catalogs`` beside a live floor, as commands want them."""
    live.floor.mirror.folder = mirror
    (folder / "floor.json").write_text(json.dumps(live.floor.announcement()))
    live.readings = folder / "readings.json"
    assert run("survey", folder / "floor.json", "-o", live.readings)[0] == 0
    live.catalogs = []
    for path in sorted((mirror / "catalogs").glob("*.json")):
        text = path.read_text().replace("https://mirror.example/", live.floor.mirror_url)
        (folder / path.name).write_text(text)
        live.catalogs += ["--catalog", folder / path.name]
