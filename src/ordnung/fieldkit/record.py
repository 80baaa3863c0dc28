"""``ordnung record verify``: whether the record of a run is what its site gave out, wherever it was taken along to."""

from __future__ import annotations

from pathlib import Path

import click

from ordnung.core.run_record import summarise
from ordnung.fieldkit.show import print_json
from ordnung.formats.record import RecordFile, check_record, parse_record
from ordnung.formats.text import clean

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group()
def record() -> None:
    """Records of runs, as they were exported."""


@record.command()
@click.argument("file", type=_FILE)
@click.option("--key", help="The site's public key in hex, as it was given out.")
@click.option("--json", "as_json", is_flag=True)
def verify(file: Path, key: str | None, as_json: bool) -> int:
    """Work out the sum of FILE anew and check its signature; 1 unless it is what the site gave out."""
    read = parse_record(file.read_bytes(), file.name)
    faults = check_record(read, key)
    if as_json:
        body = {"site": read.site, "number": read.record.number, "name": read.record.name, "sha256": read.found}
        print_json({**body, "key": read.key, "summary": summarise(read.record), "faults": list(faults)})
    else:
        _tell(read, faults, key is not None)
    return 1 if faults else 0


def _tell(read: RecordFile, faults: tuple[str, ...], is_known: bool) -> None:
    run = read.record
    click.echo(clean(f"{read.site}, run {run.number}: {run.name}"))
    click.echo(clean(f"started by {run.started_by}, {run.started_at:%Y-%m-%d %H:%M} UTC"))
    for line in summarise(run):
        click.echo(clean(line))
    click.echo(f"sum {read.found}")
    for fault in faults:
        click.echo(fault)
    if not faults:
        click.echo("It is what the site gave out.")
        if not is_known:
            click.echo(f"The key is the file's own, {read.key}: compare it with what the site gave out (--key).")
