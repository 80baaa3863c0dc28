"""``ordnung advisory``: who is affected, on files."""

from __future__ import annotations

from pathlib import Path

import click

from ordnung.core.advisories import assess
from ordnung.core.folds import fold_fleet
from ordnung.fieldkit.inputs import load_house
from ordnung.fieldkit.show import as_json, print_json, print_table
from ordnung.formats.compressed import unpack
from ordnung.formats.csaf import parse_advisory

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.command()
@click.argument("file", type=_FILE)
@click.option("--readings", type=_FILE, required=True)
@click.option("--catalog", "catalogs", type=_FILE, multiple=True, required=True)
@click.option("--rules", type=_FILE, help="House rules; without them the fixed ones hold.")
@as_json
def advisory(file: Path, readings: Path, catalogs: tuple[Path, ...], rules: Path | None, as_json: bool) -> int:
    """Which servers run something that the CSAF 2.0 advisory in FILE names, and which release ends it.

    Exit status 1 when any server is affected.
    """
    value = parse_advisory(unpack(file.read_bytes(), file.name), file.name)
    standings, found = load_house(readings, catalogs, rules)
    assessed = assess(value, fold_fleet(standings), found)
    rows = [
        {
            "product": c.product, "version": c.version, "status": c.status, "ends": c.ends, "within_baseline": c.within,
            "components": c.components, "servers": list(c.servers),
        }
        for c in assessed.concerns
    ]  # fmt: skip
    if as_json:
        print_json(
            {"advisory": value.id, "affected": list(assessed.affected), "reason": assessed.reason, "concerns": rows}
        )
    elif assessed.reason:
        click.echo(f"{value.id} does not apply: {assessed.reason}")
    else:
        columns = ("product", "version", "status", "ends", "components", "servers")
        print_table(
            columns,
            [
                [*(r[n] for n in columns[:-1]), ", ".join(c.servers)]
                for r, c in zip(rows, assessed.concerns, strict=True)
            ],
        )
    return 1 if assessed.affected else 0
