"""``ordnung sheet check``: whether a run sheet is approved as it is, wherever it was taken along to."""

from __future__ import annotations

from pathlib import Path

import click

from ordnung.fieldkit.show import print_json
from ordnung.formats.sheet import SheetFile, check_sheet, parse_sheet
from ordnung.formats.text import clean

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group()
def sheet() -> None:
    """Run sheets, as they were exported."""


@sheet.command()
@click.argument("file", type=_FILE)
@click.option("--key", help="The site's public key in hex, as it was given out.")
@click.option("--json", "as_json", is_flag=True)
def check(file: Path, key: str | None, as_json: bool) -> int:
    """Work out the sum of FILE anew and hold each approval to it; 1 unless it is approved as it is."""
    read = parse_sheet(file.read_bytes(), file.name)
    faults = check_sheet(read, key)
    if as_json:
        approvals = [{"by": a.by, "at": a.at.isoformat(), "key": a.key} for a in read.approvals]
        body = {"site": read.site, "number": read.number, "name": read.name, "sha256": read.sha256}
        print_json({**body, "approvals": approvals, "faults": list(faults)})
    else:
        _tell(read, faults, key is not None)
    return 1 if faults else 0


def _tell(read: SheetFile, faults: tuple[str, ...], is_known: bool) -> None:
    writes = sum(w.is_update for server in read.sheet.servers for step in server.rounds for w in step.writes)
    click.echo(clean(f"{read.site}, sheet {read.number}: {read.name}"))
    click.echo(clean(f"{len(read.sheet.servers)} servers, {writes} updates, drafted by {read.drafted_by}"))
    click.echo(f"sum {read.sha256}")
    for fault in faults:
        click.echo(clean(fault))
    if faults:
        return
    for approval in read.approvals:
        since = "" if approval.sheet is None else ", before servers were left out"
        click.echo(clean(f"Approved by {approval.by}, {approval.at:%Y-%m-%d %H:%M} UTC{since}."))
    if not is_known:
        click.echo(
            f"The key is the file's own, {read.approvals[0].key}: compare it with what the site gave out (--key)."
        )
