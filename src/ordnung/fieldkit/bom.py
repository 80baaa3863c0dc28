"""``ordnung bom``: the firmware of servers as a CycloneDX bill of materials, from files."""

from __future__ import annotations

import datetime
from pathlib import Path

import click

from ordnung.fieldkit.inputs import load_house
from ordnung.formats.bom import write_bom

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.command()
@click.option("--readings", type=_FILE, required=True)
@click.option("--catalog", "catalogs", type=_FILE, multiple=True, required=True)
@click.option("-o", "--output", type=click.Path(dir_okay=False, path_type=Path), help="By default standard output.")
def bom(readings: Path, catalogs: tuple[Path, ...], output: Path | None) -> int:
    """The firmware of every server in a readings file, CycloneDX 1.6. Its date is that of the newest reading."""
    standings, _ = load_house(readings, catalogs, None)
    moments = [s.server.read_at for s in standings if s.server.read_at]
    raw = write_bom(standings, max(moments, default=datetime.datetime.fromtimestamp(0, datetime.UTC)))
    if output is None:
        click.echo(raw.decode(), nl=False)
    else:
        output.write_bytes(raw)
    return 0
